"""Surfaces, contours and grids as objects of geopandas and xarray, and points in from them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from evrin.analysis import Contours
from evrin.errors import DataError
from evrin.formats.reference import writable
from evrin.formats.registry import package
from evrin.kernels import Floats
from evrin.surface import Grid, Surface

if TYPE_CHECKING:
    import pandas as pd

_NAMES = (
    ("easting", "east", "x", "e"),
    ("northing", "north", "y", "n"),
    ("height", "elevation", "z", "h", "elev", "level"),
)


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


def places_in(frame: pd.DataFrame) -> Floats:
    """Return places (n, 3) from a DataFrame with columns such as ``easting, northing, height``, or a GeoDataFrame.

    Parameters
    ----------
    frame : DataFrame or GeoDataFrame

    Returns
    -------
    (n, 3) float64

    Raises
    ------
    DataError
        Where a column is missing, a geometry is not a point with a height, or places are longitudes and latitudes.

    Examples
    --------
    >>> import pandas as pd
    >>> places_in(pd.DataFrame({"x": [1.0], "y": [2.0], "z": [3.0]})).tolist()
    [[1.0, 2.0, 3.0]]
    """
    if getattr(frame, "geometry", None) is not None and hasattr(frame, "crs"):
        return _places_of_points(frame)
    lower = {str(name).lower(): name for name in frame.columns}
    found = [next((lower[name] for name in names if name in lower), None) for names in _NAMES]
    missing = [names[0] for names, column in zip(_NAMES, found, strict=True) if column is None]
    if missing:
        known = ", ".join(map(str, frame.columns))
        raise DataError(f"no column for {' and '.join(missing)}. Name them easting, northing, height; found {known}")
    return np.column_stack([frame[column].to_numpy(np.float64) for column in found])


def _places_of_points(frame: Any) -> Floats:
    shapely = package("shapely")
    shapes = np.asarray(frame.geometry.values, object)
    if not (shapely.get_type_id(shapes) == 0).all() or not shapely.has_z(shapes).all():
        raise DataError("every geometry must be a point with a height (Point Z)")
    if frame.crs is not None and frame.crs.is_geographic:
        raise DataError("places are longitudes and latitudes. Take frame.to_crs of a plane system first")
    places: Floats = shapely.get_coordinates(shapes, include_z=True)
    return places
