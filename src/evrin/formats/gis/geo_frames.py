"""Surfaces, contours and grids as objects of geopandas and xarray, and points in from them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.formats.door.format_registry import package
from evrin.formats.door.reference_systems import writable
from evrin.surface.grid import Grid
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    pass


def triangle_frame(surface: Surface) -> Any:
    """Return a surface as a GeoDataFrame: a polygon with heights for each triangle.

    Raises
    ------
    MissingPackageError
        Where geopandas or shapely is not installed.
    """
    shapely = package("shapely")
    corners = surface.vertices[surface.triangles]
    rings = np.concatenate((corners, corners[:, :1]), axis=1)
    columns = {"plan_area": surface.triangle_areas, "slope": surface.triangle_slopes}
    return _frame(columns, shapely.polygons(rings), surface.crs)


def contour_frame(contours: Contours) -> Any:
    """Return contours as a GeoDataFrame: a line with heights for each, its level, and whether it is an index contour.

    Raises
    ------
    MissingPackageError
        Where geopandas or shapely is not installed.
    """
    shapely = package("shapely")
    lines = [np.column_stack((line.points, np.full(len(line.points), line.level))) for line in contours]
    columns = {"level": [line.level for line in contours], "index": [line.is_index for line in contours]}
    return _frame(columns, [shapely.linestrings(line) for line in lines], contours.crs)


def _frame(columns: dict[str, Any], shapes: Any, crs: str) -> Any:
    known = writable(crs)
    return package("geopandas").GeoDataFrame(columns, geometry=shapes, crs=known)


def grid_array(grid: Grid) -> Any:
    """Return a grid as an xarray DataArray with coordinates ``northing`` and ``easting``.

    Raises
    ------
    MissingPackageError
        Where xarray is not installed.
    """
    rows, columns = grid.heights.shape
    north, east = grid.south + grid.step_north * np.arange(rows), grid.west + grid.step_east * np.arange(columns)
    coordinates = {"northing": north, "easting": east}
    facts = {"units": grid.units, "crs": grid.crs}
    array = package("xarray").DataArray
    return array(grid.heights, coords=coordinates, dims=("northing", "easting"), name="height", attrs=facts)
