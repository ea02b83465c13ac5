"""Which places lie inside closed rings, counting nested rings even-odd."""

import numpy as np
from numpy.typing import NDArray

from evrin.kernels import Flags, FloatRows, Floats, Indices, Mutable, inner, kernel
from evrin.kernels.threads import side_by_side
from evrin.tin.exact.predicates import side_of


@inner
def _strip_of(y: float, low: float, scale: float, strips: int) -> int:
    return min(max(int((y - low) * scale), 0), strips - 1)


@inner
def _sides_by_strip(sides: FloatRows, low: float, scale: float, strips: int) -> tuple[Indices, Indices]:
    spans = np.empty((sides.shape[0], 2), np.int64)
    starts = np.zeros(strips + 1, np.int64)
    for k in range(sides.shape[0]):
        spans[k, 0] = _strip_of(min(sides[k, 1], sides[k, 3]), low, scale, strips)
        spans[k, 1] = _strip_of(max(sides[k, 1], sides[k, 3]), low, scale, strips)
        for strip in range(spans[k, 0], spans[k, 1] + 1):
            starts[strip + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    members = np.empty(starts[-1], np.int64)
    for k in range(sides.shape[0]):
        for strip in range(spans[k, 0], spans[k, 1] + 1):
            members[cursor[strip]] = k
            cursor[strip] += 1
    return starts, members


@kernel
def _is_inside(
    places: FloatRows, sides: FloatRows, low: float, scale: float, strips: int, inside: Mutable[Flags]
) -> None:
    starts, members = _sides_by_strip(sides, low, scale, strips)
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        strip = _strip_of(y, low, scale, strips)
        crossings = 0
        for m in range(starts[strip], starts[strip + 1]):
            x0, y0, x1, y1 = sides[members[m], 0], sides[members[m], 1], sides[members[m], 2], sides[members[m], 3]
            if (y0 <= y) != (y1 <= y):
                side = side_of(x0, y0, x1, y1, x, y)
                if (side > 0.0) == (y1 > y0) and side != 0.0:
                    crossings += 1
        inside[i] = crossings % 2 == 1


def ring_sides(rings: list[Floats]) -> Floats:
    """Return the sides of closed rings as rows of easting, northing, easting, northing."""
    rows = [np.hstack((ring[:, :2], np.roll(ring[:, :2], -1, axis=0))) for ring in rings]
    return np.concatenate(rows) if rows else np.empty((0, 4))


def is_inside_rings(places: Floats, rings: list[Floats]) -> NDArray[np.bool_]:
    """Return which places lie inside an odd number of rings.

    Parameters
    ----------
    places : (n, 2) float64
    rings : list of (k, 2) or (k, 3) float64
        Closed rings; the first vertex need not be repeated. The side on which a place exactly on a ring falls is
        fixed but not specified.

    Returns
    -------
    (n,) bool
    """
    sides = ring_sides(rings)
    inside = np.zeros(len(places), np.bool_)
    if len(sides) == 0:
        return inside
    low, high = sides[:, 1::2].min(), sides[:, 1::2].max()
    strips = max(1, min(len(sides), 65536))
    scale = strips / (high - low) if high > low else 0.0
    xy = np.ascontiguousarray(places[:, :2])
    side_by_side(lambda first, stop: _is_inside(xy[first:stop], sides, low, scale, strips, inside[first:stop]), len(xy))
    return inside
