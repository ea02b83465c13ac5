"""Ground and non-ground in a cloud without classes."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import scipy
from numpy.typing import NDArray

from evrin.base.errors import DataError
from evrin.base.tolerances import GROUND_CELL, GROUND_THRESHOLD, GROUND_WINDOW, WIDEST_OBJECT
from evrin.kernels import Flags, Floats
from evrin.survey.cloud.ground_cells import cells_around, ground_of_cells, is_near, lowest_of, without_noise

_MOST_CELLS = 20_000_000
# Cells across the narrower side of a small cloud.
_ACROSS = 10
_RAISED_ALL_ROUND = 0.8


class FilterSizes(NamedTuple):
    """Cell and window of the ground filter: as given, or as chosen from the cloud.

    Attributes
    ----------
    cell, window : float
        Side of a cell, and of the largest opening.
    widest : float
        Half the width of the widest object that was found, 0 where none was looked for.
    """

    cell: float
    window: float
    widest: float = 0.0


def is_ground(
    xyz: Floats,
    *,
    cell: float | None = None,
    slope: float = 0.8,
    window: float | None = None,
    threshold: float | None = None,
    scale: float = 1.0,
    units: str = "m",
) -> Flags:
    """Return which points are ground.

    A simple morphological filter: the lowest point of each cell is opened with ever larger octagons; what an opening
    takes away faster than the ground may rise is an object; points near the rest are ground. Low noise is taken out
    first. What is farther apart than two of the largest octagons is filtered by itself.

    Parameters
    ----------
    xyz : (n, 3) float64
        The points.
    cell : float, optional
        Side of a cell, near the spacing of the points on the ground; chosen from the cloud if not given.
    slope : float
        The steepest ground over one cell, rise over run; anything steeper is an object.
    window : float, optional
        Radius of the largest octagon, no less than half the width of the widest object; chosen from the cloud if not
        given, see `filter_sizes`.
    threshold, scale : float
        A point is ground within *threshold* (0.25 m if not given), plus *scale* times the local rise over a cell.
    units : str
        Of the coordinates, for lengths that are not given.

    Returns
    -------
    (n,) bool

    Raises
    ------
    DataError
        For too many cells.

    References
    ----------
    Pingel, T. J., Clarke, K. C. and McBride, W. A. (2013), An improved simple morphological filter for the terrain
    classification of airborne LIDAR data, https://doi.org/10.1016/j.isprsjprs.2012.12.002. Three things differ: narrow
    gaps are filled from their sides and smoothed, where the paper solves for springs, and wide ones do not count; an
    opening may remove what the ground rises over the growth of the window, where the paper allows what it rises over
    the whole radius; and the window is chosen from the cloud.

    Examples
    --------
    >>> east, north = np.meshgrid(np.arange(30.0), np.arange(30.0))
    >>> height = np.where((abs(east - 15) < 4) & (abs(north - 15) < 4), 5.0, 0.0)
    >>> ground = is_ground(np.column_stack((east.ravel(), north.ravel(), height.ravel())))
    >>> bool((ground == (height.ravel() == 0.0)).all())
    True
    """
    sizes = filter_sizes(xyz, cell=cell, slope=slope, window=window, units=units)
    near = GROUND_THRESHOLD.in_units(units) if threshold is None else threshold
    groups = _groups(xyz, 2.0 * sizes.window + 8.0 * sizes.cell)
    on_ground = np.zeros(len(xyz), np.bool_)
    order = np.argsort(groups, kind="stable")
    for part in np.split(order, np.flatnonzero(np.diff(groups[order])) + 1) if len(order) else ():
        on_ground[part] = _is_ground(xyz[part], sizes, slope, near, scale)
    return on_ground


def filter_sizes(
    xyz: Floats, *, cell: float | None = None, slope: float = 0.8, window: float | None = None, units: str = "m"
) -> FilterSizes:
    """Return cell and window of the ground filter, chosen from a cloud where they are not given.

    The cell is 1 m, more where points are farther apart, less on a small cloud that is dense enough. The window is
    10 m, or what it takes to reach across the widest object: cells joined by steps no steeper than ground may be, all
    round which most steps lead down.

    Parameters
    ----------
    xyz : (n, 3) float64
        The points.
    cell, window : float, optional
        Side of a cell, and of the largest opening, if they are stated.
    slope : float
        The steepest ground, rise over run.
    units : str
        Unit of lengths.

    Returns
    -------
    FilterSizes

    Raises
    ------
    DataError
        For too many cells.

    Examples
    --------
    >>> east, north = np.meshgrid(np.arange(80.0), np.arange(80.0))
    >>> height = np.where((abs(east - 40) < 25) & (abs(north - 40) < 25), 5.0, 0.0)
    >>> filter_sizes(np.column_stack((east.ravel(), north.ravel(), height.ravel())))
    FilterSizes(cell=1.0, window=28.0, widest=25.0)
    """
    cell_size = cell_of(xyz, units) if cell is None else cell
    # What is far from the rest is looked at by itself: a stray point costs what a point costs.
    groups = _groups(xyz, 64.0 * cell_size)
    order = np.argsort(groups, kind="stable")
    parts = np.split(order, np.flatnonzero(np.diff(groups[order])) + 1) if len(order) else []
    areas = [cells_around(xyz[part], cell_size, 0) for part in parts]
    count = sum(area.rows * area.columns for area in areas)
    if count > _MOST_CELLS:
        raise DataError(
            f"{count:,} cells of {cell_size:g} {units} are too many for the ground filter; use a larger cell, or "
            "choose less ground (window, polygon)"
        )
    if window is not None:
        return FilterSizes(cell_size, window)
    rise = slope * cell_size + GROUND_THRESHOLD.in_units(units)
    sizes = [
        widest_object(without_noise(lowest_of(xyz[part], area, cell_size), slope * cell_size), rise)
        for part, area in zip(parts, areas, strict=True)
    ]
    widest = min(max(sizes, default=0.0) * cell_size, WIDEST_OBJECT.in_units(units))
    extent = max((max(a.rows, a.columns) * cell_size for a in areas), default=2.0 * cell_size)
    return FilterSizes(cell_size, suited_window(cell_size, widest, extent, units), widest)


def suited_window(cell: float, widest: float, extent: float, units: str) -> float:
    """Return the window that reaches across the widest object.

    Parameters
    ----------
    cell, widest : float
        Half the width of that object, 0 where there is none.
    extent : float
        Of the cloud, of which a window is never wider than half.
    units : str
        Unit of lengths.
    """
    least = min(GROUND_WINDOW.in_units(units), extent / 2.0)
    return max(least, widest + 3.0 * cell if widest else 0.0)


def cell_of(xyz: Floats, units: str) -> float:
    """Return the cell that suits points (n, 3): about twice their spacing, or a metre, whichever is more.

    Less than a metre on a small dense cloud.
    """
    metre = GROUND_CELL.in_units(units)
    if len(xyz) < 2:
        return metre
    spacing = spacing_of(xyz[:, :2], 8.0 * metre)
    narrow = float(np.ptp(xyz[:, :2], axis=0).min())
    fine = min(metre, max(narrow / _ACROSS, 3.0 * spacing))
    cell = max(fine, spacing) if spacing > 0.0 else metre
    # Two significant digits, so that what is reported is what is used.
    return float(f"{max(cell, 1e-6):.2g}")


def spacing_of(xy: Floats, block: float) -> float:
    """Return the spacing of places (n, 2) where there are any: from how many blocks of a side hold how many."""
    blocks = np.floor((xy - xy.min(axis=0)) / block)
    while True:
        counts = np.unique(_keys(blocks), return_counts=True)[1]
        if len(counts) == 1 or np.median(counts) >= 4:
            break
        block, blocks = 2.0 * block, np.floor(blocks / 2.0)
    width = np.minimum(np.ptp(xy, axis=0), block)
    area = float(width.prod()) if len(counts) == 1 else block**2
    return float(np.sqrt(area / np.median(counts)))


def _groups(xyz: Floats, reach: float) -> NDArray[np.int64]:
    """Number the groups that points form when those in blocks of *reach* that touch are together."""
    if not len(xyz):
        return np.empty(0, np.int64)
    blocks = np.floor((xyz[:, :2] - xyz[:, :2].min(axis=0)) / reach)
    _, first, block_of = np.unique(_keys(blocks), return_index=True, return_inverse=True)
    distinct = blocks[first]
    pairs = scipy.spatial.cKDTree(distinct).query_pairs(1.0, p=np.inf, output_type="ndarray")
    links = scipy.sparse.coo_array((np.ones(len(pairs), np.bool_), pairs.T), shape=(len(distinct),) * 2)
    group_of = scipy.sparse.csgraph.connected_components(links, directed=False)[1]
    return np.asarray(group_of[block_of.ravel()], np.int64)


def _keys(blocks: Floats) -> NDArray[np.complex128]:
    """One number for each block, however far away it is."""
    return np.asarray(blocks[:, 0] + 1j * blocks[:, 1])


def widest_object(lowest: Floats, rise: float, *, is_cut: bool = False) -> float:
    """Return half the width, in cells, of the widest region from which most steps around lead down.

    Parameters
    ----------
    lowest : (rows, columns) float64
        NaN where there is no point.
    rise : float
        The highest step that ground takes over a cell.
    is_cut : bool
        Whether the cells are part of a larger cloud: what reaches their edge goes on beyond it and does not count.
    """
    rows, columns = lowest.shape
    number = np.arange(rows * columns).reshape(rows, columns)
    ends = [(number[:, :-1], number[:, 1:]), (number[:-1], number[1:])]
    one, other = (np.concatenate([pair[k].ravel() for pair in ends]) for k in (0, 1))
    flat = lowest.ravel()
    step = flat[other] - flat[one]
    walkable = np.abs(step) <= rise
    both = np.isfinite(step)
    ones, joined = np.ones(int(walkable.sum()), np.bool_), (one[walkable], other[walkable])
    links = scipy.sparse.coo_array((ones, joined), shape=(rows * columns,) * 2)
    count, region = scipy.sparse.csgraph.connected_components(links, directed=False)
    if count == 1:
        return 0.0
    edge = np.flatnonzero(~walkable & both)
    upper = np.where(step[edge] > 0.0, other[edge], one[edge])
    lower = np.where(step[edge] > 0.0, one[edge], other[edge])
    falls, climbs = (np.bincount(region[cells], minlength=count) for cells in (upper, lower))
    # Sides from which one can walk on belong to no region's edge; the largest region is the ground.
    raised = falls >= _RAISED_ALL_ROUND * (falls + climbs)
    raised[np.argmax(np.bincount(region))] = False
    raised &= falls > 0
    regions = region.reshape(rows, columns)
    if is_cut:
        raised[np.concatenate((regions[0], regions[-1], regions[:, 0], regions[:, -1]))] = False
    inside = raised[regions]
    if not inside.any():
        return 0.0
    padded = np.pad(inside, 1)
    return float(scipy.ndimage.distance_transform_edt(padded).max())


def _is_ground(xyz: Floats, sizes: FilterSizes, slope: float, threshold: float, scale: float) -> Flags:
    cells = cells_around(xyz, sizes.cell)
    ground = ground_of_cells(lowest_of(xyz, cells, sizes.cell), cells, sizes.cell, slope, sizes.window)
    return is_near(xyz, ground, sizes.cell, threshold, scale)
