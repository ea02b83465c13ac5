"""How far each place is from a measured shot, and where triangles are too large for the shots round them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import ArrayLike

from evrin.surface import Surface
from evrin.tin.types import Flags, Floats, Indices

_NODES = 250_000
_NEIGHBOURS = 60
_TOO_LARGE = 3.0
_BANDS = (0.5, 1.0, 2.0, 4.0)


@dataclass(frozen=True, eq=False)
class Trust:
    """Distances to the nearest shot over a surface.

    Attributes
    ----------
    west, south, step : float
        Where the grid of nodes begins, and how far apart they are.
    grid : (rows, columns) float64
        Plan distance by node, row 0 southernmost; NaN outside the surface.
    spacing : float
        The usual distance between shots: the side of a square as large as the ground that each has.
    """

    west: float
    south: float
    step: float
    grid: Floats
    spacing: float

    @property
    def largest(self) -> tuple[float, float, float]:
        """The largest distance, and its easting and northing."""
        row, column = np.unravel_index(int(np.nanargmax(self.grid)), self.grid.shape)
        east, north = self.west + self.step * float(column), self.south + self.step * float(row)
        return float(self.grid[row, column]), east, north

    def bands(self, limits: ArrayLike | None = None) -> pd.DataFrame:
        """Return the share of ground within each distance of a shot.

        Parameters
        ----------
        limits : array_like, optional
            Rising; half, one, two and four times the usual spacing if not given.

        Returns
        -------
        DataFrame
            ``from``, ``to`` (the last infinite), ``plan_area``, ``share_percent``.
        """
        edges = np.asarray(self.spacing * np.array(_BANDS) if limits is None else limits, np.float64).ravel()
        known = self.grid[np.isfinite(self.grid)]
        counts = np.bincount(np.digitize(known, edges), minlength=len(edges) + 1)
        return pd.DataFrame(
            {
                "from": np.concatenate(([0.0], edges)),
                "to": np.concatenate((edges, [np.inf])),
                "plan_area": counts * self.step**2,
                "share_percent": 100.0 * counts / max(len(known), 1),
            }
        )


def shot_vertices(surface: Surface) -> Indices:
    """Return the vertices that came from a source; all of them where nothing is known of any."""
    if surface.provenance is None or not (surface.provenance.shot_of >= 0).any():
        return np.arange(len(surface.vertices))
    return np.flatnonzero(surface.provenance.shot_of >= 0)


def distance_to_shots(surface: Surface, places: Floats) -> Floats:
    """Return the plan distance (k,) of places (k, 2) to the nearest shot of a surface.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
    >>> distance_to_shots(ramp, np.array([[3.0, 4.0], [10.0, 10.0]])).tolist()
    [5.0, 0.0]
    """
    import scipy.spatial

    shots = surface.vertices[shot_vertices(surface), :2]
    # Relative to one of them, so that the tree's boxes lose nothing at full coordinates.
    tree = scipy.spatial.cKDTree(shots - shots[0])
    return np.asarray(tree.query(np.asarray(places, np.float64).reshape(-1, 2) - shots[0])[0])


def trust(surface: Surface, nodes: int = _NODES) -> Trust:
    """Return how far the ground is from the nearest shot, on a grid of about so many nodes."""
    west, south, east, north = surface.extent
    step = float(np.sqrt((east - west) * (north - south) / nodes))
    columns, rows = int((east - west) / step) + 1, int((north - south) / step) + 1
    grid = np.full((rows, columns), np.nan)
    covered = np.isfinite(surface.heights_on_grid(west, south, step, rows, columns))
    row, column = np.nonzero(covered)
    grid[covered] = distance_to_shots(surface, np.column_stack((west + step * column, south + step * row)))
    spacing = float(np.sqrt(surface.plan_area / max(len(shot_vertices(surface)), 1)))
    return Trust(west, south, step, grid, spacing)


def too_large(surface: Surface, factor: float = _TOO_LARGE, most: int | None = None) -> Flags:
    """Tell which triangles (m,) have a longest edge more than *factor* times what is usual round them.

    Where *most* is given, only so many, those with the longest edges, are looked at.

    What is usual is the median, by area, of the longest edges of the sixty triangles nearest by. Areas held at one
    level, such as water, are as wide as they are and never too large.
    """
    import scipy.spatial

    corners = surface.vertices[surface.triangles, :2]
    longest = np.hypot(*np.moveaxis(np.roll(corners, -1, axis=1) - corners, 2, 0)).max(axis=1)
    areas = surface.triangle_areas
    flags = np.zeros(len(longest), np.bool_)
    # Only what is wider than most of the site can be; the rest needs no neighbours looked up.
    asked = np.flatnonzero(
        (longest > factor * _median_by_area(longest[None], areas[None])[0] / 2.0) & ~_is_held(surface)
    )
    if most is not None and len(asked) > most:
        asked = np.sort(asked[np.argpartition(-longest[asked], most)[:most]])
    if len(asked) == 0:
        return flags
    middles = corners.mean(axis=1) - corners[0, 0]
    count = min(_NEIGHBOURS + 1, len(longest))
    near = scipy.spatial.cKDTree(middles).query(middles[asked], k=count)[1].reshape(len(asked), count)
    weights = np.where(near == asked[:, None], 0.0, areas[near])
    flags[asked] = longest[asked] > factor * _median_by_area(longest[near], weights)
    return flags


def _is_held(surface: Surface) -> Flags:
    """Tell which triangles have all corners on the shore of an area held at one level, or inside it."""
    levels = {float(line.points[0, 2]) for line in surface.lines if line.effect == "flat" and len(line.points)}
    heights = surface.vertices[surface.triangles, 2]
    return np.asarray((heights == heights[:, :1]).all(axis=1) & np.isin(heights[:, 0], list(levels)))


def _median_by_area(values: Floats, weights: Floats) -> Floats:
    """Return the weighted median of each row."""
    order = np.argsort(values, axis=1)
    total = np.cumsum(np.take_along_axis(weights, order, axis=1), axis=1)
    middle = (total < total[:, -1:] / 2.0).sum(axis=1)
    chosen = np.minimum(middle, values.shape[1] - 1)[:, None]
    return np.take_along_axis(np.take_along_axis(values, order, axis=1), chosen, axis=1)[:, 0]
