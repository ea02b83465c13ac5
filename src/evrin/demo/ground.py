"""The true ground of Ostrel Weir, in metres on a local grid.

A river runs along the south, over a weir. A mill leat leaves it above the weir and runs north-east between banks; a
track crosses the leat over a culvert. Around are fields, a pond, a barn and a heap of dredged silt.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.interpolate import CubicSpline
from scipy.spatial import cKDTree

Floats = NDArray[np.float64]

WEST, SOUTH, EAST, NORTH = 4020.0, 2800.0, 4220.0, 2920.0
WEIR_EAST, WEIR_FOOT_EAST, RIVER_NORTH, BANK_NORTH = 4088.0, 4089.5, 2814.0, 2819.0
RIVER_ABOVE, RIVER_BELOW = 41.12, 39.88
LEAT = np.array([[4066, 2820], [4082, 2838], [4108, 2854], [4146, 2864], [4188, 2862], [4222, 2854]], float)
TRACK = np.array([[4136, 2922], [4131, 2896], [4125, 2872], [4117, 2848], [4106, 2828], [4096, 2820]], float)
LEAT_TOE, LEAT_TOP, LEAT_BERM, LEAT_OUTER = 1.5, 4.0, 5.5, 10.0
TRACK_EDGE, TRACK_VERGE = 2.0, 4.0
POND, POND_RADII, POND_LEVEL, POND_DEPTH = np.array([4186.0, 2894.0]), np.array([14.0, 9.0]), 43.2, 1.2
HEAP_RIDGE, HEAP_HEIGHT, HEAP_SLOPE = np.array([[4088.0, 2893.0], [4104.0, 2899.0]]), 3.0, 0.65
BARN = np.array([[4046, 2880], [4064, 2884], [4062, 2893], [4044, 2889]], float)


@cache
def centre_line(name: str) -> Floats:
    """Return the leat's or the track's centre as closely spaced places (k, 2)."""
    nodes = {"leat": LEAT, "track": TRACK}[name]
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(nodes, axis=0).T))))
    return np.asarray(CubicSpline(along, nodes)(np.linspace(0.0, along[-1], 120)))


def chainage_and_offset(line: Floats, x: Floats, y: Floats) -> tuple[Floats, Floats]:
    """Return the chainage of each place's foot on a line, and its offset, positive to the left."""
    steps = np.diff(line, axis=0)
    lengths = np.hypot(steps[:, 0], steps[:, 1])
    starts = np.concatenate(([0.0], np.cumsum(lengths)))
    away_x, away_y = x[:, None] - line[None, :-1, 0], y[:, None] - line[None, :-1, 1]
    along = np.clip((away_x * steps[:, 0] + away_y * steps[:, 1]) / lengths**2, 0.0, 1.0)
    square = (away_x - along * steps[:, 0]) ** 2 + (away_y - along * steps[:, 1]) ** 2
    best = np.argmin(square, axis=1)
    row = np.arange(len(x))
    side = np.sign(steps[best, 0] * away_y[row, best] - steps[best, 1] * away_x[row, best])
    return starts[best] + along[row, best] * lengths[best], side * np.sqrt(square[row, best])


def field(x: Floats, y: Floats) -> Floats:
    """Return the height of the fields, smooth, falling towards the river."""
    swell = 0.35 * np.sin((x - 4040.0) / 23.0) * np.cos((y - 2850.0) / 17.0)
    return 42.4 + 0.018 * (y - 2820.0) - 0.004 * (x - 4100.0) + swell


def leat_bed(chainage: Floats) -> Floats:
    """Return the leat's bed level, falling by 1 in 400."""
    return 41.3 - chainage / 400.0


def leat_bank(chainage: Floats) -> Floats:
    """Return the level of the leat's bank tops."""
    return leat_bed(chainage) + 2.3


def track_level(chainage: Floats) -> Floats:
    """Return the level of the track, which drops evenly from the north to the river."""
    return 44.5 - chainage * 0.0135


