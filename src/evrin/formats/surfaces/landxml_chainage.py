"""What a LandXML alignment states of its chainage."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from lxml import etree

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.survey.contents import FIRST_CHAINAGE, OWN_LENGTH, STATION_EQUATIONS


def stated_chainage(element: etree._Element, factor: float) -> dict[str, float]:
    """Return the first chainage of an alignment, times a factor, and how often its chainage jumps, where it does.

    Parameters
    ----------
    element : lxml element
        An ``Alignment``; of a plan feature nothing is returned.
    factor : float
        By which lengths of the file are multiplied.

    Raises
    ------
    DataError
        For a first chainage that is no number.
    """
    stated: dict[str, float] = {}
    text = element.get("staStart")
    if text:
        try:
            first = float(text) * factor
        except ValueError:
            first = np.nan
        if not np.isfinite(first):
            raise DataError(f"line {element.sourceline}: staStart of {element.get('name')} is no number: {text!r}")
        stated[FIRST_CHAINAGE] = first
    inside = [etree.QName(inner).localname for inner in element if isinstance(inner.tag, str)]
    if "StaEquation" in inside:
        stated[STATION_EQUATIONS] = inside.count("StaEquation")
    return stated


def with_own_length(stated: Mapping[str, float], points: Floats) -> dict[str, str | float]:
    """Return what is stated with the length of the line, by which a chainage is carried over with it."""
    more = {OWN_LENGTH: float(np.hypot(*np.diff(points[:, :2], axis=0).T).sum())} if FIRST_CHAINAGE in stated else {}
    return {**stated, **more}
