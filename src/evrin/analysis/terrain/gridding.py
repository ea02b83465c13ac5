"""Heights on a grid, off the triangles or by natural neighbours."""

from __future__ import annotations

from typing import Literal

import numpy as np

from evrin.analysis.terrain.natural_heights import natural_heights
from evrin.base.errors import DataError
from evrin.surface.grid import Grid
from evrin.surface.surface import Surface

_MOST_CELLS = 200_000_000


def gridded(surface: Surface, cell: float, method: Literal["linear", "natural"] = "linear") -> Grid:
    """Return heights at the middles of square cells whose edges are whole multiples of their size.

    See `Surface.gridded`.
    """
    if not cell > 0.0:
        raise DataError(f"a cell must be larger than 0; it is {cell:g}")
    west, south, east, north = surface.extent
    first_column, first_row = np.floor(west / cell), np.floor(south / cell)
    columns, rows = int(np.ceil(east / cell) - first_column), int(np.ceil(north / cell) - first_row)
    if columns * rows > _MOST_CELLS:
        raise DataError(f"{columns:,} by {rows:,} cells are too many; use a larger cell")
    left, low = float((first_column + 0.5) * cell), float((first_row + 0.5) * cell)
    heights = surface.heights_on_grid(left, low, cell, max(rows, 1), max(columns, 1))
    if method == "natural":
        inside = np.isfinite(heights)
        at_row, at_column = np.nonzero(inside)
        places = np.column_stack((left + cell * at_column, low + cell * at_row))
        smooth = natural_heights(surface, places)
        heights[inside] = np.where(np.isfinite(smooth), smooth, heights[inside])
    elif method != "linear":
        raise DataError(f"method must be linear or natural; it is {method!r}")
    return Grid(
        name=surface.name,
        west=left,
        south=low,
        step_east=cell,
        step_north=cell,
        heights=heights,
        units=surface.units,
        crs=surface.crs,
    )
