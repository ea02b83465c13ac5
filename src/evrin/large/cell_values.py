"""Heights, slopes and differences at the middles of cells, tile by tile."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.analysis.terrain.slopes import SlopeUnit, slope_in
from evrin.base.errors import DataError
from evrin.kernels import Floats, Ints
from evrin.large.other_surface import Against
from evrin.large.running.tile_folder import load, once_as, save
from evrin.large.tiles.square_tiles import Tile, Tiling
from evrin.large.tiles.tile_index import Index
from evrin.large.tiles.tile_part import TilePart
from evrin.surface.surface import Surface

_MOST_CELLS_A_TILE = 40_000_000
_MOST_ALONG, _MOST_CELLS = 2**31 - 1, 20_000_000_000


class Wanted(NamedTuple):
    """What is wanted at the middle of each cell.

    Attributes
    ----------
    stage : str
        Where it is kept.
    cell : float
        Side of a cell.
    slope_unit : str
        Slopes in this unit; heights where it is empty.
    against : Against or None
        Heights above this surface instead.
    """

    stage: str
    cell: float
    slope_unit: SlopeUnit | None = None
    against: Against | None = None


class CellsOfTile(NamedTuple):
    """The rectangle of cells with values whose middles lie in a tile.

    Attributes
    ----------
    column, row : int
        Of the cell in the south-west, counted from the origin.
    columns, rows : int
        How many cells there are.
    lowest, highest : float
        Between which all values lie.
    """

    column: int
    row: int
    columns: int
    rows: int
    lowest: float
    highest: float


def check_cell(tiling: Tiling, cell: float) -> None:
    """Refuse an invalid cell size, or one so small that a tile would have too many cells.

    Raises
    ------
    DataError
        With the smallest that will do.
    """
    if not (np.isfinite(cell) and cell > 0.0):
        raise DataError(f"a cell must be larger than 0; it is {cell:g}")
    if not (tiling.size / cell) ** 2 <= _MOST_CELLS_A_TILE:
        least = tiling.size / _MOST_CELLS_A_TILE**0.5
        raise DataError(f"cells of {cell:g} are too many in a tile of {tiling.size:g}; the smallest is {least:.2g}")


def cells_of_tile(index: Index, tile: Tile, wanted: Wanted) -> CellsOfTile:
    """Write what is wanted at the middles of the cells that lie in a tile, as 32-bit numbers, NaN outside."""

    def make() -> CellsOfTile:
        column, row, columns, rows = _rectangle(index.job.tiling, tile, wanted.cell)
        part = index.part(tile)
        single = np.full((rows, columns), np.nan, np.float32)
        if part is not None and single.size:
            single[:] = _values(part, (column + 0.5) * wanted.cell, (row + 0.5) * wanted.cell, wanted, single.shape)
        has_height = np.isfinite(single)
        if not has_height.any():
            return CellsOfTile(column=column, row=row, columns=0, rows=0, lowest=0.0, highest=0.0)
        some_rows, some_columns = (np.flatnonzero(has_height.any(axis=axis)) for axis in (1, 0))
        south, west = int(some_rows[0]), int(some_columns[0])
        held = single[south : int(some_rows[-1]) + 1, west : int(some_columns[-1]) + 1]
        save(_path(index, tile, wanted), np.ascontiguousarray(held))
        ends = float(np.nanmin(held)), float(np.nanmax(held))
        return CellsOfTile(column + west, row + south, held.shape[1], held.shape[0], *ends)

    return once_as(index.job.at(wanted.stage, tile).with_suffix(".json"), CellsOfTile, make)


def values_of(index: Index, tile: Tile, wanted: Wanted) -> Floats:
    """Return what was written (rows, columns), mapped; row 0 is the southernmost."""
    return load(_path(index, tile, wanted))


def _path(index: Index, tile: Tile, wanted: Wanted) -> Path:
    return index.job.at(wanted.stage, tile).with_suffix(".npy")


def _rectangle(tiling: Tiling, tile: Tile, cell: float) -> tuple[int, int, int, int]:
    """Cells whose middles lie in a tile: first column and row, and how many."""
    ends = np.ceil(np.array(tiling.box(tile)) / cell - 0.5).astype(np.int64)
    west, south, east, north = ends.tolist()
    return west, south, east - west, north - south


def _values(part: TilePart, west: float, south: float, wanted: Wanted, shape: tuple[int, ...]) -> Floats:
    rows, columns = shape
    surface, cell = part.surface(), wanted.cell
    if wanted.slope_unit is not None:
        return _steps(surface, wanted.slope_unit).heights_on_grid(west, south, cell, rows, columns)
    heights = surface.heights_on_grid(west, south, cell, rows, columns)
    if wanted.against is None:
        return heights
    beside = wanted.against.within((west, south, west + columns * cell, south + rows * cell))
    if beside is None:
        return np.full(shape, np.nan)
    return heights - beside.heights_on_grid(west, south, cell, rows, columns)


def _steps(surface: Surface, unit: SlopeUnit) -> Surface:
    """A surface that is level over each triangle, at the height that is the triangle's slope."""
    vertices = surface.vertices[surface.triangles].reshape(-1, 3).copy()
    vertices[:, 2] = np.repeat(slope_in(surface.triangle_slopes, unit), 3)
    corners: Ints = np.arange(len(vertices), dtype=np.int32).reshape(-1, 3)
    return Surface(vertices, corners, np.full(corners.shape, -1, np.int32))


def check_extent(cells: CellsOfTile) -> None:
    """Refuse a grid longer or higher than a file can hold."""
    along, count = max(cells.columns, cells.rows), cells.columns * cells.rows
    if along > _MOST_ALONG or count > _MOST_CELLS:
        raise DataError(f"{cells.columns:,} by {cells.rows:,} cells are too many; use a larger cell")
