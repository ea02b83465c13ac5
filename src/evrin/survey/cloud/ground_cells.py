"""The ground filter on cells: what follows from the lowest points of an area for the ground between them.

Nothing here knows where the area ends: cells outside do not count, and a cell depends on those within `reach` cells of
it and on no other. So an area filtered in pieces gives the same ground as in one, bit for bit.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import scipy

from evrin.kernels import FlagRows, Flags, FloatRows, Floats, Indices, kernel
from evrin.survey.cloud.openings import growth, opened

_GROWTH = 1.3
_LOW_RINGS = (1, 2, 3)
_FEWEST_AROUND = 3.0 / 8.0
# Gaps up to twice as many cells wide are filled; wider ones do not count.
_CLOSED = 3
_SMOOTHINGS, _GAP_SMOOTHINGS = 20, 6
_NEXT = 2
# Around an area, so that what depends on cells outside it finds none.
MARGIN = 2 * _CLOSED + 2


class CellWindow(NamedTuple):
    """A rectangle of cells of the plane: first column and row, counted from the origin, and size.

    Attributes
    ----------
    column, row, columns, rows : int
        First column and row, and how many there are.
    """

    column: int
    row: int
    columns: int
    rows: int


class GroundCells(NamedTuple):
    """The ground that an area's lowest points show.

    Attributes
    ----------
    cells : CellWindow
        Where the cells are.
    height : (rows, columns) float64
        At the middle of each cell; NaN where no ground is near.
    rise : (rows, columns) float64
        Over one cell.
    """

    cells: CellWindow
    height: Floats
    rise: Floats


def cells_around(xyz: Floats, cell: float, margin: int = MARGIN) -> CellWindow:
    """Return the cells that points (n, 3) lie in, with a margin of cells on each side."""
    low = np.floor(xyz[:, :2].min(axis=0) / cell) - margin
    columns, rows = (np.floor(xyz[:, :2].max(axis=0) / cell) - low + 1.0 + margin).tolist()
    return CellWindow(int(low[0]), int(low[1]), int(columns), int(rows))


def lowest_of(xyz: Floats, cells: CellWindow, cell: float) -> Floats:
    """Return the height of the lowest point of each cell, NaN where there is none."""
    lowest = np.full((cells.rows, cells.columns), np.inf)
    # Far from the origin numbers of cells are known as floats only.
    column = (np.floor(xyz[:, 0] / cell) - cells.column).astype(np.int64)
    row = (np.floor(xyz[:, 1] / cell) - cells.row).astype(np.int64)
    np.minimum.at(lowest, (row, column), xyz[:, 2])
    lowest[np.isinf(lowest)] = np.nan
    return lowest


def without_noise(lowest: Floats, rise: float) -> Floats:
    """Return the lowest points without low noise, narrow gaps filled.

    Parameters
    ----------
    lowest : (rows, columns) float64
        NaN where there is no point.
    rise : float
        By how much the ground may rise over a cell.
    """
    whole = _closed(lowest)
    noise = _is_low_noise(whole, rise)
    return _closed(np.where(noise, np.nan, lowest)) if noise.any() else whole


def ground_of_cells(lowest: Floats, cells: CellWindow, cell: float, slope: float, window: float) -> GroundCells:
    """Return the ground in an area.

    Parameters
    ----------
    lowest : (rows, columns) float64
        Of the area and all cells within `reach` of what is asked for.
    cells : CellWindow
        Where the cells are.
    cell, slope, window : float
        As `evrin.survey.cloud.ground_filter.is_ground` takes them.
    """
    whole = without_noise(lowest, slope * cell)
    objects = _objects(whole, cell, slope, window)
    widest = _radii(window / cell)[-1]
    ground = _filled(np.where(objects, np.nan, whole), 2 * widest, np.isfinite(whole), _SMOOTHINGS)
    rise = np.hypot(*(_rise_along(ground, axis) for axis in (0, 1)))
    return GroundCells(cells, _carried_on(ground), _carried_on(rise))


def is_near(xyz: Floats, ground: GroundCells, cell: float, threshold: float, scale: float) -> Flags:
    """Return which points (n, 3) lie within a threshold, plus *scale* times the rise over a cell, of the ground."""
    expected, rise = _between(xyz, ground, cell)
    near: Flags = np.abs(xyz[:, 2] - expected) <= threshold + scale * rise
    return near


def reach(window: float, cell: float) -> int:
    """Return how many cells away from a point its answer can depend on."""
    widest = _radii(window / cell)[-1]
    gaps = 2 * _CLOSED + _GAP_SMOOTHINGS
    return 1 + 2 * _NEXT + _SMOOTHINGS + 4 * widest + 2 * gaps + max(_LOW_RINGS)


def _between(xyz: Floats, ground: GroundCells, cell: float) -> tuple[Floats, Floats]:
    """Height and rise of the ground at places, straight between the middles of cells."""
    east, north = xyz[:, 0] / cell - 0.5, xyz[:, 1] / cell - 0.5
    column, row = np.floor(east), np.floor(north)
    right, up = east - column, north - row
    at_column = (column - ground.cells.column).astype(np.int64)
    at_row = (row - ground.cells.row).astype(np.int64)
    values = []
    for grid in (ground.height, ground.rise):
        below = grid[at_row, at_column] * (1.0 - right) + grid[at_row, at_column + 1] * right
        above = grid[at_row + 1, at_column] * (1.0 - right) + grid[at_row + 1, at_column + 1] * right
        values.append(below * (1.0 - up) + above * up)
    return values[0], values[1]


def _is_low_noise(grid: Floats, rise: float) -> Flags:
    """Cells below all of a ring around them by more than the ground may fall: a ditch leads out of the ring."""
    there = np.isfinite(grid)
    height = np.where(there, grid, np.inf)
    noise = np.zeros(grid.shape, np.bool_)
    for ring in _LOW_RINGS:
        side = 2 * ring + 1
        around = np.ones((side, side), np.bool_)
        around[1:-1, 1:-1] = False
        least = scipy.ndimage.minimum_filter(height, footprint=around, mode="constant", cval=np.inf)
        many = _count_within(there, ring) - _count_within(there, ring - 1)
        enough = there & (many >= _FEWEST_AROUND * around.sum())
        noise[enough] |= least[enough] - grid[enough] > 1.5 * rise * ring
    return noise


def _count_within(there: Flags, steps: int) -> Indices:
    """How many of the cells within so many steps of each are there."""
    padded = np.zeros((there.shape[0] + 2 * steps + 1, there.shape[1] + 2 * steps + 1), np.int64)
    padded[steps + 1 : steps + 1 + there.shape[0], steps + 1 : steps + 1 + there.shape[1]] = there
    total = padded.cumsum(axis=0).cumsum(axis=1)
    side = 2 * steps + 1
    return np.asarray(total[side:, side:] - total[:-side, side:] - total[side:, :-side] + total[:-side, :-side])


def _rise_along(grid: Floats, axis: int) -> Floats:
    """Rise over a cell along one axis: between both neighbours, or to the one that is there; 0 where none is."""
    whole = np.pad(grid, 1, constant_values=np.nan)
    along = [slice(1, -1), slice(1, -1)]
    ends = []
    for side in (slice(2, None), slice(None, -2)):
        along[axis] = side
        ends.append(whole[tuple(along)])
    ahead, behind = ends[0] - grid, grid - ends[1]
    both = (ahead + behind) / 2.0
    rise = np.where(np.isnan(ahead), behind, np.where(np.isnan(behind), ahead, both))
    return np.where(np.isnan(rise) & np.isfinite(grid), 0.0, rise)


def _carried_on(grid: Floats) -> Floats:
    """Carry values on to the cells next to those that have some, as places near the rim ask for them."""
    return _filled(grid, _NEXT, np.ones(grid.shape, np.bool_), 0)


def _objects(lowest: Floats, cell: float, slope: float, window: float) -> Flags:
    """Cells that an opening takes down by more than the ground may rise over what the window grew by."""
    objects = np.zeros(lowest.shape, np.bool_)
    last, before = lowest, 0
    for radius in _radii(window / cell):
        now = opened(lowest, radius)
        objects |= last - now > slope * cell * growth(radius, before)
        last, before = now, radius
    return objects


def _radii(widest: float) -> list[int]:
    """Radii of the windows, in cells, each somewhat larger than the one before."""
    last = max(int(np.ceil(min(widest, 1e9))), 1)
    radii = [1]
    while radii[-1] < last:
        radii.append(min(max(radii[-1] + 1, int(radii[-1] * _GROWTH)), last))
    return radii


def _closed(grid: Floats) -> Floats:
    """Fill gaps that have cells on both sides near by."""
    there = np.isfinite(grid)
    side = 2 * _CLOSED + 1
    wide = np.pad(there, 2 * _CLOSED)
    wide = scipy.ndimage.maximum_filter(wide, side, mode="constant")
    wide = scipy.ndimage.minimum_filter(wide, side, mode="constant")
    inside = wide[2 * _CLOSED : -2 * _CLOSED, 2 * _CLOSED : -2 * _CLOSED]
    return _filled(grid, 2 * _CLOSED, inside | there, _GAP_SMOOTHINGS)


def _filled(grid: Floats, farthest: int, allowed: Flags, smoothings: int) -> Floats:
    """Fill empty cells from the nearest others within so many cells, smoothed where they were filled."""
    empty = np.isnan(grid)
    if not empty.any() or empty.all():
        return grid
    distances, nearest = scipy.ndimage.distance_transform_edt(empty, return_indices=True)
    taken = empty & allowed & (distances <= farthest)
    filled: Floats = np.where(taken, grid[tuple(nearest)], grid)
    for _ in range(smoothings):
        filled = smoothed_once(filled, taken)
    return filled


@kernel
def smoothed_once(grid: FloatRows, taken: FlagRows) -> Floats:
    """Return the grid with each cell that is taken as the mean of those of the nine around it that have values."""
    rows, columns = grid.shape
    out = grid.copy()
    for r in range(rows):
        for c in range(columns):
            if not taken[r, c]:
                continue
            total, count = 0.0, 0
            for i in range(max(r - 1, 0), min(r + 2, rows)):
                for j in range(max(c - 1, 0), min(c + 2, columns)):
                    if not np.isnan(grid[i, j]):
                        total += grid[i, j]
                        count += 1
            out[r, c] = total / count
    return out
