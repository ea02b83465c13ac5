"""GeoTIFF and ASCII grid, through GDAL's raster drivers: heights at the middles of cells."""

from __future__ import annotations

import warnings
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from evrin.base.errors import DataError
from evrin.base.files import beside, head_of, whole_text_file
from evrin.base.tolerances import METRES
from evrin.base.wording import counted, one_line
from evrin.base.written_files import check_companions
from evrin.formats.door.format_registry import Format, How, begins_with, package, register
from evrin.formats.door.reference_systems import stated_system, writable
from evrin.formats.sampled.grid_windows import COMPANIONS, NO_DATA
from evrin.kernels import Floats
from evrin.surface.frame import UNSTATED, Stated
from evrin.surface.grid import Grid
from evrin.survey.contents import Contents

_MOST_CELLS = 200_000_000
_ALWAYS_READ, _MOST_CELLS_A_BYTE = 4_000_000, 500
_UNITS = {
    **dict.fromkeys(("m", "metre", "metres", "meter", "meters"), "m"),
    **dict.fromkeys(("ft", "foot", "feet", "international foot"), "ft"),
    **dict.fromkeys(("ftus", "us-ft", "us survey foot", "us survey feet", "foot us", "ft us"), "ftUS"),
    **{"mm": "mm", "millimetre": "mm", "millimeter": "mm", "cm": "cm", "centimetre": "cm", "centimeter": "cm"},
    **{"dm": "dm", "decimetre": "dm", "decimeter": "dm", "km": "km", "kilometre": "km", "kilometer": "km"},
}
_is_ascii = begins_with(b"ncols", b"NCOLS")


def read(path: Path, how: How) -> Contents:
    """Read the first band as heights; cells of no data stay empty.

    Raises
    ------
    DataError
        For a grid that is turned, has no place, or claims more cells than can be held.
    """
    rasterio = package("rasterio")
    # Heights as text keep all their digits only if they are read as double precision.
    options = {"DATATYPE": "Float64"} if _is_ascii(head_of(path)[0], 0) else {}
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
        with rasterio.Env(GTIFF_REPORT_COMPD_CS=True), rasterio.open(path, **options) as source:
            shape = source.transform
            if source.width * source.height > _MOST_CELLS:
                raise DataError(f"{path}: {source.width:,} by {source.height:,} cells are too many; cut it into sheets")
            if shape.is_identity or shape.b or shape.d or shape.a <= 0.0:
                raise DataError(f"{path}: the grid is turned or has no place; give it one north-up")
            _check_claim(path, source.width * source.height)
            _check_bands(path, source)
            heights = source.read(1, out_dtype="float64")
            heights[source.read_masks(1) == 0] = np.nan
            notes = _scaled(heights, source)
            system = stated_system(package("pyproj").CRS.from_wkt(source.crs.to_wkt())) if source.crs else UNSTATED
            stated, band_unit = source.tags(), _unit(source.units[0])
    step_north = abs(shape.e)
    north = shape.f + shape.e / 2.0
    if shape.e < 0.0:
        heights = heights[::-1]
        north -= step_north * (len(heights) - 1)
    heights[np.abs(heights) > 1e12] = np.nan
    units = _unit(stated.get("UNITS")) or system.units
    height_units = band_unit or _unit(stated.get("UNITS")) or system.height_units
    name = stated.get("NAME", "") or path.stem
    grid = Grid(
        name=name,
        west=shape.c + shape.a / 2.0,
        south=north,
        step_east=shape.a,
        step_north=step_north,
        heights=np.ascontiguousarray(heights),
    )
    # A grid is in what it states.
    grid = replace(grid, units=units if units in METRES else "m", crs=system.crs or "local")
    form = "ASCII grid" if options else "GeoTIFF"
    return Contents(path.name, form, grids=(grid,), notes=notes, stated=Stated(units, height_units, system.crs))


def _check_bands(path: Path, source: Any) -> None:
    """Refuse a picture: its colours are not heights."""
    colours = {"red", "green", "blue", "cyan", "magenta", "yellow", "hue", "palette"}
    meant = [each.name for each in source.colorinterp]
    is_picture = source.count >= 3 and set(source.dtypes[:3]) == {"uint8"}
    if colours & set(meant) or is_picture:
        bands = counted(source.count, "band")
        raise DataError(f"{path}: a picture of {bands} ({', '.join(meant)}), not heights. Read the grid of heights")


