"""Natural-neighbour interpolation between a surface's vertices."""

from __future__ import annotations

import numpy as np

from evrin.kernels import Floats
from evrin.surface.surface import Surface
from evrin.tin.exact.curve_order import canonical_order, distinct_places
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query import natural_neighbours


def natural_heights(surface: Surface, places: Floats) -> Floats:
    """Return heights by natural neighbours among the vertices, whatever edges the surface has.

    A place's height is the mean of its natural neighbours' heights, each weighted by the area that the place would take
    from that vertex's Voronoi cell.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    places : (n, 2) float64
        Easting and northing.

    Returns
    -------
    (n,) float64
        Each vertex's own height at its place; NaN outside the convex hull of the vertices, and on its edge.

    References
    ----------
    Sibson, R. (1981), A brief description of natural neighbour interpolation, in Barnett, V. (ed.), *Interpreting
    Multivariate Data*, Wiley, 21–36.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 5], [10, 0, 6], [10, 10, 6], [0, 10, 5]])
    >>> natural_heights(ramp, np.array([[2.5, 5.0], [5.0, 2.0]])).round(9).tolist()
    [5.25, 5.5]
    """
    used = surface.vertices[np.unique(surface.triangles)]
    order, starts = distinct_places(np.ascontiguousarray(used[:, :2]))
    firsts = order[starts[:-1]]
    mesh = Mesh(np.take(used[:, :2], firsts, axis=0), np.take(used[:, 2], firsts))
    stamp = np.full(mesh.triangle_count, -1, np.int32)
    along = canonical_order(places) if len(places) else np.empty(0, np.int64)
    sorted_out = np.empty(len(places))
    natural_neighbours.natural_heights(
        mesh.xy, mesh.z, mesh.corner, mesh.mate, stamp, np.ascontiguousarray(places[along]), sorted_out
    )
    out = np.empty(len(places))
    out[along] = sorted_out
    return out
