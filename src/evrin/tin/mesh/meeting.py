"""Where lines meet: the place, the vertex that is there, and whether a vertex is on a line.

A vertex is on a straight edge when it is within the snap width of it in plan, between its ends, and nearer to each end
than they are to each other. An edge that passes a vertex so closely is replaced by two shorter edges through it; and
two edges that cross do so at the nearest vertex within the snap width, or at a new one. Every such step replaces
edges by shorter ones among vertices that are no closer than the snap width, so it ends.

References
----------
Halperin, D., Packer, E. (2002). Iterated snap rounding. *Computational Geometry* 23, 209-225.
https://doi.org/10.1016/S0925-7721(01)00064-5
"""

import numpy as np

from evrin.kernels import FloatRows, Floats, as_index, inner, lean
from evrin.tin.delaunay.triangulating import OUTSIDE, following, preceding
from evrin.tin.exact.predicates import orientation, square
from evrin.tin.mesh.mesh_arrays import MeshArrays

_MOST_SEEN = 64


@lean
def side_of(xy: FloatRows, a: int, b: int, c: int) -> float:
    """Positive where *c* lies left of *a*-*b*, negative where right, exactly zero on it."""
    return orientation(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1])


@lean
def is_on(xy: FloatRows, a: int, b: int, c: int, reach: float) -> bool:
    """Whether vertex *c* is on edge *a*-*b*."""
    dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
    px, py = xy[c, 0] - xy[a, 0], xy[c, 1] - xy[a, 1]
    length = dx * dx + dy * dy
    across = dx * py - dy * px
    if across * across > reach * reach * length:
        return False
    qx, qy = xy[c, 0] - xy[b, 0], xy[c, 1] - xy[b, 1]
    along = dx * px + dy * py
    return bool(0.0 < along < length and px * px + py * py < length and qx * qx + qy * qy < length)


@lean
def _is_edge_within(xy: FloatRows, a: int, b: int, x: float, y: float, reach: float) -> bool:
    """Whether a place is within reach of the straight line between two vertices."""
    dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
    px, py = x - xy[a, 0], y - xy[a, 1]
    length = dx * dx + dy * dy
    part = min(max((px * dx + py * dy) / length, 0.0), 1.0) if length > 0.0 else 0.0
    px -= part * dx
    py -= part * dy
    return bool(px * px + py * py <= reach * reach)


@inner
def vertex_within(mesh: MeshArrays, e: int, x: float, y: float, reach: float) -> int:
    """The vertex nearest to a place beside half-edge *e*, if one is within reach, or -1."""
    seen = np.empty(_MOST_SEEN, np.int64)
    seen[0], seen[1] = e // 3, as_index(mesh.mate[e]) // 3
    size, at = as_index(2), as_index(0)
    best, least = as_index(-1), reach * reach
    while at < size:
        t = seen[at]
        at += 1
        for h in range(3 * t, 3 * t + 3):
            v = as_index(mesh.corner[h])
            if v == OUTSIDE:
                continue
            square_distance = square(mesh.xy[v, 0] - x, mesh.xy[v, 1] - y)
            if square_distance < least or (square_distance == least and (best < 0 or v < best)):
                best, least = v, square_distance
            u = as_index(mesh.corner[following(h)])
            if u == OUTSIDE or size == _MOST_SEEN or not _is_edge_within(mesh.xy, v, u, x, y, reach):
                continue
            beyond = as_index(mesh.mate[h]) // 3
            is_new = True
            for k in range(size):
                is_new = is_new and seen[k] != beyond
            if is_new:
                seen[size] = beyond
                size += 1
    return best


@lean
def meeting_place(xy: FloatRows, a: int, b: int, u: int, v: int) -> tuple[float, float]:
    """The place where *a*-*b* crosses *u*-*v*, within a few roundings of both."""
    u_side = side_of(xy, a, b, u)
    part = u_side / (u_side - side_of(xy, a, b, v))
    if part <= 0.5:
        return xy[u, 0] + part * (xy[v, 0] - xy[u, 0]), xy[u, 1] + part * (xy[v, 1] - xy[u, 1])
    part = 1.0 - part
    return xy[v, 0] + part * (xy[u, 0] - xy[v, 0]), xy[v, 1] + part * (xy[u, 1] - xy[v, 1])


@lean
def splits_cleanly(mesh: MeshArrays, e: int, vertex: int) -> bool:
    """Whether *vertex*, rounded as its place is, divides the triangles beside half-edge *e* into upright ones."""
    xy, corner = mesh.xy, mesh.corner
    u, v = as_index(corner[e]), as_index(corner[following(e)])
    c, d = as_index(corner[preceding(e)]), as_index(corner[preceding(as_index(mesh.mate[e]))])
    if c != OUTSIDE and (side_of(xy, u, vertex, c) <= 0.0 or side_of(xy, vertex, v, c) <= 0.0):
        return False
    return d == OUTSIDE or (side_of(xy, v, vertex, d) > 0.0 and side_of(xy, vertex, u, d) > 0.0)


@lean
def height_between(xy: FloatRows, z: Floats, a: int, b: int, x: float, y: float) -> float:
    """Height at a place on or beside the straight line between two vertices."""
    dx = xy[b, 0] - xy[a, 0]
    dy = xy[b, 1] - xy[a, 1]
    length = dx * dx + dy * dy
    part = ((x - xy[a, 0]) * dx + (y - xy[a, 1]) * dy) / length if length > 0.0 else 0.0
    height: float = z[a] + min(max(part, 0.0), 1.0) * (z[b] - z[a])
    return height
