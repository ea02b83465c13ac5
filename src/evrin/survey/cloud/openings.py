"""Morphological openings of grids with octagons, in a time that does not depend on their size."""

from __future__ import annotations

import math

import numpy as np

from evrin.kernels import FloatRows, Floats, Mutable, as_index, kernel


@kernel
def _extremes_along(grid: FloatRows, down: int, right: int, half: int, sign: float, out: Mutable[FloatRows]) -> None:
    """The least (sign 1) or greatest (sign -1) within *half* steps either way of each cell, along one direction.

    Cells outside do not count. Two running extremes over blocks as long as the window give each result by one
    comparison (van Herk 1992, Gil and Werman 1993).
    """
    rows, columns = grid.shape
    longest = max(rows, columns)
    line, ahead, behind = np.empty(longest), np.empty(longest), np.empty(longest)
    width = 2 * half + 1
    starts = rows if down == 0 else columns if right == 0 else rows + columns - 1
    for start in range(starts):
        if down == 0:
            r0, c0 = as_index(start), as_index(0)
        elif right == 0:
            r0, c0 = as_index(0), as_index(start)
        elif right > 0:
            r0 = as_index(max(rows - 1 - start, 0))
            c0 = as_index(max(start - (rows - 1), 0))
        else:
            r0 = as_index(max(start - (columns - 1), 0))
            c0 = as_index(min(start, columns - 1))
        count = as_index(0)
        r, c = r0, c0
        while 0 <= r < rows and 0 <= c < columns:
            line[count] = sign * grid[r, c]
            count += 1
            r += down
            c += right
        for k in range(count):
            ahead[k] = line[k] if k % width == 0 else min(ahead[k - 1], line[k])
        for k in range(count - 1, -1, -1):
            behind[k] = line[k] if k == count - 1 or (k + 1) % width == 0 else min(behind[k + 1], line[k])
        for k in range(count):
            low, high = max(k - half, 0), min(k + half, count - 1)
            r, c = r0 + k * down, c0 + k * right
            if low // width != high // width:
                least = min(behind[low], ahead[high])
            else:
                # A window within one block begins where the block does, or is cut short by the end of the line.
                least = ahead[high] if low % width == 0 else behind[low]
            out[r, c] = sign * least


def _sides(radius: int) -> tuple[int, int]:
    """Half the straight and half the diagonal sides of an octagon, in steps."""
    diagonal = round(0.293 * radius)
    return radius - 2 * diagonal, diagonal


def growth(radius: int, before: int) -> float:
    """Return by how much farther one octagon reaches than another, in the direction where that is most.

    Parameters
    ----------
    radius, before : int
        In cells; 0 for none.

    Returns
    -------
    float

    Examples
    --------
    >>> growth(2, 1), round(growth(3, 2), 3)
    (1.0, 1.414)
    """
    across = math.sqrt(2.0) * (sum(_sides(radius)) - sum(_sides(before)))
    return max(float(radius - before), across)


def _extremes(grid: Floats, radius: int, sign: float) -> Floats:
    """Extremes within an octagon of a radius in cells."""
    straight, diagonal = _sides(radius)
    extremes = grid
    for down, right, half in ((0, 1, straight), (1, 0, straight), (1, 1, diagonal), (1, -1, diagonal)):
        if half > 0:
            out = np.empty_like(extremes)
            _extremes_along(extremes, down, right, half, sign, out)
            extremes = out
    return extremes


def opened(grid: Floats, radius: int) -> Floats:
    """Return the opening of a grid with an octagon: what is narrower is levelled down to its surroundings.

    Parameters
    ----------
    grid : (rows, columns) float64
        Cells that are NaN do not count, as those outside do not.
    radius : int
        Of the octagon, in cells.

    Returns
    -------
    (rows, columns) float64

    References
    ----------
    van Herk, M. (1992), A fast algorithm for local minimum and maximum filters on rectangular and octagonal kernels,
    https://doi.org/10.1016/0167-8655(92)90069-C.

    Examples
    --------
    >>> field = np.zeros((7, 7))
    >>> field[2:5, 2:5] = 3.0
    >>> float(opened(field, 1).max()), float(opened(field, 2).max())
    (3.0, 0.0)
    """
    missing = np.isnan(grid)
    if not missing.any():
        return _extremes(_extremes(np.ascontiguousarray(grid), radius, 1.0), radius, -1.0)
    least = np.where(missing, -np.inf, _extremes(np.where(missing, np.inf, grid), radius, 1.0))
    return np.where(missing, np.nan, _extremes(least, radius, -1.0))
