"""One canonical order of places: along a Hilbert curve, whatever order they came in.

Reference for the curve: Skilling, J. (2004). Programming the Hilbert curve. *AIP Conf. Proc.* 707, 381-387.
https://doi.org/10.1063/1.1751381
"""

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, Mutable, kernel
from evrin.tin.exact.predicates import precedes

_CURVE_BITS = 20
_INDEX_BITS = 24
_CHUNK_BITS = 4
_CROWDED = 32


def _curve_table() -> tuple[Indices, Indices]:
    """Digits along the curve and the next state, by state and the next bits of easting and northing."""
    width = 1 << _CHUNK_BITS
    digits = np.zeros((4, width * width), np.int64)
    states = np.zeros((4, width * width), np.int64)
    for state in range(4):
        for chunk in range(width * width):
            swapped, flipped = state & 1, state >> 1
            key = 0
            for bit in reversed(range(_CHUNK_BITS)):
                pair = (chunk >> _CHUNK_BITS >> bit & 1 ^ flipped, chunk >> bit & 1 ^ flipped)
                right, upper = pair[::-1] if swapped else pair
                key = key << 2 | (3 * right ^ upper)
                swapped ^= 1 - upper
                flipped ^= right & (1 - upper)
            digits[state, chunk] = key
            states[state, chunk] = swapped | flipped << 1
    return digits, states


_DIGITS, _STATES = _curve_table()


@kernel
def _curve_keys(xy: FloatRows, low_x: float, low_y: float, scale: float, keys: Mutable[Indices]) -> None:
    top = (np.int64(1) << _CURVE_BITS) - 1
    mask = (np.int64(1) << _CHUNK_BITS) - 1
    for i in range(xy.shape[0]):
        x = min(np.int64((xy[i, 0] - low_x) * scale), top)
        y = min(np.int64((xy[i, 1] - low_y) * scale), top)
        key = np.int64(0)
        state = np.int64(0)
        for shift in range(_CURVE_BITS - _CHUNK_BITS, -1, -_CHUNK_BITS):
            chunk = ((x >> shift) & mask) << _CHUNK_BITS | ((y >> shift) & mask)
            key = key << (2 * _CHUNK_BITS) | _DIGITS[state, chunk]
            state = _STATES[state, chunk]
        keys[i] = key


@kernel
def _sort_ties(xy: FloatRows, sorted_keys: Indices, order: Mutable[Indices]) -> bool:
    """Order places of one key west to east, then south to north; False where a key is too crowded for this."""
    n = order.shape[0]
    start = 0
    while start < n:
        stop = start + 1
        while stop < n and sorted_keys[stop] == sorted_keys[start]:
            stop += 1
        if stop - start > _CROWDED:
            return False
        for i in range(start + 1, stop):
            moving = order[i]
            j = i
            while j > start and precedes(xy[moving, 0], xy[moving, 1], xy[order[j - 1], 0], xy[order[j - 1], 1]):
                order[j] = order[j - 1]
                j -= 1
            order[j] = moving
        start = stop
    return True


@kernel
def _group_places(xy: FloatRows, sorted_keys: Indices, order: Indices, starts: Mutable[Indices]) -> int:
    """Write where each distinct place starts in *order*, and the end; return how many places there are."""
    count = 0
    for k in range(order.shape[0]):
        # Places of unlike keys are not looked at: they are anywhere in memory.
        is_new = k == 0 or sorted_keys[k] != sorted_keys[k - 1]
        if not is_new:
            i, j = order[k - 1], order[k]
            is_new = xy[i, 0] != xy[j, 0] or xy[i, 1] != xy[j, 1]
        if is_new:
            starts[count] = k
            count += 1
    starts[count] = order.shape[0]
    return count


@kernel
def _extent(xy: FloatRows) -> tuple[float, float, float]:
    """West, south, and the longer side of the extent."""
    west = east = xy[0, 0]
    south = north = xy[0, 1]
    for i in range(1, xy.shape[0]):
        west, east = min(west, xy[i, 0]), max(east, xy[i, 0])
        south, north = min(south, xy[i, 1]), max(north, xy[i, 1])
    return west, south, max(east - west, north - south)


def canonical_order(xy: Floats) -> Indices:
    """Return the row numbers of *xy* along a Hilbert curve over their extent.

    Parameters
    ----------
    xy : (n, 2) float64
        Finite places.

    Returns
    -------
    (n,) int64
        Depends on the set of places only; rows at one place are next to each other.
    """
    return _order_and_keys(xy)[0]


def _order_and_keys(xy: Floats) -> tuple[Indices, Indices]:
    """The canonical order, and in it the key of each place along the curve."""
    xy = np.asarray(xy, np.float64)
    west, south, extent = _extent(xy)
    scale = (2.0**_CURVE_BITS - 1.0) / extent if extent > 0.0 else 0.0
    keys = np.empty(len(xy), np.int64)
    _curve_keys(xy, west, south, scale, keys)
    order, sorted_keys = _sorted(keys)
    if not _sort_ties(xy, sorted_keys, order):
        order = np.lexsort((xy[:, 1], xy[:, 0], keys))
    return order, sorted_keys


def _sorted(keys: Indices) -> tuple[Indices, Indices]:
    """The order that sorts keys, and the keys in it."""
    if len(keys) >= 1 << _INDEX_BITS:
        order = np.argsort(keys)
        return order, keys[order]
    packed = keys.view(np.uint64) << np.uint64(_INDEX_BITS) | np.arange(len(keys), dtype=np.uint64)
    packed.sort()
    order = (packed & np.uint64((1 << _INDEX_BITS) - 1)).view(np.int64)
    return order, (packed >> np.uint64(_INDEX_BITS)).view(np.int64)


def distinct_places(xy: Floats) -> tuple[Indices, Indices]:
    """Group rows that share one place exactly.

    Parameters
    ----------
    xy : (n, 2) float64
        Finite places.

    Returns
    -------
    order : (n,) int64
        Row numbers in canonical order.
    starts : (p + 1,) int64
        Place *k* holds rows ``order[starts[k]:starts[k + 1]]``.
    """
    if len(xy) == 0:
        return np.empty(0, np.int64), np.zeros(1, np.int64)
    order, sorted_keys = _order_and_keys(xy)
    starts = np.empty(len(xy) + 1, np.int64)
    return order, starts[: _group_places(xy, sorted_keys, order, starts) + 1]
