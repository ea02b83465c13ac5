"""Datums that step, so that a profile stays on its sheet at any exaggeration."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from evrin.analysis.along.profiles import Profile

_SAMPLES = 1500
_USED = 0.9


@dataclass(frozen=True)
class Stretch:
    """A part of a line, from chainage to chainage, with the height at the lower edge of its drawing."""

    start: float
    end: float
    datum: float


def datum_stretches(profiles: Sequence[Profile], span: float, base: float) -> list[Stretch]:
    """Divide a line into as few stretches as have their ground within the height that a drawing shows.

    Parameters
    ----------
    profiles : sequence of Profile
        Along one line.
    span : float
        Height that the drawing shows.
    base : float
        Datum where one is enough, as it is where all ground lies between it and *span* above it.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 10], [10, 10, 10], [0, 10, 0]])
    >>> [(part.start, part.end, part.datum) for part in datum_stretches([ramp.profile([(0, 5), (10, 5)])], 12, -1)]
    [(0.0, 10.0, -1)]
    >>> [part.datum for part in datum_stretches([ramp.profile([(0, 5), (10, 5)])], 4, 0)]
    [-0.21, 3.39, 6.59]
    """
    start, end = float(profiles[0].bends[0]), float(profiles[0].bends[-1])
    rows = np.concatenate([profile.chainage for profile in profiles])
    chainage = np.unique(np.concatenate((rows, np.linspace(start, end, _SAMPLES))))
    heights = np.array([profile.height(chainage) for profile in profiles])
    has_height = np.isfinite(heights).any(axis=0)
    low = np.where(has_height, np.nanmin(np.where(np.isfinite(heights), heights, np.inf), axis=0), np.nan)
    high = np.where(has_height, np.nanmax(np.where(np.isfinite(heights), heights, -np.inf), axis=0), np.nan)
    if not has_height.any() or (np.nanmin(low) >= base and np.nanmax(high) <= base + span):
        return [Stretch(start, end, base)]
    stretches: list[Stretch] = []
    begun, least, most = start, np.inf, -np.inf
    previous, ends = start, (np.inf, -np.inf)
    for at, below, above in zip(chainage.tolist(), low.tolist(), high.tolist(), strict=True):
        if np.isnan(below):
            previous = at
            continue
        # Ground that fits no sheet, as the face of a wall, is cut off at the edge.
        if max(most, above) - min(least, below) > _USED * span and previous > begun:
            stretches.append(Stretch(begun, previous, _datum(least, most, span)))
            begun, (least, most) = previous, ends
        least, most, previous, ends = min(least, below), max(most, above), at, (below, above)
    return [*stretches, Stretch(begun, end, _datum(least, most, span))]


def _datum(least: float, most: float, span: float) -> float:
    """A round height that puts the ground of a stretch in the middle of its drawing."""
    step = 10.0 ** np.floor(np.log10(span / 50.0))
    return float(np.round(np.floor((least + most - span) / 2.0 / step) * step, 9))
