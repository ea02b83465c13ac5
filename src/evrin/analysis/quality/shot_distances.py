"""How far each place is from a measured shot, and where triangles are too large for the shots around them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.quality.edge_spacing import median_by_area, usual_edges
from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats, Indices
from evrin.surface.surface import Surface
from evrin.tin.query.compact import fill_own_ground

if TYPE_CHECKING:
    import pandas as pd

_NODES = 250_000
_NEIGHBOURS, _A_CELL, _MOST_CELLS, _SAMPLE = 100, 12, 2000, 50_000
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

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> from evrin.analysis import trust
    >>> round(trust(build.surface).spacing, 1)
    6.7
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
        import pandas as pd

        edges = np.asarray(self.spacing * np.array(_BANDS) if limits is None else limits, np.float64).ravel()
        distances = self.grid[np.isfinite(self.grid)]
        counts = np.bincount(np.digitize(distances, edges), minlength=len(edges) + 1)
        return pd.DataFrame(
            {
                "from": np.concatenate(([0.0], edges)),
                "to": np.concatenate((edges, [np.inf])),
                "plan_area": counts * self.step**2,
                "share_percent": 100.0 * counts / max(len(distances), 1),
            }
        )


def shot_vertices(surface: Surface) -> Indices:
    """Return the vertices that came from a source; all of them where nothing is known of any."""
    if surface.provenance is None or not (surface.provenance.shot_of >= 0).any():
        return np.arange(len(surface.vertices))
    return np.flatnonzero(surface.provenance.shot_of >= 0)


def distance_to_shots(surface: Surface, places: Floats) -> Floats:
    """Return the plan distance (k,) of places (k, 2) to the nearest shot of a surface.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    places : (k, 2) float64
        Easting and northing.

    Returns
    -------
    (k,) float64
        In units of the surface.

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


def trust(surface: Surface, nodes: int = _NODES, window: tuple[float, float, float, float] | None = None) -> Trust:
    """Return how far the ground is from the nearest shot, on a grid.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    nodes : int
        About how many nodes the grid has.
    window : (west, south, east, north), optional
        The part to look at; all of it if not given.

    Returns
    -------
    Trust

    Raises
    ------
    DataError
        Where there is no ground in the window.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import trust
    >>> round(trust(field).largest[0], 2)
    5.65
    """
    west, south, east, north = window or surface.extent
    step = float(np.sqrt((east - west) * (north - south) / nodes))
    # Nodes in the middle of their cells, so that cells at the edge count no more than they should.
    columns, rows = max(int((east - west) / step), 1), max(int((north - south) / step), 1)
    west, south = west + step / 2.0, south + step / 2.0
    grid = np.full((rows, columns), np.nan)
    covered = np.isfinite(surface.heights_on_grid(west, south, step, rows, columns))
    if not covered.any():
        raise DataError(f"the surface has no ground in the window {window}")
    row, column = np.nonzero(covered)
    grid[covered] = distance_to_shots(surface, np.column_stack((west + step * column, south + step * row)))
    xy = surface.vertices[shot_vertices(surface), :2]
    inside = ((xy >= (west - step, south - step)) & (xy <= (east + step, north + step))).all(axis=1).sum()
    spacing = float(np.sqrt(covered.sum() * step**2 / max(inside, 1)))
    return Trust(west, south, step, grid, spacing)


def too_large(surface: Surface, factor: float = _TOO_LARGE, most: int | None = None) -> Flags:
    """Return which triangles (m,) have a longest edge more than *factor* times what is usual around them.

    Each vertex has ground of its own, a third of the triangles around it; the diagonal of a square as large is the edge
    to be expected there. What is usual around a triangle is the median of that, by area, over the squares around
    with at least a hundred vertices, so that neither a hole in the shots nor a line of many makes its own measure.
    Areas held at one level, such as water, are never too large.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    factor : float
        How many times the usual length counts as too large.
    most : int, optional
        Look at only so many, those with the longest edges.

    Returns
    -------
    (m,) bool

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import too_large
    >>> bool(too_large(field).any())
    False
    """
    longest = np.maximum(np.maximum(*surface.side_lengths[:, :2].T), surface.side_lengths[:, 2])
    ground = np.zeros(len(surface.vertices))
    fill_own_ground(surface.triangles, surface.triangle_areas, ground)
    flags = np.zeros(len(longest), np.bool_)
    # Only what is wider than on most of the site can be; the rest needs no neighbours looked up.
    step = max(len(ground) // _SAMPLE, 1)
    usual = median_by_area(np.sqrt(2.0 * ground[::step]), ground[::step].copy())
    asked = np.flatnonzero(longest > factor * usual / 2.0)
    if most is not None and len(asked) > most:
        asked = np.sort(asked[np.argpartition(-longest[asked], most)[:most]])
    asked = asked[~_is_held(surface, asked)]
    if len(asked) == 0:
        return flags
    # Relative to a corner, so that nothing is lost at full coordinates.
    low = surface.vertices[:, :2].min(axis=0)
    places = surface.vertices[:, :2] - low
    middles = surface.vertices[surface.triangles[asked], :2].mean(axis=1) - low
    cell = float(np.sqrt(max(surface.plan_area, 1e-12) * _A_CELL / len(ground)))
    span = places.max(axis=0)
    columns, rows = (min(int(side / cell) + 1, _MOST_CELLS) for side in span)
    cell = max(cell, float(span[0]) / columns, float(span[1]) / rows) * (1.0 + 1e-9)
    flags[asked] = longest[asked] > factor * usual_edges(places, ground, middles, cell, columns, rows, _NEIGHBOURS)
    return flags


def _is_held(surface: Surface, asked: Indices) -> Flags:
    """Return which triangles have all corners at the level of an area held at one."""
    levels = {float(line.points[0, 2]) for line in surface.lines if line.effect == "flat" and len(line.points)}
    heights = surface.vertices[surface.triangles[asked], 2]
    return np.asarray((heights == heights[:, :1]).all(axis=1) & np.isin(heights[:, 0], list(levels)))
