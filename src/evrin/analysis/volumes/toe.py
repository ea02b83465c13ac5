"""The toe of a heap, found from one place on it: the ring where the slope breaks to the ground round it.

From the place, rays go out in all directions. At each distance along a ray the break is the mean slope of the stretch
beyond less that of the stretch before, each stretch a fixed share of the distance. The toe is the closed ring, one
place to each ray, whose breaks add up to most while it runs smoothly from ray to ray; it is found by dynamic
programming, first coarsely, then with shorter stretches near what was found. Where some of the toe cannot be seen from
the place in a straight line it is not found so, and has to be drawn.

Reference
---------
Amini, A. A., Weymouth, T. E., Jain, R. C. (1990). Using dynamic programming for solving variational problems in vision.
*IEEE Transactions on Pattern Analysis and Machine Intelligence* 12(9), 855-867. https://doi.org/10.1109/34.57681
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from evrin.base.errors import DataError, GeometryError
from evrin.base.tolerances import HEAP_REACH
from evrin.kernels import Floats
from evrin.surface.surface import Surface

_RAYS, _COARSE, _FINE = 180, 160, 61
_COARSE_SHARE, _FINE_SHARE = 0.2, 0.08
# How much break a step of the ring inwards or outwards costs, and how far it may go from ray to ray.
_TURN_COST, _MOST_STEP = 0.004, 14
_LEAST_BREAK, _NEAREST, _NOISES = 0.08, 0.02, 4.0


def find_toe(surface: Surface, place: Sequence[float], reach: float | None = None) -> Floats:
    """Return the toe of the heap that a place lies on.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    place : (2,) sequence of float
        Easting and northing, well within the heap.
    reach : float, optional
        The toe is looked for no farther from the place than this; half the size of the surface if not
        given, and 60 m at most.

    Returns
    -------
    (180, 3) float64
        A closed ring on the surface, counter-clockwise.

    Raises
    ------
    DataError
        For a place off the surface, or a reach that is not above 0.
    GeometryError
        Where the slope breaks nowhere round the place.

    Examples
    --------
    >>> import numpy as np
    >>> import evrin
    >>> from evrin.analysis import find_toe
    >>> x, y = (axis.ravel() for axis in np.mgrid[-20:20.5:1, -20:20.5:1])
    >>> heap = evrin.triangulate(np.column_stack((x, y, np.maximum(4 - 0.5 * np.hypot(x, y), 0))))
    >>> toe = find_toe(heap, (0.5, 0.0))
    >>> bool(8.0 < np.hypot(*toe[:, :2].T).mean() < 9.0)
    True
    """
    centre = np.asarray(place, np.float64).ravel()[:2]
    if len(centre) != 2 or not np.isfinite(surface.height(*centre)):
        raise DataError(f"the place on the heap, {list(place)}, lies off the surface")
    west, south, east, north = surface.extent
    usual = min(max(east - west, north - south) / 2.0, HEAP_REACH.in_units(surface.units))
    far = usual if reach is None else float(reach)
    if not 0.0 < far <= 1e9:
        raise DataError(f"the reach of a toe must be above 0; it is {far:g}")
    turns = np.linspace(0.0, 2.0 * np.pi, _RAYS, endpoint=False)
    rays = np.column_stack((np.cos(turns), np.sin(turns)))
    distances = np.geomspace(_NEAREST * far, far, _COARSE)
    coarse = np.tile(distances, (_RAYS, 1))
    run = _COARSE_SHARE * coarse
    breaks = _breaks(surface, centre, rays, coarse, run)
    # What heights are wrong by looks like a break where stretches are short: that much is taken off.
    bends = np.abs(breaks[:, : _COARSE // 3]) * run[:, : _COARSE // 3]
    noise = _NOISES * float(np.nanmedian(bends)) if np.isfinite(bends).any() else 0.0
    ring = coarse[np.arange(_RAYS), _best_ring(breaks - noise / run)]
    radius = float(np.nanmean(_breaks(surface, centre, rays, ring[:, None], _COARSE_SHARE * ring[:, None])))
    if not radius >= _LEAST_BREAK:
        raise GeometryError(
            f"no toe was found round {centre[0]:.2f}, {centre[1]:.2f}: the slope breaks by {100.0 * radius:.0f} %. "
            "Give a place nearer to the middle of the heap, a reach, or draw the toe"
        )
    fine = ring[:, None] * np.linspace(0.75, 1.25, _FINE)
    # Within a triangle nothing breaks: a stretch is as long as its sides at least.
    toe = centre + ring[:, None] * rays
    side = float(np.median(surface.side_lengths[surface.triangles_at(*toe.T)]))
    short = np.maximum(_FINE_SHARE * ring, side)[:, None]
    ring = fine[np.arange(_RAYS), _best_ring(_breaks(surface, centre, rays, fine, short))]
    # Just beyond the break, so that what surrounds the heap is ground and no foot of it.
    toe = centre + (ring[:, None] + short / 2.0) * rays
    return np.column_stack((toe, surface.height(*toe.T)))


def _breaks(surface: Surface, centre: Floats, rays: Floats, distances: Floats, run: Floats) -> Floats:
    """How much steeper it climbs beyond each distance (rays, n) than before; NaN where that leaves the surface."""
    at = []
    for distance in (distances - run, distances, distances + run):
        places = centre + distance[..., None] * rays[:, None]
        at.append(surface.height(places[..., 0], places[..., 1]))
    return np.asarray(((at[2] - at[1]) - (at[1] - at[0])) / run)


def _best_ring(breaks: Floats) -> np.ndarray:
    """For each ray the distance, by number, of the closed ring with most break, steps in and out counted against it."""
    gain = np.where(np.isfinite(breaks), breaks, -1.0)
    # Half-way along a path that begins anywhere, it is where the ring is; from there the ring is led round and closed.
    half = len(gain) // 2
    middle = int(_best_path(gain, None)[half])
    return np.roll(_best_path(np.roll(gain, -half, axis=0), middle), half)


def _best_path(gain: Floats, ends: int | None) -> np.ndarray:
    """The distances, by number, with most gain from the first ray to the last; from *ends*, and back near to it."""
    rays, count = gain.shape
    number = np.arange(count)
    total = gain[0].copy() if ends is None else np.where(number == ends, gain[0], -np.inf)
    came = np.zeros(gain.shape, np.int64)
    steps = np.arange(-_MOST_STEP, _MOST_STEP + 1)
    for ray in range(1, rays):
        padded = np.pad(total, _MOST_STEP, constant_values=-np.inf)
        options = np.stack([padded[_MOST_STEP + k : _MOST_STEP + k + count] - _TURN_COST * abs(k) for k in steps])
        best = np.argmax(options, axis=0)
        came[ray] = number + steps[best]
        total = options[best, number] + gain[ray]
    at = int(np.argmax(total if ends is None else np.where(np.abs(number - ends) <= _MOST_STEP, total, -np.inf)))
    path = np.empty(rays, np.int64)
    for ray in range(rays - 1, -1, -1):
        path[ray] = at
        at = int(came[ray, at])
    return path
