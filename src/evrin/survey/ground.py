"""Ground and non-ground in a cloud without classes."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from evrin.errors import DataError
from evrin.tin.types import Flags, Floats

_MOST_CELLS = 20_000_000
# Cells times the places of all discs: what the openings have to look at.
_MOST_WORK = 2e10
_GROWTH = 1.3


def is_ground(
    xyz: Floats,
    *,
    cell: float = 1.0,
    slope: float = 0.8,
    window: float = 18.0,
    threshold: float = 0.25,
    scale: float = 1.0,
) -> Flags:
    """Return which points are ground.

    A simple morphological filter: the lowest point of each cell is opened with ever larger discs; what an opening takes
    away faster than the ground may rise is an object; points near the rest are ground. What is farther apart than two
    of the largest discs is filtered by itself.

    Parameters
    ----------
    xyz : (n, 3) float64
    cell : float
        Side of a cell, near the spacing of the points on the ground.
    slope : float
        The steepest ground over one cell, rise over run; anything steeper is an object.
    window : float
        Radius of the largest disc, no less than half the width of the widest object.
    threshold, scale : float
        A point is ground within *threshold*, plus *scale* times the local rise over a cell.

    Returns
    -------
    (n,) bool

    Raises
    ------
    DataError
        For too many cells, or too many in a disc.

    References
    ----------
    Pingel, T. J., Clarke, K. C. and McBride, W. A. (2013), An improved simple morphological filter for the terrain
    classification of airborne LIDAR data, https://doi.org/10.1016/j.isprsjprs.2012.12.002. Two things differ: gaps are
    filled by the nearest cell and smoothed, where the paper solves for springs; and an opening may remove what the
    ground rises over the growth of the disc, where the paper allows what it rises over the whole radius.

    Examples
    --------
    >>> east, north = np.meshgrid(np.arange(30.0), np.arange(30.0))
    >>> height = np.where((abs(east - 15) < 4) & (abs(north - 15) < 4), 5.0, 0.0)
    >>> ground = is_ground(np.column_stack((east.ravel(), north.ravel(), height.ravel())), window=6.0)
    >>> bool((ground == (height.ravel() == 0.0)).all())
    True
    """
    groups = _groups(xyz, 2.0 * window + 8.0 * cell)
    parts = [np.flatnonzero(groups == k) for k in range(int(groups.max(initial=-1)) + 1)]
    boxes = [_box(xyz[part], cell) for part in parts]
    _check_work([rows * columns for _, rows, columns in boxes], _radii(window / cell))
    found = np.zeros(len(xyz), np.bool_)
    for part, (low, rows, columns) in zip(parts, boxes, strict=True):
        shape = (cell, slope, window, threshold, scale)
        found[part] = _is_ground(xyz[part], low, rows, columns, *shape)
    return found


def _box(xyz: Floats, cell: float) -> tuple[Floats, int, int]:
    """The corner of the cells that points lie in, and how many rows and columns there are."""
    low = np.floor(xyz[:, :2].min(axis=0) / cell) * cell
    columns, rows = (np.floor((xyz[:, :2].max(axis=0) - low) / cell) + 1.0).tolist()
    return low, int(rows), int(columns)


def _check_work(cells: list[int], radii: list[int]) -> None:
    places = sum(3.1416 * radius**2 for radius in radii)
    if sum(cells) > _MOST_CELLS or sum(cells) * places > _MOST_WORK:
        raise DataError(
            f"{sum(cells):,} cells with discs of up to {max(radii):,} cells are too many for the ground filter; use a "
            "larger cell, a smaller window, or choose less ground (window, polygon)"
        )


def _groups(xyz: Floats, reach: float) -> NDArray[np.int64]:
    """Number the groups that points form when those in blocks of *reach* that touch are together."""
    blocks = np.floor((xyz[:, :2] - xyz[:, :2].min(axis=0)) / reach)
    distinct, block_of = np.unique(blocks, axis=0, return_inverse=True)
    pairs = scipy.spatial.cKDTree(distinct).query_pairs(1.0, p=np.inf, output_type="ndarray")
    links = scipy.sparse.coo_array((np.ones(len(pairs), np.bool_), pairs.T), shape=(len(distinct),) * 2)
    group_of = scipy.sparse.csgraph.connected_components(links, directed=False)[1]
    return np.asarray(group_of[block_of.ravel()], np.int64)


def _is_ground(
    xyz: Floats,
    low: Floats,
    rows: int,
    columns: int,
    cell: float,
    slope: float,
    window: float,
    threshold: float,
    scale: float,
) -> Flags:
    column, row = np.floor((xyz[:, :2] - low) / cell).astype(np.int64).T
    lowest = np.full((rows, columns), np.inf)
    np.minimum.at(lowest, (row, column), xyz[:, 2])
    lowest[np.isinf(lowest)] = np.nan
    lowest = _filled(lowest)
    # Stray points far below would pull the opening down: those an opening from above closes over are not ground.
    pits = scipy.ndimage.grey_closing(lowest, footprint=_disc(1)) - lowest > 5.0 * slope * cell
    lowest = _filled(np.where(pits, np.nan, lowest)) if pits.any() else lowest
    objects = _objects(lowest, cell, slope, window)
    provisional = _filled(np.where(objects, np.nan, lowest))
    rise = np.hypot(*(_gradient(provisional, axis) for axis in (0, 1)))
    at = ((xyz[:, 1] - low[1]) / cell - 0.5, (xyz[:, 0] - low[0]) / cell - 0.5)
    expected, steepness = (
        scipy.ndimage.map_coordinates(grid, at, order=1, mode="nearest") for grid in (provisional, rise)
    )
    near: Flags = np.abs(xyz[:, 2] - expected) <= threshold + scale * steepness
    return near


def _gradient(grid: Floats, axis: int) -> Floats:
    """Rise over a cell along one axis; 0 where there is only one."""
    return np.zeros_like(grid) if grid.shape[axis] < 2 else np.asarray(np.gradient(grid, axis=axis))


def _disc(radius: int) -> Flags:
    y, x = np.ogrid[-radius : radius + 1, -radius : radius + 1]
    return np.asarray(x * x + y * y <= radius * radius)


def _objects(lowest: Floats, cell: float, slope: float, window: float) -> Flags:
    """Cells that an opening takes down by more than the ground may rise over what the disc grew by."""
    objects = np.zeros(lowest.shape, np.bool_)
    last, before = lowest, 0
    for radius in _radii(window / cell):
        opened = scipy.ndimage.grey_opening(lowest, footprint=_disc(radius))
        objects |= last - opened > slope * cell * (radius - before)
        last, before = opened, radius
    return objects


def _radii(widest: float) -> list[int]:
    """Radii of the discs, in cells, each somewhat larger than the one before."""
    last = max(int(np.ceil(min(widest, 1e9))), 1)
    radii = [1]
    while radii[-1] < last:
        radii.append(min(max(radii[-1] + 1, int(radii[-1] * _GROWTH)), last))
    return radii


def _filled(grid: Floats) -> Floats:
    """Fill empty cells from the nearest others, smoothed where they were filled."""
    empty = np.isnan(grid)
    if not empty.any():
        return grid
    known = np.argwhere(~empty)
    filled = grid.copy()
    filled[empty] = scipy.interpolate.NearestNDInterpolator(known, grid[~empty])(np.argwhere(empty))
    for _ in range(20):
        smooth = scipy.ndimage.uniform_filter(filled, 3, mode="nearest")
        filled[empty] = smooth[empty]
    return filled