def _scaled(heights: Floats, source: Any) -> tuple[str, ...]:
    """Apply the scale and offset that the band states, in place."""
    scale, offset = float(source.scales[0]), float(source.offsets[0])
    notes = [f"band 1 of {source.count} read"] if source.count > 1 else []
    if (scale, offset) != (1.0, 0.0) and np.isfinite([scale, offset]).all() and scale != 0.0:
        heights *= scale
        heights += offset
        notes.append(f"heights multiplied by {scale:g} and raised by {offset:g}, as the band states")
    return tuple(notes)


def _unit(stated: str | None) -> str:
    return _UNITS.get((stated or "").strip().lower().replace("_", " "), "")


def _check_claim(path: Path, cells: int) -> None:
    """Refuse a grid of far more cells than its file can hold."""
    size = path.stat().st_size
    if cells > max(_ALWAYS_READ, _MOST_CELLS_A_BYTE * size):
        raise DataError(
            f"{path}: it claims {cells:,} cells, and has {size:,} bytes: nearly all of them must be empty. Cut out the "
            "part with heights"
        )


def write_geotiff(path: Path, grid: Grid) -> None:
    """Write heights as 64-bit numbers, compressed without loss."""
    rasterio = package("rasterio")
    check_companions(path, COMPANIONS)
    empty = _empty_value(grid)
    rows, columns = grid.heights.shape
    north = grid.south + grid.step_north * (rows - 0.5)
    west = grid.west - grid.step_east / 2.0
    shape = rasterio.transform.Affine(grid.step_east, 0.0, west, 0.0, -grid.step_north, north)
    heights = np.where(grid.has_height, grid.heights, empty)[::-1]
    with beside(path) as target:
        with rasterio.open(
            target,
            "w",
            driver="GTiff",
            height=rows,
            width=columns,
            count=1,
            dtype="float64",
            crs=writable(grid.crs),
            transform=shape,
            nodata=empty,
            compress="deflate",
            predictor=3,
        ) as out:
            out.update_tags(NAME=one_line(grid.name), UNITS=grid.units)
            out.units = (grid.units,)
            out.set_band_description(1, f"height ({grid.units})")
            out.write(heights, 1)
        # On a full disk the package that writes reports nothing.
        with rasterio.open(target) as back:
            if not np.array_equal(back.read(1), heights, equal_nan=True):
                raise DataError(
                    f"{path}: cannot be written: it does not read back as written. Check whether the disk is full"
                )


def write_ascii(path: Path, grid: Grid) -> None:
    """Write heights to the last digit, rows from the north; a reference system is written to a file beside it.

    Raises
    ------
    DataError
        Where cells are not square, which the format has no place for, or a file beside it would be taken for its
        reference system.
    """
    if not np.isclose(grid.step_east, grid.step_north, rtol=1e-9):
        raise DataError(f"{path}: an ASCII grid has square cells; these are {grid.step_east} by {grid.step_north}")
    rows, columns = grid.heights.shape
    empty = _empty_value(grid)
    beside_it = path.with_suffix(".prj")
    has_system = writable(grid.crs) is not None
    check_companions(path, (".asc.aux.xml",) if has_system else (".asc.aux.xml", ".prj"))
    if has_system:
        with whole_text_file(beside_it) as stream:
            stream.write(package("pyproj").CRS.from_user_input(grid.crs).to_wkt("WKT1_ESRI"))
    with whole_text_file(path) as stream:
        stream.write(f"ncols {columns}\nnrows {rows}\n")
        stream.write(f"xllcenter {grid.west!r}\nyllcenter {grid.south!r}\n")
        stream.write(f"cellsize {grid.step_east!r}\nNODATA_value {empty!r}\n")
        np.savetxt(stream, np.where(grid.has_height, grid.heights, empty)[::-1], fmt="%s")


def _empty_value(grid: Grid) -> float:
    """A number for places without a height that no height is."""
    return next(value for value in NO_DATA if not (grid.heights == value).any())


register(
    Format(
        "GeoTIFF",
        (".tif", ".tiff"),
        begins_with(b"II*\x00", b"MM\x00*", b"II+\x00", b"MM\x00+"),
        read,
        write_grid=write_geotiff,
        packages=("rasterio",),
    )
)
register(Format("ASCII grid", (".asc",), _is_ascii, read, write_grid=write_ascii))
