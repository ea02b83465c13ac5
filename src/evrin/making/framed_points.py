"""Points out of a DataFrame or a GeoDataFrame."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats

if TYPE_CHECKING:
    import geopandas
    import pandas as pd

_NAMES = (
    ("easting", "east", "x", "e"),
    ("northing", "north", "y", "n"),
    ("height", "elevation", "z", "h", "elev", "level"),
)


def places_in(frame: pd.DataFrame) -> Floats:
    """Return places (n, 3) from a DataFrame with columns such as ``easting, northing, height``, or a GeoDataFrame.

    Parameters
    ----------
    frame : DataFrame or GeoDataFrame
        A row for each point.

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
        return _places_of_points(cast("geopandas.GeoDataFrame", frame))
    lower = {str(name).lower(): name for name in frame.columns}
    columns = [next((lower[name] for name in names if name in lower), None) for names in _NAMES]
    missing = [names[0] for names, column in zip(_NAMES, columns, strict=True) if column is None]
    if missing:
        headings = ", ".join(map(str, frame.columns))
        raise DataError(f"no column for {' and '.join(missing)}. Name them easting, northing, height; found {headings}")
    return np.column_stack([frame[column].to_numpy(np.float64) for column in columns])


def _places_of_points(frame: geopandas.GeoDataFrame) -> Floats:
    shapes = frame.geometry
    if not (shapes.geom_type == "Point").all() or not shapes.has_z.all():
        raise DataError("every geometry must be a point with a height (Point Z)")
    if frame.crs is not None and frame.crs.is_geographic:
        raise DataError("places are longitudes and latitudes. Take frame.to_crs of a plane system first")
    return np.ascontiguousarray(shapes.get_coordinates(include_z=True), np.float64)
