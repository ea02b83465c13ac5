"""From loose triangles, each with corners of its own, to a surface whose triangles share vertices."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.surface.surface import Surface


def distinct_rows(rows: Floats) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the first of each set of equal rows (n, 3), in the order of the input, and the set of every row."""
    order = np.lexsort(rows.T[::-1])
    new = np.ones(len(rows), np.bool_)
    new[1:] = (rows[order[1:]] != rows[order[:-1]]).any(axis=1)
    sorted_set = np.cumsum(new) - 1
    firsts = np.minimum.reduceat(order, np.flatnonzero(new)) if len(rows) else order
    by_appearance = np.argsort(firsts)
    number = np.empty(len(firsts), np.int64)
    number[by_appearance] = np.arange(len(firsts))
    set_of = np.empty(len(rows), np.int64)
    set_of[order] = number[sorted_set]
    return firsts[by_appearance], set_of


def welded(corners: Floats, **named: str) -> tuple[Surface, NDArray[np.int64], int]:
    """Join loose triangles where their corners are equal.

    Parameters
    ----------
    corners : (m, 3, 3) float64
        Corner by corner, each easting, northing, height.
    **named
        As for `Surface.from_arrays`.

    Returns
    -------
    surface : Surface
    triangle_of : (vertices,) int64
        A row of *corners* that each vertex is a corner of.
    dropped : int
        Triangles with two equal corners, which are none.

    Raises
    ------
    DataError
        Where no triangle is left, or a number is not finite.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.making import welded
    >>> corners = np.array([[[0.0, 0, 1], [8, 0, 1], [8, 8, 2]], [[0.0, 0, 1], [8, 8, 2], [0, 8, 2]]])
    >>> surface, _, dropped = welded(corners)
    >>> surface, dropped
    (<Surface 'surface': 4 vertices, 2 triangles>, 0)
    """
    flat = np.ascontiguousarray(corners.reshape(-1, 3)) + 0.0
    firsts, set_of = distinct_rows(flat)
    triangles = set_of.reshape(-1, 3)
    a, b, c = triangles.T
    proper = (a != b) & (b != c) & (c != a)
    if not proper.any():
        raise DataError("no triangle has three different corners")
    used = np.unique(triangles[proper])
    number = np.full(len(firsts), -1, np.int64)
    number[used] = np.arange(len(used))
    surface = Surface.from_arrays(flat[firsts[used]], number[triangles[proper]], **named)
    return surface, firsts[used] // 3, int((~proper).sum())
