"""`Grid`: heights at the middles of cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import xarray


@dataclass(frozen=True, eq=False)
class Grid:
    """Heights at the middles of square or oblong cells.

    Attributes
    ----------
    name : str
        What it is called.
    west, south : float
        Middle of the south-western cell.
    step_east, step_north : float
        Distance between the middles of cells.
    heights : (rows, columns) float64
        Row 0 southernmost, NaN where there is no data.
    units, crs : str
        Unit of all lengths, and reference system.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> grid = field.gridded(4.0)
    >>> grid.heights.round(2).tolist()
    [[1.25, 1.25], [1.75, 1.75]]
    """

    name: str
    west: float
    south: float
    step_east: float
    step_north: float
    heights: Floats
    units: str = "m"
    crs: str = "local"

    def to_xarray(self) -> xarray.DataArray:
        """Return the grid as an xarray DataArray with coordinates ``northing`` and ``easting``.

        Returns
        -------
        DataArray

        Raises
        ------
        MissingPackageError
            If xarray is not installed.
        """
        from evrin.formats.gis.geo_frames import grid_array

        return grid_array(self)

    @property
    def has_height(self) -> Flags:
        """(rows, columns) bool: cells with data."""
        return np.isfinite(self.heights)

    def points(self) -> tuple[Floats, np.ndarray]:
        """Return the middles of cells with data as (n, 3), and the number of each cell, from the south-west by rows.

        Returns
        -------
        points : (n, 3) float64
        cells : (n,) int64
        """
        rows, columns = np.nonzero(self.has_height)
        x, y = self.west + self.step_east * columns, self.south + self.step_north * rows
        return np.column_stack((x, y, self.heights[rows, columns])), rows * self.heights.shape[1] + columns

    def surface(self) -> Surface:
        """Return each four neighbouring cells with data as two triangles.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            Where no four neighbouring cells have data.
        """
        valid = self.has_height
        number = np.full(valid.shape, -1, np.int64)
        number[valid] = np.arange(int(valid.sum()))
        a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
        whole = (a >= 0) & (b >= 0) & (c >= 0) & (d >= 0)
        if not whole.any():
            raise DataError(f"{self.name}: no four neighbouring cells of the grid have data, so there is no surface")
        a, b, c, d = (corner[whole] for corner in (a, b, c, d))
        triangles = np.concatenate((np.column_stack((a, b, c)), np.column_stack((a, c, d))))
        return Surface.from_arrays(self.points()[0], triangles, name=self.name, units=self.units, crs=self.crs)
