"""What is made of a surface kept in tiles: contours, grids of heights, slopes and differences, volumes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.analysis.contours.contour_lines import Contours, levels_within, multiples, usual_index
from evrin.analysis.terrain.slopes import SlopeUnit
from evrin.base.errors import DataError
from evrin.formats.door.writers import check_writable
from evrin.formats.gis.gis_files import write_contours_in_parts
from evrin.formats.sampled.grid_windows import Cells, GridShape, write_in_rows
from evrin.kernels import Floats
from evrin.large.cell_values import CellsOfTile, Wanted, cells_of_tile, check_cell, check_extent, values_of
from evrin.large.contour_pieces import join_level, lines_of, trace_tile
from evrin.large.other_surface import Against
from evrin.large.running.engine import Engine
from evrin.large.running.tile_folder import name_of
from evrin.large.tile_volumes import TotalVolume, total, volume_of_tile
from evrin.large.tiled_surface import TiledSurface
from evrin.large.tiles.square_tiles import Tile


class Levels(NamedTuple):
    """Which contours are drawn.

    Attributes
    ----------
    interval : float
        Height between contours.
    every : float or None
        Interval of index contours.
    base : float
        A level from which intervals are counted.

    Examples
    --------
    >>> from evrin.large import Levels
    >>> Levels(0.5).base
    0.0
    """

    interval: float
    every: float | None = None
    base: float = 0.0


def check_contours_writable(path: Path, interval: float, every: float | None = None) -> None:
    """Refuse contours that cannot be written, before work begins.

    Raises
    ------
    DataError
        For an ending, a folder or an interval that will not do.
    """
    if path.suffix.lower() != ".gpkg":
        raise DataError(f"{path}: contours of tiles are written as GeoPackage; end its name in .gpkg")
    check_writable(path, contours=True)
    levels_within(0.0, 0.0, interval)
    if every is not None and not every > 0.0:
        raise DataError(f"the index interval must be above 0; it is {every:g}")


def check_grid_writable(path: Path, cell: float) -> None:
    """Refuse a grid that cannot be written, before work begins.

    Raises
    ------
    DataError
        For an ending, a folder or a cell that will not do.
    """
    if path.suffix.lower() not in (".tif", ".tiff"):
        raise DataError(f"{path}: grids of tiles are written as GeoTIFF; end its name in .tif")
    check_writable(path, cell=cell)
    if not (np.isfinite(cell) and cell > 0.0):
        raise DataError(f"a cell must be larger than 0; it is {cell:g}")


def write_contours(surface: TiledSurface, engine: Engine, path: Path, levels: Levels) -> int:
    """Write contours, joined across tiles, as a GeoPackage; return how many lines.

    Parameters
    ----------
    surface : TiledSurface
        The surface in tiles.
    engine : Engine
        What hands the tiles to workers.
    path : Path
        Ends in ``.gpkg``.
    levels : Levels
        Which contours are drawn.

    Returns
    -------
    int

    Raises
    ------
    DataError
        If the extension is another, or the levels are not valid.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import Levels, tiled, workers, write_contours
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     write_contours(field, crew, path.with_name("contours.gpkg"), Levels(0.1))
    5
    """
    check_contours_writable(path, levels.interval, levels.every)
    heights = levels_within(*surface.heights, levels.interval, levels.base)
    stage = _stage("contours", surface, heights.tolist())
    calls = [(surface.index.of_tile(tile), tile, heights, stage) for tile in surface.tiles]
    traced = engine.run("contours", trace_tile, calls)
    pieces: dict[int, list[tuple[Tile, int, int]]] = {}
    for tile, rows in zip(surface.tiles, traced, strict=True):
        for level, first, last in rows:
            pieces.setdefault(level, []).append((tile, first, last))
    bare = surface.index.of_tile((0, 0))
    joins = [(bare, stage, level, pieces[level]) for level in sorted(pieces)]
    counts = engine.run("join contours", join_level, joins)
    write_contours_in_parts(path, _by_level(surface, engine, stage, sorted(pieces), heights, levels))
    return sum(counts)


def _by_level(
    surface: TiledSurface, engine: Engine, stage: str, pieces: list[int], heights: Floats, levels: Levels
) -> Iterator[Contours]:
    frame = surface.job.frame
    step = levels.every if levels.every is not None else usual_index(levels.interval)
    is_index = multiples(heights - levels.base, step)
    for done, level in enumerate(pieces):
        engine.report("write contours", done, len(pieces))
        points, starts = lines_of(surface.index, stage, level)
        yield Contours(
            levels=heights[level : level + 1],
            points=np.asarray(points),
            starts=np.asarray(starts),
            level_of=np.zeros(len(starts) - 1, np.int32),
            is_index=is_index[level : level + 1],
            units=frame.units,
            crs=frame.crs,
            interval=levels.interval,
        )
    engine.report("write contours", len(pieces), len(pieces))


def write_heights(surface: TiledSurface, engine: Engine, path: Path, cell: float) -> CellsOfTile:
    """Write heights at the middles of cells as a cloud-optimised GeoTIFF; return which cells, and between which ends.

    Parameters
    ----------
    surface : TiledSurface
        The surface in tiles.
    engine : Engine
        What hands the tiles to workers.
    path : Path
        Ends in ``.tif``.
    cell : float
        Side of a cell.

    Returns
    -------
    CellsOfTile
        Of all tiles together.

    Raises
    ------
    DataError
        If the cell size is invalid or too small, or the extension is another.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import tiled, workers, write_heights
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     cells = write_heights(field, crew, path.with_name("heights.tif"), 2.0)
    >>> cells.columns, cells.rows
    (10, 10)
    """
    wanted = Wanted(_stage("heights", surface, cell), cell)
    return _write_cells(surface, engine, path, wanted, "height", surface.job.frame.units)


def write_slopes(
    surface: TiledSurface, engine: Engine, path: Path, cell: float, unit: SlopeUnit = "percent"
) -> CellsOfTile:
    """Write the slope of the triangle at the middle of each cell; see `write_heights`.

    Parameters
    ----------
    surface : TiledSurface
        The surface in tiles.
    engine : Engine
        What hands the tiles to workers.
    path : Path
        The file (.tif).
    cell : float
        Side of a cell.
    unit : {"percent", "degrees", "ratio"}
        Unit of slopes.

    Returns
    -------
    CellsOfTile

    Raises
    ------
    DataError
        For ``one_in``: level ground has no run for a rise of 1.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import tiled, workers, write_slopes
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     cells = write_slopes(field, crew, path.with_name("slopes.tif"), 2.0)
    >>> round(cells.lowest, 2)
    2.24
    """
    if unit == "one_in":
        raise DataError("slopes in a grid are in percent, degrees or ratio: level ground has no run for a rise of 1")
    wanted = Wanted(_stage("slopes", surface, cell, unit), cell, unit)
    return _write_cells(surface, engine, path, wanted, "slope", unit)


def write_differences(surface: TiledSurface, engine: Engine, path: Path, cell: float, base: Against) -> CellsOfTile:
    """Write how high the surface lies above another at the middle of each cell; see `write_heights`.

    Parameters
    ----------
    surface : TiledSurface
        The surface in tiles.
    engine : Engine
        What hands the tiles to workers.
    path : Path
        The file (.tif).
    cell : float
        Side of a cell.
    base : Against
        The surface to compare with.

    Returns
    -------
    CellsOfTile

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import against, tiled, workers, write_differences
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     itself = against(field, field)
    ...     cells = write_differences(field, crew, path.with_name("differences.tif"), 2.0, itself)
    >>> cells.lowest, cells.highest
    (0.0, 0.0)
    """
    wanted = Wanted(_stage("differences", surface, cell, base.digest), cell, None, base)
    units = surface.job.frame.units
    return _write_cells(surface, engine, path, wanted, f"height above {base.name}", units)


def _write_cells(
    surface: TiledSurface, engine: Engine, path: Path, wanted: Wanted, describes: str, units: str
) -> CellsOfTile:
    check_grid_writable(path, wanted.cell)
    check_cell(surface.job.tiling, wanted.cell)
    calls = [(surface.index.of_tile(tile), tile, wanted) for tile in surface.tiles]
    descriptions = dict(zip(surface.tiles, engine.run(describes, cells_of_tile, calls), strict=True))
    with_cells = {tile: cells for tile, cells in descriptions.items() if cells.columns}
    if not with_cells:
        raise DataError(f"{path}: there is nothing to write: no middle of a cell has a {describes}")
    whole = _around(list(with_cells.values()))
    check_extent(whole)
    frame, cell = surface.job.frame, wanted.cell
    shape = GridShape(
        name=surface.name,
        units=frame.units,
        crs=frame.crs,
        west=whole.column * cell,
        north=(whole.row + whole.rows) * cell,
        cell=cell,
        columns=whole.columns,
        rows=whole.rows,
        lowest=whole.lowest,
        highest=whole.highest,
        describes=f"{describes} ({units})",
        value_units=units,
    )

    def rows_of(first: int, stop: int) -> Cells:
        engine.report(f"write {path.name}", first, whole.rows)
        values = np.full((stop - first, whole.columns), np.nan, np.float32)
        top = whole.row + whole.rows - first
        for tile, cells in with_cells.items():
            low, high = max(cells.row, top - len(values)), min(cells.row + cells.rows, top)
            if low < high:
                part = values_of(surface.index, tile, wanted)[low - cells.row : high - cells.row]
                left = cells.column - whole.column
                values[top - high : top - low, left : left + cells.columns] = part[::-1]
        return values

    write_in_rows(path, shape, rows_of)
    engine.report(f"write {path.name}", whole.rows, whole.rows)
    return whole


def _around(cells: list[CellsOfTile]) -> CellsOfTile:
    """All cells from the first to the last that has a value in any tile."""
    column, row = min(each.column for each in cells), min(each.row for each in cells)
    east, north = max(each.column + each.columns for each in cells), max(each.row + each.rows for each in cells)
    lowest, highest = min(each.lowest for each in cells), max(each.highest for each in cells)
    return CellsOfTile(column=column, row=row, columns=east - column, rows=north - row, lowest=lowest, highest=highest)


def volume_against(surface: TiledSurface, engine: Engine, base: Against) -> TotalVolume:
    """Return cut and fill between a surface that another is compared with and this one, where both are.

    The sum of exact volumes over the triangles of each tile.

    Parameters
    ----------
    surface : TiledSurface
        The surface in tiles.
    engine : Engine
        What hands the tiles to workers.
    base : Against
        The surface to compare with.

    Returns
    -------
    TotalVolume

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import against, tiled, volume_against, workers
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     volume_against(field, crew, against(field, field)).net
    0.0
    """
    stage = _stage("volumes", surface, base.digest)
    calls = [(surface.index.of_tile(tile), tile, base, stage) for tile in surface.tiles]
    return total(engine.run("volumes", volume_of_tile, calls))


def _stage(name: str, surface: TiledSurface, *parts: object) -> str:
    return f"{name}-{name_of(surface.digest, parts)}"
