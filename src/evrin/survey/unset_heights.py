"""Heights that were never set: at zero, at a no-data value, or at one repeated value far from all the rest."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from evrin.base.tolerances import METRES, REPEATED_GAP, ZERO_BAND
from evrin.kernels import Flags, Floats, Indices

Kind = Literal["zero", "no-data", "repeated"]
_LISTED = np.array([999.0, 9999.0, 32767.0, 32768.0, 65535.0, 99999.0, 999999.0, 9999999.0])
_EQUAL = 1e-4
# No ground on Earth is as high or as deep, in any unit of length that is surveyed in.
_NOWHERE = 1e5
_FEWEST_REPEATED, _FEWEST_REST, _FEWEST_LEVELS, _MOST_TRIED = 2, 3, 5, 64
_GAPS = 5.0


@dataclass(frozen=True, eq=False)
class UnsetHeights:
    """Heights that were never set, of one kind.

    Attributes
    ----------
    kind : {"zero", "no-data", "repeated"}
        What the heights have in common.
    height : float
        The value; of several within a band the one that occurs most.
    rows : (k,) int64
        The points that have them.
    """

    kind: Kind
    height: float
    rows: Indices


def find_unset_heights(z: Floats, units: str = "m", levels: Floats | None = None) -> list[UnsetHeights]:
    """Return heights that were never set, whatever their share.

    A group is reported where the gap between it and the rest is larger than the spread of the rest (its middle eight
    tenths), or than five times the largest gap within the rest: a height of zero on a site beside the sea is not.

    Parameters
    ----------
    z : (n,) float64
        NaN where there is none; in *units*.
    units : str
        Unit of heights.
    levels : (k,) float64, optional
        Levels of contours and of flat ground, at which many heights are equal for a reason.

    Returns
    -------
    list of UnsetHeights

    Examples
    --------
    >>> heights = np.array([41.2, 0.0, 42.0, 43.1, 41.9, -9999.0, np.nan, 0.0])
    >>> [(each.kind, each.height, each.rows.tolist()) for each in find_unset_heights(heights)]
    [('no-data', -9999.0, [5]), ('zero', 0.0, [1, 7])]
    """
    left = np.isfinite(z)
    unset: list[UnsetHeights] = []
    band, far = ZERO_BAND.in_units(units), REPEATED_GAP.in_units(units)

    def settle(kind: Kind, is_one: Flags, least: float) -> None:
        rows = np.flatnonzero(is_one & left)
        if len(rows) and _is_apart(z[rows], z[left & ~is_one], least, far):
            unset.append(UnsetHeights(kind, _most_frequent(z[rows]), rows))
            left[rows] = False

    settle("no-data", is_no_data(z), 2.0 * band)
    settle("zero", np.abs(z) <= band, 2.0 * band)
    drawn = np.empty(0) if levels is None else levels
    for value in _repeated_values(z[left & ~np.isin(z, drawn)], far):
        if len(np.unique(z[left & (z != value)])) >= _FEWEST_LEVELS:
            settle("repeated", z == value, far)
    return unset


def levels_of(lines: Iterable[Floats]) -> Floats:
    """Return the heights of the lines (k, 3) that are level and more than a stretch between two places."""
    return np.unique([line[0, 2] for line in lines if len(line) > 2 and np.ptp(line[:, 2]) == 0.0])


def is_unset(z: Floats, units: str = "m") -> Flags:
    """Return which heights were never set, of any kind; see `find_unset_heights`."""
    out = np.zeros(len(z), np.bool_)
    for each in find_unset_heights(z, units):
        out[each.rows] = True
    return out


def is_no_data(z: Floats) -> Flags:
    """Return which heights are values that programs write where there is none, in any unit.

    Examples
    --------
    >>> is_no_data(np.array([-9999.0, -3047.6952, 41.2, 1e38, -32768.0])).tolist()
    [True, True, False, True, True]
    """
    size = np.abs(z)
    out: Flags = size >= _NOWHERE
    high = np.flatnonzero((size > 100.0) & ~out)
    for factor in (1.0, *(metres for unit, metres in METRES.items() if unit != "m"), 1.0 / METRES["ft"]):
        value = size[high] / factor
        listed = _LISTED[np.minimum(np.searchsorted(_LISTED, value - _EQUAL), len(_LISTED) - 1)]
        out[high] |= np.abs(value - listed) <= _EQUAL
    return out


def _is_apart(group: Floats, rest: Floats, least: float, far: float) -> bool:
    """Whether a group of heights is far above or below the rest."""
    if len(rest) < _FEWEST_REST:
        return False
    low, high = np.quantile(rest, [0.1, 0.9])
    gap = max(float(low - group.max()), float(group.min() - high))
    if gap > max(float(high - low), least):
        return True
    inside = np.sort(rest)
    nearest = max(float(inside[0] - group.max()), float(group.min() - inside[-1]))
    widest = float(np.diff(inside).max())
    return len(rest) > 2 * _FEWEST_LEVELS and nearest > max(_GAPS * widest, far)


def _most_frequent(values: Floats) -> float:
    each, counts = np.unique(values, return_counts=True)
    return float(each[np.argmax(counts)])


def _repeated_values(z: Floats, far: float) -> list[float]:
    """Heights that occur several times and have few others beside them, those farthest from the middle first.

    What others are beside is measured: heights of a roof are rounded, and some are equal.
    """
    if not len(z):
        return []
    each, counts = np.unique(z, return_counts=True)
    often = np.flatnonzero(counts >= _FEWEST_REPEATED)
    before = np.append(0, np.cumsum(counts))
    low, high = np.searchsorted(each, each[often] - far, side="right"), np.searchsorted(each, each[often] + far)
    beside = before[high] - before[low] - counts[often]
    alone = often[2 * beside <= counts[often]]
    gaps = np.abs(each[alone] - np.median(each))
    return [float(value) for value in each[alone][np.argsort(-gaps, kind="stable")][:_MOST_TRIED]]
