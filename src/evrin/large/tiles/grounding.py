"""The ground of one tile: its points filtered with what lies around them, thinned by cell, one at each place."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.base.tolerances import GROUND_THRESHOLD, WIDEST_OBJECT
from evrin.kernels import Flags, Floats, Indices
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import load, once, once_as, save
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_reading import origins_of, points_of, save_points
from evrin.recipe.sources.source_table import GroundFilter
from evrin.surface.provenance import Shots
from evrin.survey.cloud.cell_thinning import thinned_by_cell
from evrin.survey.cloud.ground_cells import (
    CellWindow,
    cells_around,
    ground_of_cells,
    is_near,
    lowest_of,
    reach,
    without_noise,
)
from evrin.survey.cloud.ground_filter import FilterSizes, cell_of, suited_window, widest_object
from evrin.survey.contents import Points
from evrin.tin.exact.curve_order import distinct_places

_MOST_CELLS = 40_000_000


class GroundTile(NamedTuple):
    """What became of the points of a tile.

    Attributes
    ----------
    left : int
        Points that are left.
    not_ground, thinned, same_place : int
        Points that are not, and why.
    apart : float
        How far heights at one place lie apart at most.
    lowest, highest : float
        Heights of those that are left.
    """

    left: int
    not_ground: int
    thinned: int
    same_place: int
    apart: float
    lowest: float
    highest: float


def suited_cell(job: Job, tile: Tile) -> list[float]:
    """Return the cell of the ground filter that suits the points of a tile, and how many points those are."""
    xyz = points_of(job, "points", tile)
    return [cell_of(np.asarray(xyz), job.frame.units), float(len(xyz))]


def lowest_of_tile(job: Job, tile: Tile, cell: float) -> list[int]:
    """Write the lowest point of each cell of a tile; return the cells: column, row, columns, rows."""

    def make() -> list[int]:
        xyz = np.asarray(points_of(job, "points", tile))
        cells = cells_around(xyz, cell, 0)
        _check_cells(cells, cell, job.frame.units)
        save(job.at(f"lowest-{cell:g}", tile).with_suffix(".npy"), lowest_of(xyz, cells, cell))
        return list(cells)

    return once(job.at(f"lowest-{cell:g}", tile).with_suffix(".json"), make)


def widest_of_tile(job: Job, tile: Tile, cell: float, cells: dict[Tile, list[int]]) -> float:
    """Return half the width of the widest object in and around a tile."""
    table: GroundFilter = job.source.ground_filter  # type: ignore[assignment]
    widest = WIDEST_OBJECT.in_units(job.frame.units)
    # An object up to twice as wide that the tile has a part of lies wholly within.
    area = _grown(CellWindow(*cells[tile]), int(np.ceil(2.0 * widest / cell)) + 1)
    lowest = without_noise(_lowest_within(job, area, cell, cells), table.slope * cell)
    rise = table.slope * cell + GROUND_THRESHOLD.in_units(job.frame.units)
    return min(widest_object(lowest, rise, is_cut=True) * cell, widest)


def sizes_of(job: Job, cell: float, widest: float, extent: float) -> FilterSizes:
    """Return the sizes of the filter for all tiles."""
    table: GroundFilter = job.source.ground_filter  # type: ignore[assignment]
    if table.window is not None:
        return FilterSizes(cell, table.window)
    return FilterSizes(cell, suited_window(cell, widest, extent, job.frame.units), widest)


def ground_tile(job: Job, tile: Tile, sizes: FilterSizes | None, cells: dict[Tile, list[int]]) -> GroundTile:
    """Write what is left of a tile's points, in an order that depends on the places alone."""

    def make() -> GroundTile:
        xyz, origin = np.asarray(points_of(job, "points", tile)), np.asarray(origins_of(job, "points", tile))
        came = len(xyz)
        if sizes is not None:
            keep = _is_ground(job, xyz, tile, sizes, cells)
            xyz, origin = xyz[keep], origin[keep]
        ground = len(xyz)
        xyz, origin = _thinned(job, xyz, origin)
        thinned = ground - len(xyz)
        xyz, origin, apart = _one_a_place(xyz, origin)
        save_points(job, "ground", tile, xyz, origin)
        heights = (float(xyz[:, 2].min()), float(xyz[:, 2].max())) if len(xyz) else (0.0, 0.0)
        return GroundTile(len(xyz), came - ground, thinned, ground - thinned - len(xyz), apart, *heights)

    return once_as(job.at("ground", tile).with_suffix(".json"), GroundTile, make)


