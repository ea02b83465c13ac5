"""Whether an area held at one level fits what was measured around it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from evrin.base.tolerances import BANK_REACH, BUST_LEAST, SHORE_CLIMB
from evrin.kernels import Floats, Indices

_FEWEST = 3
# A bank steeper than 2 in 1 all round is none.
_STEEPEST = 2.0
_NEAR = 0.05


@dataclass(frozen=True)
class ShoreDoubt:
    """What does not fit: ``above`` or ``below`` its banks, or a shore that ``climbs``; by how much, and where."""

    kind: str
    by: float
    place: tuple[float, float]


def shore_doubts(shore: Floats, level: float, banks: Floats, units: str) -> list[ShoreDoubt]:
    """Return in what an area held at one level does not fit what was measured around it.

    It is above its banks where more than half of the nearest shots round the shore lie below it, half a metre or more
    in the middle; below them where more than half are so much higher that the bank would be steeper than 2 in 1. A
    shore climbs where its own heights, or those of shots on it, differ by a quarter of a metre or more.

    Parameters
    ----------
    shore : (k, 3) float64
        Its ring; heights as measured, NaN where there are none.
    level : float
        Of the water.
    banks : (n, 3) float64
        Shots and vertices of lines that are not inside.
    units : str
        Unit of lengths.

    Returns
    -------
    list of ShoreDoubt
    """
    out = []
    measured = shore[np.isfinite(shore[:, 2])]
    if len(measured) and not np.ptp(measured[:, 2]):
        # One height all round is what the ring was drawn at.
        measured = measured[:0]
    reach = BANK_REACH.in_units(units)
    low, high = shore[:, :2].min(axis=0) - reach, shore[:, :2].max(axis=0) + reach
    around = (banks[:, :2] >= low).all(axis=1) & (banks[:, :2] <= high).all(axis=1)
    bank_places = banks[around & np.isfinite(banks[:, 2])]
    distance, near = _nearest(shore, bank_places, reach)
    touching = bank_places[np.unique(near[distance <= _NEAR])] if len(near) else bank_places[:0]
    measured = np.vstack((measured, touching))
    if len(measured) >= _FEWEST:
        low, high = np.quantile(measured[:, 2], (0.05, 0.95))
        if high - low >= SHORE_CLIMB.in_units(units):
            x, y = measured[np.argmax(np.abs(measured[:, 2] - level)), :2].tolist()
            out.append(ShoreDoubt("climbs", float(high - low), (x, y)))
    if len(near) < _FEWEST:
        return out
    rise = bank_places[near, 2] - level
    least = BUST_LEAST.in_units(units)
    if np.median(rise) < -least:
        x, y = bank_places[near[np.argmin(rise)], :2].tolist()
        out.append(ShoreDoubt("above", float(-np.median(rise)), (x, y)))
    elif np.median(rise - _STEEPEST * distance) > least:
        x, y = bank_places[near[np.argmax(rise)], :2].tolist()
        out.append(ShoreDoubt("below", float(np.median(rise)), (x, y)))
    return out


def _nearest(shore: Floats, banks: Floats, reach: float) -> tuple[Floats, Indices]:
    """How far the nearest shot is from each vertex of a shore, and which; those within reach only."""
    if not len(banks):
        return np.empty(0), np.empty(0, np.int64)
    nearest = scipy.spatial.cKDTree(banks[:, :2]).query(shore[:, :2], distance_upper_bound=reach)
    distance, near = np.asarray(nearest[0]), np.asarray(nearest[1])
    is_there = np.isfinite(distance)
    return distance[is_there], near[is_there]