def _blend(inner: Floats, outer: Floats, distance: Floats, start: float, stop: float) -> Floats:
    part = np.clip((distance - start) / (stop - start), 0.0, 1.0)
    return inner + part * (outer - inner)


def true_height(x: ArrayLike, y: ArrayLike) -> Floats:
    """Return the true height at places anywhere on the site.

    Parameters
    ----------
    x, y : array_like
        Easting and northing, metres.

    Returns
    -------
    ndarray

    Examples
    --------
    >>> float(true_height(4070.0, 2805.0))
    41.12
    """
    east, north = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
    shape = east.shape
    east, north = east.ravel(), north.ravel()
    z = field(east, north)
    z = _with_pond(z, east, north)
    z = _with_heap(z, east, north)
    z = _with_leat(z, east, north)
    z = _with_river(z, east, north)
    return _with_track(z, east, north).reshape(shape)


def _with_pond(z: Floats, x: Floats, y: Floats) -> Floats:
    radius = np.hypot((x - POND[0]) / POND_RADII[0], (y - POND[1]) / POND_RADII[1])
    water = POND_LEVEL - POND_DEPTH * (1.0 - np.minimum(radius, 1.0) ** 2)
    return _blend(water, z, radius, 1.0, 1.7)


def heap_distance(x: Floats, y: Floats) -> Floats:
    """Return the distance of places from the ridge of the heap."""
    start, end = HEAP_RIDGE
    ridge = end - start
    part = np.clip(((x - start[0]) * ridge[0] + (y - start[1]) * ridge[1]) / (ridge @ ridge), 0.0, 1.0)
    distance: Floats = np.hypot(x - start[0] - part * ridge[0], y - start[1] - part * ridge[1])
    return distance


def heap_height(x: Floats, y: Floats, height: float = HEAP_HEIGHT, slope: float = HEAP_SLOPE) -> Floats:
    """Return the height of the heap above the fields, that of the survey or one of another height and slope."""
    return np.maximum(height - slope * heap_distance(x, y), 0.0)


def _with_heap(z: Floats, x: Floats, y: Floats) -> Floats:
    return z + heap_height(x, y)


def _beside(name: str, z: Floats, x: Floats, y: Floats, reach: float, shape: Callable[..., Floats]) -> Floats:
    """Reshape the ground within reach of a line and leave the rest."""
    line = centre_line(name)
    near = np.isfinite(cKDTree(line).query(np.column_stack((x, y)), distance_upper_bound=reach + 3.0)[0])
    out = z.copy()
    out[near] = shape(z[near], x[near], y[near], *chainage_and_offset(line, x[near], y[near]))
    return out


def _with_leat(z: Floats, x: Floats, y: Floats) -> Floats:
    return _beside("leat", z, x, y, LEAT_OUTER, _leat_shape)


def _leat_shape(z: Floats, x: Floats, y: Floats, chainage: Floats, offset: Floats) -> Floats:
    distance = np.abs(offset)
    bed, bank = leat_bed(chainage), leat_bank(chainage)
    inside = _blend(bed, bank, distance, LEAT_TOE, LEAT_TOP)
    return np.where(distance < LEAT_BERM, inside, _blend(bank, z, distance, LEAT_BERM, LEAT_OUTER))


def _with_river(z: Floats, x: Floats, y: Floats) -> Floats:
    part = np.clip((x - WEIR_EAST) / (WEIR_FOOT_EAST - WEIR_EAST), 0.0, 1.0)
    bed = RIVER_ABOVE + part * (RIVER_BELOW - RIVER_ABOVE)
    return _blend(bed, z, y, RIVER_NORTH, BANK_NORTH)


def _with_track(z: Floats, x: Floats, y: Floats) -> Floats:
    return _beside("track", z, x, y, TRACK_VERGE, _track_shape)


def _track_shape(z: Floats, x: Floats, y: Floats, chainage: Floats, offset: Floats) -> Floats:
    level = track_level(chainage)
    on_track = _blend(level, z, np.abs(offset), TRACK_EDGE, TRACK_VERGE)
    return np.where(y > BANK_NORTH + 1.0, on_track, z)
