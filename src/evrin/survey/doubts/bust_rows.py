"""Rows of vertices that differ from the ground alike, such as the top of a wall: features, not busts."""

from __future__ import annotations

import itertools

import numpy as np
import scipy

from evrin.kernels import Flags, Floats, Indices

_ALIKE = 0.3
_STRAIGHT = 0.1
_EVEN = 3.0
_NEAREST = 12
_FEWEST = 4


def rows_alike(xy: Floats, heights: Floats, farthest: float) -> list[Indices]:
    """Return groups of four places or more in a row that differ from the ground alike.

    Three are in a row where the middle one is off the straight line between the others by at most a tenth of its
    length, the longer gap is at most three times the shorter, and what they differ by agrees to three tenths. Rows that
    share places are one.

    Parameters
    ----------
    xy : (n, 2) float64
        Places of the vertices.
    heights : (n,) float64
        How far each is above its surroundings; below where negative.
    farthest : float
        The widest gap within a row.

    Returns
    -------
    list of (k,) int64
        Numbers of places.

    Examples
    --------
    >>> xy = np.array([[0.0, 0.0], [5.0, 0.1], [10.0, 0.0], [14.0, 0.0], [3.0, 40.0]])
    >>> [row.tolist() for row in rows_alike(xy, np.array([1.2, 1.1, 1.3, 1.1, 1.2]), 20.0)]
    [[0, 1, 2, 3]]
    """
    n = len(xy)
    if n < _FEWEST:
        return []
    near = np.asarray(scipy.spatial.cKDTree(xy).query(xy, k=np.arange(1, min(n, _NEAREST) + 1))[1])
    middle = np.arange(n)
    joined: list[Indices] = []
    for j, k in itertools.combinations(range(near.shape[1]), 2):
        one, other = near[:, j], near[:, k]
        alike = (one != middle) & (other != middle) & _alike(heights, one, middle) & _alike(heights, other, middle)
        alike &= _are_rows(xy[one], xy[middle], xy[other], farthest)
        joined += [np.column_stack((one, middle))[alike], np.column_stack((middle, other))[alike]]
    pairs = np.concatenate(joined)
    if not len(pairs):
        return []
    graph = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    _, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    groups = [np.flatnonzero(label == each) for each in np.unique(label)]
    return [group for group in groups if len(group) >= _FEWEST]


def _alike(heights: Floats, one: Indices, other: Indices) -> Flags:
    a, b = heights[one], heights[other]
    return np.asarray(np.abs(a - b) <= _ALIKE * np.maximum(np.abs(a), np.abs(b)))


def _are_rows(one: Floats, middle: Floats, other: Floats, farthest: float) -> Flags:
    """Which triples of places are straight and even enough, with gaps that are not too wide."""
    along, back, on = other - one, middle - one, other - middle
    length, before, after = (np.hypot(*leg.T) for leg in (along, back, on))
    narrow, wide = np.minimum(before, after), np.maximum(before, after)
    off = np.abs(along[:, 0] * back[:, 1] - along[:, 1] * back[:, 0])
    even = (narrow > 0.0) & (wide <= _EVEN * narrow) & (wide <= length) & (wide <= farthest)
    return np.asarray(even & (off <= _STRAIGHT * length * length))