def _is_ground(job: Job, xyz: Floats, tile: Tile, sizes: FilterSizes, cells: dict[Tile, list[int]]) -> Flags:
    table: GroundFilter = job.source.ground_filter  # type: ignore[assignment]
    area = cells_around(xyz, sizes.cell, reach(sizes.window, sizes.cell))
    _check_cells(area, sizes.cell, job.frame.units)
    lowest = _lowest_within(job, area, sizes.cell, cells)
    ground = ground_of_cells(lowest, area, sizes.cell, table.slope, sizes.window)
    return is_near(xyz, ground, sizes.cell, table.threshold, table.scale)


def _check_cells(cells: CellWindow, cell: float, units: str) -> None:
    if cells.rows * cells.columns > _MOST_CELLS:
        raise DataError(
            f"{cells.rows * cells.columns:,} cells of {cell:g} {units} are too many for the ground filter of one tile; "
            "use a larger cell or a smaller window, or smaller tiles"
        )


def _lowest_within(job: Job, area: CellWindow, cell: float, cells: dict[Tile, list[int]]) -> Floats:
    """The lowest point of each cell of an area, whichever tiles it is in."""
    whole = np.full((area.rows, area.columns), np.nan)
    for tile, rectangle in cells.items():
        part = CellWindow(*rectangle)
        west, south = max(area.column, part.column), max(area.row, part.row)
        east = min(area.column + area.columns, part.column + part.columns)
        north = min(area.row + area.rows, part.row + part.rows)
        if west >= east or south >= north:
            continue
        lowest = load(job.at(f"lowest-{cell:g}", tile).with_suffix(".npy"))
        here = whole[south - area.row : north - area.row, west - area.column : east - area.column]
        there = lowest[south - part.row : north - part.row, west - part.column : east - part.column]
        np.fmin(here, there, out=here)
    return whole


def _grown(cells: CellWindow, margin: int) -> CellWindow:
    return CellWindow(cells.column - margin, cells.row - margin, cells.columns + 2 * margin, cells.rows + 2 * margin)


def _thinned(job: Job, xyz: Floats, origin: Indices) -> tuple[Floats, Indices]:
    thin = job.source.thin
    if thin is None or thin.cell is None or len(xyz) == 0:
        return xyz, origin
    numbered = Points(xyz, Shots.of_file("", np.arange(len(xyz))))
    rows = thinned_by_cell([numbered], thin.cell, thin.pick).shots.line_of
    return xyz[rows], origin[rows]


def _one_a_place(xyz: Floats, origin: Indices) -> tuple[Floats, Indices, float]:
    """The lowest point at each place, along a curve, and how far heights at one place lie apart at most."""
    if len(xyz) == 0:
        return xyz, origin, 0.0
    order, starts = distinct_places(np.ascontiguousarray(xyz[:, :2]))
    sizes = np.diff(starts)
    first, apart = order[starts[:-1]], 0.0
    several = np.flatnonzero(sizes > 1)
    if len(several):
        group = np.repeat(several, sizes[several])
        rows = order[np.repeat(sizes > 1, sizes)]
        by_height = np.lexsort((origin[rows, 1], origin[rows, 0], xyz[rows, 2], group))
        bounds = np.append(0, np.cumsum(sizes[several]))
        heights = xyz[rows[by_height], 2]
        first[several] = rows[by_height[bounds[:-1]]]
        apart = float((heights[bounds[1:] - 1] - heights[bounds[:-1]]).max())
    return xyz[first], origin[first], apart
