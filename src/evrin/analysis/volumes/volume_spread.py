"""How far heights leave a volume uncertain: by single shots, and by what all of them share.

A volume is a sum of heights times weights, so its variance follows from theirs.

References
----------
JCGM 100:2008, Evaluation of measurement data - Guide to the expression of uncertainty in measurement, 5.1 (quantities
that are independent) and 5.2 (quantities that share an error).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.base.tolerances import SHARED_SPREAD, SHOT_SPREAD
from evrin.kernels import Floats
from evrin.surface.surface import Surface

_AT_95 = 1.959964


class Spread(NamedTuple):
    """Standard deviations of a volume.

    Attributes
    ----------
    shots : float
        By heights that are each wrong by themselves.
    shared : float
        By an error that all heights of a surface share.

    Examples
    --------
    >>> from evrin.analysis import Spread
    >>> round(Spread(3.0, 4.0).within_95, 2)
    9.8
    """

    shots: float
    shared: float

    @property
    def within_95(self) -> float:
        """Half the width of what holds the truth with a probability of 95 percent: both together, 1.96 times."""
        return _AT_95 * float(np.hypot(self.shots, self.shared))


class Spreads(NamedTuple):
    """Standard deviations of heights.

    Attributes
    ----------
    base, top : (n,) float64
        By vertex.
    shared : float
        Of the difference of the two.
    """

    base: Floats
    top: Floats
    shared: float


def variance(weights: Floats, spread: Floats) -> float:
    """Return the variance of a sum of heights by their weights and standard deviations."""
    return float(((weights * spread) ** 2).sum())


def spreads_of(
    base: Surface,
    top: Surface,
    base_spread: float | Mapping[str, float] | None,
    spread: float | Mapping[str, float] | None,
    shared: float | None,
    *,
    is_plane: bool,
) -> Spreads:
    """Return the standard deviation of each vertex of two surfaces, and of what the heights of each share.

    Raises
    ------
    DataError
        For one that is negative or not finite, or of a source that the surface has not.
    """
    usual = SHOT_SPREAD.in_units(top.units)
    alike = SHARED_SPREAD.in_units(top.units) if shared is None else _checked(shared, "shared")
    of_top = _by_vertex(top, spread, usual)
    if is_plane:
        return Spreads(np.zeros(len(base.vertices)), of_top, alike)
    # The two share nothing with one another, so what each shares within itself adds up as squares.
    return Spreads(_by_vertex(base, base_spread, usual), of_top, alike * float(np.sqrt(2.0)))


def _checked(value: float, what: str) -> float:
    if not 0.0 <= value <= 1e6:
        raise DataError(f"a standard deviation ({what}) lies between 0 and 1e6; it is {value:g}")
    return float(value)


def _by_vertex(surface: Surface, given: float | Mapping[str, float] | None, usual: float) -> Floats:
    if given is None or not isinstance(given, Mapping):
        value = usual if given is None else _checked(given, surface.name)
        return np.full(len(surface.vertices), value)
    origin = surface.provenance
    files = () if origin is None else origin.shots.files
    missing = [name for name in given if name not in files]
    if missing or origin is None:
        names = ", ".join(files) or "none"
        raise DataError(f"{surface.name} has no shots of {', '.join(missing)}; its files: {names}")
    by_file = np.array([_checked(given.get(name, usual), name) for name in files] + [usual])
    row = origin.shot_of
    return by_file[np.where(row >= 0, origin.shots.file_of[row], len(files))]
