"""GeoTIFF written some rows at a time: cloud-optimised, with overviews, in memory that does not grow with it.

Reference: Open Geospatial Consortium (2023), *OGC Cloud Optimized GeoTIFF Standard*, 21-026.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from evrin.base.errors import DataError
from evrin.base.files import beside
from evrin.base.wording import one_line
from evrin.base.written_files import check_companions
from evrin.formats.door.format_registry import package
from evrin.formats.door.reference_systems import writable

Cells = NDArray[np.float32]
ROWS = 512
_MEGABYTES = 64
NO_DATA = (-9999.0, -99999.0, -999999.0, -9999999.0)
# What a reader of a TIFF would take for part of it.
COMPANIONS = (".tif.aux.xml", ".tiff.aux.xml", ".tfw", ".tifw", ".wld")


class GridShape(NamedTuple):
    """Where a grid lies and what it holds.

    Attributes
    ----------
    name, units, crs : str
        As those of a surface.
    west, north : float
        Its corner.
    cell : float
        Side of a cell.
    columns, rows : int
        How many cells there are.
    lowest, highest : float
        Between which all values lie.
    describes : str
        What a value is.
    value_units : str
        Unit of the values.
    """

    name: str
    units: str
    crs: str
    west: float
    north: float
    cell: float
    columns: int
    rows: int
    lowest: float
    highest: float
    describes: str
    value_units: str


def write_in_rows(path: Path, grid: GridShape, rows_of: Callable[[int, int], Cells]) -> None:
    """Write a grid as a cloud-optimised GeoTIFF of 32-bit numbers, compressed without loss.

    Parameters
    ----------
    path : Path
        The file.
    grid : GridShape
        Where it lies.
    rows_of : callable
        Takes a row, counted from the north, and the one after the last, and returns them (k, columns); NaN for none.
        Is called twice for each: what was written is read back.

    Raises
    ------
    DataError
        Where the file does not read back as written.
    """
    rasterio, copy = package("rasterio"), package("rasterio.shutil").copy
    check_companions(path, COMPANIONS)
    empty = next(value for value in NO_DATA if not grid.lowest <= value <= grid.highest)
    # A grid of one block is a plain picture to the driver; GDAL's cache would grow with the machine.
    with beside(path) as target, rasterio.Env(GDAL_CACHEMAX=_MEGABYTES):
        plain = target.with_name("plain.tif")
        with rasterio.open(plain, "w", **_settings(grid, empty)) as out:
            out.update_tags(NAME=one_line(grid.name), UNITS=grid.units)
            out.units = (grid.value_units,)
            out.set_band_description(1, grid.describes)
            for first, values in _strips(grid, rows_of, empty):
                out.write(values, 1, window=((first, first + len(values)), (0, grid.columns)))
        copy(
            plain,
            target,
            driver="COG",
            COMPRESS="DEFLATE",
            PREDICTOR="FLOATING_POINT",
            BLOCKSIZE=str(ROWS),
            OVERVIEW_RESAMPLING="AVERAGE",
            BIGTIFF="IF_SAFER",
        )
        plain.unlink()
        with rasterio.open(target) as back:
            for first, values in _strips(grid, rows_of, empty):
                read_back = back.read(1, window=((first, first + len(values)), (0, grid.columns)))
                if not np.array_equal(read_back, values):
                    raise DataError("cannot be written: it does not read back as written. Is the disk full?")


def _settings(grid: GridShape, empty: float) -> dict[str, object]:
    return {
        "driver": "GTiff",
        "height": grid.rows,
        "width": grid.columns,
        "count": 1,
        "dtype": "float32",
        "crs": writable(grid.crs),
        "transform": package("rasterio").transform.Affine(grid.cell, 0.0, grid.west, 0.0, -grid.cell, grid.north),
        "nodata": empty,
        "tiled": True,
        "blockxsize": ROWS,
        "blockysize": ROWS,
        "BIGTIFF": "IF_SAFER",
    }


def _strips(grid: GridShape, rows_of: Callable[[int, int], Cells], empty: float) -> Iterator[tuple[int, Cells]]:
    for first in range(0, grid.rows, ROWS):
        values = rows_of(first, min(first + ROWS, grid.rows))
        yield first, np.where(np.isnan(values), np.float32(empty), values)
