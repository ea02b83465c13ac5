"""Natural-neighbour interpolation between a surface's vertices, on its side of breaklines."""

from __future__ import annotations

import numpy as np

from evrin.kernels import Floats, Ints
from evrin.surface.surface import Surface
from evrin.tin.mesh.natural_heights import natural_heights_among


def natural_heights(surface: Surface, places: Floats) -> Floats:
    """Return heights by natural neighbours among the vertices that are seen without looking across a line.

    A place's height is the mean of its natural neighbours' heights, each weighted by the area that the place would take
    from that vertex's Voronoi cell. Breaklines, the shores of flats and the rims of holes hide what is behind them, so
    that a pond is level to its shore and the ground above a wall has nothing of that below; contours hide nothing.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    places : (n, 2) float64
        Easting and northing.

    Returns
    -------
    (n,) float64
        Each vertex's own height at its place; NaN outside the convex hull of the vertices, on its edge, on lines, and
        beside a step, whose vertices have several heights.

    References
    ----------
    Sibson, R. (1981), A brief description of natural neighbour interpolation, in Barnett, V. (ed.), *Interpreting
    Multivariate Data*, Wiley, 21–36. Seidel, R. (1988), Constrained Delaunay triangulations and Voronoi diagrams with
    obstacles, in *1978–1988: Ten Years IIG*, Graz, 178–191.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 5], [10, 0, 6], [10, 10, 6], [0, 10, 5]])
    >>> natural_heights(ramp, np.array([[2.5, 5.0], [5.0, 2.0]])).round(9).tolist()
    [5.25, 5.5]
    """
    used, row = np.unique(surface.triangles, return_inverse=True)
    ends = row.ravel()[_hiding_edges(surface)].astype(np.int32)
    return natural_heights_among(surface.vertices[used], ends, places)


def _hiding_edges(surface: Surface) -> Ints:
    """Pairs (k, 2) of half-edges whose vertices are the ends of what hides."""
    hides = np.array([line.effect != "contour" for line in surface.lines] + [False], np.bool_)
    half = np.flatnonzero(hides[surface.edge_lines.ravel()])
    return np.column_stack((half, half - half % 3 + (half + 1) % 3)).astype(np.int32)
