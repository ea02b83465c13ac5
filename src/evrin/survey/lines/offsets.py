"""Lines moved to the side: the top of a wall away from its foot, a bed in from its shore."""

from __future__ import annotations

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.limits.cleaned_rings import self_crossing
from evrin.tin.query.inside_rings import is_inside_rings

_SHARPEST = 4.0

_AT_ONCE = 1_000_000


def moved_left(places: Floats, distance: float, *, closed: bool = False) -> Floats:
    """Return a line moved to its left, or by a negative distance to its right.

    Parameters
    ----------
    places : (k, 2) or (k, 3) float64
        Consecutive vertices at one place move together.
    distance : float
        Bends are mitred, by no more than four times this.
    closed : bool
        Whether the line ends where it begins.

    Returns
    -------
    (k, 2) float64

    Raises
    ------
    DataError
        For a line without length.

    Examples
    --------
    >>> moved_left(np.array([[0.0, 0.0], [4.0, 0.0], [4.0, 4.0]]), 1.0).tolist()
    [[0.0, 1.0], [3.0, 1.0], [3.0, 4.0]]
    """
    xy = places[:, :2]
    after = np.roll(xy, -1, axis=0) - xy
    if not closed:
        after[-1] = 0.0
    length = np.hypot(after[:, 0], after[:, 1])
    if not (length > 0.0).any():
        raise DataError(f"a line without length at ({xy[0, 0]:.3f}, {xy[0, 1]:.3f}) has no sides to be moved to")
    leaving = _filled(np.arange(len(xy)), length > 0.0, closed, backwards=False)
    arriving = _filled(np.roll(np.arange(len(xy)), 1), np.roll(length > 0.0, 1), closed, backwards=True)
    normal = np.column_stack((-after[:, 1], after[:, 0])) / np.where(length > 0.0, length, 1.0)[:, None]
    one, other = normal[arriving], normal[leaving]
    middle = one + other
    square = np.maximum((middle**2).sum(axis=1), 4.0 / _SHARPEST**2)
    out: Floats = xy + distance * middle * (2.0 / square)[:, None]
    return out


def _filled(leg: np.ndarray, has_length: np.ndarray, closed: bool, *, backwards: bool) -> np.ndarray:
    """At each vertex the nearest leg with a length, looking onwards or back; at the ends of a line the other way."""
    n = len(leg)
    out = np.empty(n, np.int64)
    order = range(n) if backwards else range(n - 1, -1, -1)
    last = -1
    for _ in range(2 if closed else 1):
        for k in order:
            usable = has_length[k] and (closed or not (backwards and k == 0))
            last = int(leg[k]) if usable else last
            out[k] = last
    missing = out < 0
    if missing.any():
        given_offsets = out[~missing]
        out[missing] = given_offsets[0] if backwards else given_offsets[-1]
    return out


def drawn_in(ring: Floats, distance: float) -> Floats:
    """Return a ring drawn in on all sides, or out by a negative distance.

    Raises
    ------
    DataError
        Where there is no room for that.
    """
    turn = _twice_area(ring)
    inner = moved_left(ring, distance if turn > 0.0 else -distance, closed=True)
    stays = is_inside_rings(np.ascontiguousarray(inner), [ring]) == (distance > 0.0)
    has_room = stays.all() and _twice_area(inner) * turn > 0.0 and _least_distance(inner, ring) > 0.999 * abs(distance)
    if not has_room or self_crossing(inner) is not None:
        raise DataError(
            f"the ring round ({ring[0, 0]:.3f}, {ring[0, 1]:.3f}) has no room to be drawn in by {abs(distance):g}; "
            "give less"
        )
    return inner


def _least_distance(places: Floats, ring: Floats) -> float:
    """How near any place comes to a ring."""
    start = ring[:, :2]
    leg = np.roll(start, -1, axis=0) - start
    least = np.inf
    # Some places at a time: all of them against all legs would take gigabytes.
    for first in range(0, len(places), max(_AT_ONCE // len(ring), 1)):
        offsets = places[first : first + max(_AT_ONCE // len(ring), 1), None] - start[None]
        part = (offsets * leg).sum(axis=2) / np.maximum((leg**2).sum(axis=1), 1e-300)
        off = offsets - np.clip(part, 0.0, 1.0)[..., None] * leg
        least = min(least, float(np.hypot(off[..., 0], off[..., 1]).min()))
    return least


def _twice_area(ring: Floats) -> float:
    x, y = (ring[:, :2] - ring[0, :2]).T
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())
