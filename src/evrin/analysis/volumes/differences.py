"""How far one surface lies above another, place by place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from evrin.base.tolerances import CHANGED
from evrin.kernels import Floats
from evrin.surface.frame import check_same_frame
from evrin.surface.surface import Surface

_NODES = 250_000


@dataclass(frozen=True, eq=False)
class Difference:
    """Heights of one surface above another.

    Attributes
    ----------
    west, south, step : float
        Where the grid of nodes begins, and how far apart they are.
    grid : (rows, columns) float64
        By node, row 0 southernmost; NaN where either surface is missing.
    largest : (float, float, float)
        The largest difference found, at nodes and at the vertices of both, and its easting and northing.
    only_first, only_second : float
        Area, by nodes, that only one of the two covers.
    units : str
        Unit of all lengths.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> field.difference(field).mean
    0.0
    """

    west: float
    south: float
    step: float
    grid: Floats
    largest: tuple[float, float, float]
    only_first: float
    only_second: float
    units: str

    @property
    def mean(self) -> float:
        """Mean over the nodes that both cover; NaN where there are none."""
        return float(np.nanmean(self.grid)) if np.isfinite(self.grid).any() else float("nan")

    @property
    def rms(self) -> float:
        """Root mean square over the nodes that both cover."""
        return float(np.sqrt(np.nanmean(self.grid**2))) if np.isfinite(self.grid).any() else float("nan")

    @property
    def changed_area(self) -> float:
        """Area, by nodes, where the two differ by more than a millimetre."""
        return float((np.abs(np.nan_to_num(self.grid)) > CHANGED.in_units(self.units)).sum() * self.step**2)


def difference(first: Surface, second: Surface, nodes: int = _NODES) -> Difference:
    """Return how far *second* lies above *first*: `Surface.difference`."""
    check_same_frame({"the first surface": first.frame, "the second": second.frame})
    extents = np.array([first.extent, second.extent])
    (west, south), (east, north) = extents[:, :2].max(axis=0), extents[:, 2:].min(axis=0)
    if not (east > west and north > south):
        (west, south), (east, north) = extents[:, :2].min(axis=0), extents[:, 2:].max(axis=0)
    box = (float(west), float(south), float(east), float(north))
    step = float(np.sqrt((east - west) * (north - south) / nodes))
    columns, rows = int((east - west) / step) + 1, int((north - south) / step) + 1
    one, other = (s.heights_on_grid(float(west), float(south), step, rows, columns) for s in (first, second))
    grid = other - one
    places = np.concatenate((first.vertices[:, :2], second.vertices[:, :2]))
    at_vertices = second.height(*places.T) - first.height(*places.T)
    row, column = np.nonzero(np.isfinite(grid))
    places = np.vstack((places, np.column_stack((west + step * column, south + step * row))))
    values = np.nan_to_num(np.concatenate((at_vertices, grid[row, column])))
    k = int(np.argmax(np.abs(values)))
    largest = (float(values[k]), float(places[k, 0]), float(places[k, 1]))
    alone = [
        float((np.isfinite(a) & ~np.isfinite(b)).sum() * step**2) + _area_outside(surface, box, nodes)
        for a, b, surface in ((one, other, first), (other, one, second))
    ]
    return Difference(
        west=float(west),
        south=float(south),
        step=step,
        grid=grid,
        largest=largest,
        only_first=alone[0],
        only_second=alone[1],
        units=first.units,
    )


def _area_outside(surface: Surface, box: tuple[float, float, float, float], nodes: int) -> float:
    """Area of a surface beyond a box, by nodes of a grid of its own."""
    west, south, east, north = surface.extent
    if box[0] <= west and box[1] <= south and box[2] >= east and box[3] >= north:
        return 0.0
    step = float(np.sqrt((east - west) * (north - south) / nodes))
    columns, rows = int((east - west) / step) + 1, int((north - south) / step) + 1
    x, y = west + step * np.arange(columns), south + step * np.arange(rows)
    inside = ((x >= box[0]) & (x <= box[2]))[None, :] & ((y >= box[1]) & (y <= box[3]))[:, None]
    has_ground = np.isfinite(surface.heights_on_grid(west, south, step, rows, columns))
    return float((has_ground & ~inside).sum() * step**2)
