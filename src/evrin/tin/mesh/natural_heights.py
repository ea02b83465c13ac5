"""Natural-neighbour interpolation among places, which does not look across lines."""

from __future__ import annotations

import numpy as np

from evrin.kernels import Floats, Ints
from evrin.tin.exact.curve_order import canonical_order, distinct_places
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query import natural_neighbours


def natural_heights_among(points: Floats, lines: Ints, places: Floats) -> Floats:
    """Return heights by natural neighbours among points, as seen from each place without looking across a line.

    Parameters
    ----------
    points : (n, 3) float64
        Not all on one straight line.
    lines : (k, 2) int
        Rows of points that a line joins.
    places : (m, 2) float64
        Easting and northing.

    Returns
    -------
    (m,) float64
        NaN outside the convex hull of the points, on its edge and on lines, and where a neighbour has several heights.

    Raises
    ------
    GeometryError
        Where fewer than three points, or all of them on one line, leave nothing to triangulate.

    Examples
    --------
    >>> square = np.array([[0, 0, 1], [4, 0, 1], [4, 4, 3], [0, 4, 3.0]])
    >>> natural_heights_among(square, np.empty((0, 2), int), np.array([[1.0, 2.0]])).round(9).tolist()
    [2.0]
    """
    order, starts = distinct_places(np.ascontiguousarray(points[:, :2]))
    firsts = order[starts[:-1]]
    z = points[firsts, 2].copy()
    sorted_z = points[order, 2]
    z[np.minimum.reduceat(sorted_z, starts[:-1]) != np.maximum.reduceat(sorted_z, starts[:-1])] = np.nan
    mesh = Mesh(np.take(points[:, :2], firsts, axis=0), z)
    if len(lines):
        place_of = np.empty(len(points), np.int32)
        place_of[order] = np.repeat(np.arange(len(firsts), dtype=np.int32), np.diff(starts))
        ends = place_of[lines]
        ends = np.unique(np.sort(ends[ends[:, 0] != ends[:, 1]], axis=1), axis=0)
        mesh.force(ends, np.zeros(len(ends), np.bool_), exact=True)
    out = np.empty(len(places))
    if len(places):
        along = canonical_order(places)
        sorted_out = np.empty(len(places))
        stamp = np.full(mesh.triangle_count, -1, np.int32)
        natural_neighbours.natural_heights(
            mesh.xy, mesh.z, mesh.corner, mesh.mate, mesh.fixed, stamp, np.ascontiguousarray(places[along]), sorted_out
        )
        out[along] = sorted_out
    return out
