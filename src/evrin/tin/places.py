"""One canonical order of places: along a Hilbert curve, whatever order they came in.

Reference for the curve: Skilling, J. (2004). Programming the Hilbert curve. *AIP Conf. Proc.* 707, 381-387.
https://doi.org/10.1063/1.1751381
"""

import numpy as np
from numpy.typing import NDArray

from evrin.tin.predicates import precedes
from evrin.tin.types import Flags, Floats, kernel

_CURVE_BITS = 20
_INDEX_BITS = 24
_CHUNK_BITS = 4
_CROWDED = 32


def _curve_table() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
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
def _curve_keys(xy: Floats, low_x: float, low_y: float, scale: float, keys: NDArray[np.int64]) -> None:
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
def _sort_ties(xy: Floats, keys: NDArray[np.int64], order: NDArray[np.int64]) -> bool:
    """Order places of one key west to east, then south to north; False where a key is too crowded for this."""
    n = order.shape[0]
    start = 0
    while start < n:
        stop = start + 1
        while stop < n and keys[order[stop]] == keys[order[start]]:
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
def _mark_new_places(xy: Floats, order: NDArray[np.int64], is_new: Flags) -> None:
    is_new[0] = True
    for k in range(1, order.shape[0]):
        i = order[k - 1]
        j = order[k]
        is_new[k] = xy[i, 0] != xy[j, 0] or xy[i, 1] != xy[j, 1]


def canonical_order(xy: Floats) -> NDArray[np.int64]:
    """Return the row numbers of *xy* along a Hilbert curve over their extent.

    Parameters
    ----------
    xy : (n, 2) float64
        Finite places.

    Returns
    -------
    (n,) int64
        Depends on the set of places only; rows at one place stand next to each other.
    """
    low = xy.min(axis=0)
    extent = float((xy.max(axis=0) - low).max())
    scale = (2.0**_CURVE_BITS - 1.0) / extent if extent > 0.0 else 0.0
    keys = np.empty(len(xy), np.int64)
    _curve_keys(xy, low[0], low[1], scale, keys)
    order = _order_of(keys)
    if not _sort_ties(xy, keys, order):
        order = np.lexsort((xy[:, 1], xy[:, 0], keys))
    return order


def _order_of(keys: NDArray[np.int64]) -> NDArray[np.int64]:
    if len(keys) >= 1 << _INDEX_BITS:
        return np.argsort(keys)
    packed = keys.view(np.uint64) << np.uint64(_INDEX_BITS) | np.arange(len(keys), dtype=np.uint64)
    packed.sort()
    return (packed & np.uint64((1 << _INDEX_BITS) - 1)).view(np.int64)


def distinct_places(xy: Floats) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
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
    order = canonical_order(xy)
    is_new = np.empty(len(xy), np.bool_)
    _mark_new_places(xy, order, is_new)
    return order, np.append(np.flatnonzero(is_new), len(xy))
