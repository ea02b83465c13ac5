"""Surfaces, contours and grids as objects of geopandas and xarray, and points in from them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.formats.door.format_registry import package
from evrin.formats.door.reference_systems import writable
from evrin.surface.grid import Grid
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import geopandas
    import xarray


def triangle_frame(surface: Surface) -> geopandas.GeoDataFrame:
    """Return a surface as a GeoDataFrame: a polygon with heights for each triangle: `Surface.to_geodataframe`."""
    shapely = package("shapely")
    corners = surface.vertices[surface.triangles]
    rings = np.concatenate((corners, corners[:, :1]), axis=1)
    columns = {"plan_area": surface.triangle_areas, "slope": surface.triangle_slopes}
    return _frame(columns, shapely.polygons(rings), surface.crs)


def contour_frame(contours: Contours) -> geopandas.GeoDataFrame:
    """Return contours as a GeoDataFrame: a line with heights for each, its level, and whether it is an index contour.

    See `Contours.to_geodataframe`.
    """
    shapely = package("shapely")
    lines = [np.column_stack((line.points, np.full(len(line.points), line.level))) for line in contours]
    columns = {"level": [line.level for line in contours], "index": [line.is_index for line in contours]}
    return _frame(columns, [shapely.linestrings(line) for line in lines], contours.crs)


def _frame(columns: Mapping[str, object], shapes: object, crs: str) -> geopandas.GeoDataFrame:
    system = writable(crs)
    return package("geopandas").GeoDataFrame(columns, geometry=shapes, crs=system)


def grid_array(grid: Grid) -> xarray.DataArray:
    """Return a grid as an xarray DataArray with coordinates ``northing`` and ``easting``: `Grid.to_xarray`."""
    rows, columns = grid.heights.shape
    north, east = grid.south + grid.step_north * np.arange(rows), grid.west + grid.step_east * np.arange(columns)
    coordinates = {"northing": north, "easting": east}
    facts = {"units": grid.units, "crs": grid.crs}
    array: xarray.DataArray = package("xarray").DataArray(
        grid.heights, coords=coordinates, dims=("northing", "easting"), name="height", attrs=facts
    )
    return array
