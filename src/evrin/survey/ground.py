"""Telling ground from all else in a cloud without classes."""

from __future__ import annotations

import numpy as np
import scipy

from evrin.errors import DataError
from evrin.tin.types import Flags, Floats

_MOST_CELLS = 100_000_000
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
    """Tell which points are ground.

    A simple morphological filter: the lowest point of each cell is opened with ever larger discs; what an opening takes
    away faster than the ground may rise is an object; the rest, filled in, is a provisional ground, and points near it
    are ground.

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
        A point is ground within *threshold*, plus *scale* times the local rise over a cell, of the provisional ground.

    Returns
    -------
    (n,) bool

    Raises
    ------
    DataError
        Where the extent holds too many cells.

    References
    ----------
    Pingel, T. J., Clarke, K. C. and McBride, W. A. (2013), An improved simple morphological filter for the terrain
    classification of airborne LIDAR data, https://doi.org/10.1016/j.isprsjprs.2012.12.002. Two things differ: gaps are
    filled by the nearest cell and smoothed, where the paper solves for springs; and an opening may take away what the
    ground rises over the distance by which the disc grew, where the paper allows it what it rises over the whole
    radius, which leaves low roofs standing wherever the ground may be steep.

    Examples
    --------
    >>> east, north = np.meshgrid(np.arange(30.0), np.arange(30.0))
    >>> height = np.where((abs(east - 15) < 4) & (abs(north - 15) < 4), 5.0, 0.0)
    >>> ground = is_ground(np.column_stack((east.ravel(), north.ravel(), height.ravel())), window=6.0)
    >>> bool((ground == (height.ravel() == 0.0)).all())
    True
    """
    low = np.floor(xyz[:, :2].min(axis=0) / cell) * cell
    columns, rows = (np.floor((xyz[:, :2].max(axis=0) - low) / cell).astype(int) + 1).tolist()
    if columns * rows > _MOST_CELLS:
        raise DataError(f"{columns:,} by {rows:,} cells are too many for the ground filter; use a larger cell")
    column, row = np.floor((xyz[:, :2] - low) / cell).astype(np.int64).T
    lowest = np.full((rows, columns), np.inf)
    np.minimum.at(lowest, (row, column), xyz[:, 2])
    lowest[np.isinf(lowest)] = np.nan
    lowest = _filled(lowest)
    # Stray points far below would drag the opening down: those an opening from above closes over are no ground.
    pits = scipy.ndimage.grey_closing(lowest, footprint=_disc(1)) - lowest > 5.0 * slope * cell
    lowest = _filled(np.where(pits, np.nan, lowest)) if pits.any() else lowest
    objects = _objects(lowest, cell, slope, window)
    provisional = _filled(np.where(objects, np.nan, lowest))
    rise = np.hypot(*np.gradient(provisional, cell)) * cell
    at = ((xyz[:, 1] - low[1]) / cell - 0.5, (xyz[:, 0] - low[0]) / cell - 0.5)
    expected, steepness = (
        scipy.ndimage.map_coordinates(grid, at, order=1, mode="nearest") for grid in (provisional, rise)
    )
    near: Flags = np.abs(xyz[:, 2] - expected) <= threshold + scale * steepness
    return near


def _disc(radius: int) -> Flags:
    y, x = np.ogrid[-radius : radius + 1, -radius : radius + 1]
    return np.asarray(x * x + y * y <= radius * radius)


def _objects(lowest: Floats, cell: float, slope: float, window: float) -> Flags:
    """Cells that an opening takes down by more than the ground may rise over what the disc grew by."""
    objects = np.zeros(lowest.shape, np.bool_)
    last, before = lowest, 0
    widest = max(int(np.ceil(window / cell)), 1)
    while before < widest:
        radius = min(max(before + 1, int(before * _GROWTH)), widest)
        opened = scipy.ndimage.grey_opening(lowest, footprint=_disc(radius))
        objects |= last - opened > slope * cell * (radius - before)
        last, before = opened, radius
    return objects


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
