"""The way of a line through the mesh: what it meets first, and clearing it of the edges that it crosses.

References
----------
Sloan, S. W. (1993). A fast algorithm for generating constrained Delaunay triangulations. *Computers & Structures* 47,
441-450. https://doi.org/10.1016/0045-7949(93)90239-A
"""

import numpy as np

from evrin.kernels import FloatRows, IndexRows, Indices, Mutable, as_index, inner
from evrin.tin.delaunay.triangulating import OUTSIDE, following, preceding
from evrin.tin.exact.predicates import square
from evrin.tin.mesh.flips import doubled, edge_between, fix_edge, flip, is_convex, restore_delaunay
from evrin.tin.mesh.meeting import is_on, side_of
from evrin.tin.mesh.mesh_arrays import MeshArrays

NEAR = -1


@inner
def _is_ahead(xy: FloatRows, a: int, b: int, c: int) -> bool:
    """Whether *c*, on the line through *a* and *b*, lies on *b*'s side of *a*."""
    along: float = (xy[b, 0] - xy[a, 0]) * (xy[c, 0] - xy[a, 0]) + (xy[b, 1] - xy[a, 1]) * (xy[c, 1] - xy[a, 1])
    return along > 0.0


@inner
def _leave(mesh: MeshArrays, a: int, b: int, reach: float) -> tuple[int, int]:
    """The first vertex on the way from *a* to *b* beside *a*, or the half-edge of *a*'s star that the way crosses."""
    xy = mesh.xy
    start = as_index(mesh.spoke[a])
    e = start
    across = as_index(-1)
    near = as_index(-1)
    least = np.inf
    while True:
        u = as_index(mesh.corner[following(e)])
        if u == b:
            return b, -1
        v = as_index(mesh.corner[preceding(e)])
        if u != OUTSIDE:
            side = side_of(xy, a, b, u)
            if side == 0.0 and _is_ahead(xy, a, b, u):
                return u, -1
            if reach > 0.0 and is_on(xy, a, b, u, reach):
                square_distance = square(xy[u, 0] - xy[a, 0], xy[u, 1] - xy[a, 1])
                if square_distance < least:
                    near, least = u, square_distance
            if side < 0.0 and v != OUTSIDE and v != b and side_of(xy, a, b, v) > 0.0:
                across = following(e)
        e = as_index(mesh.mate[preceding(e)])
        if e == start:
            return near, -1 if near >= 0 else across


@inner
def march(
    mesh: MeshArrays,
    a: int,
    b: int,
    reach: float,
    crossed: Mutable[Indices],
) -> tuple[int, int, int, Indices]:
    """Follow *a*-*b* to the next vertex on it or fixed edge across it: vertex, half-edge, edges crossed before.

    A vertex that is on it but not exactly comes with NEAR instead of their number, unless it is a neighbour of *a*.
    """
    vertex, e = _leave(mesh, a, b, reach)
    size = as_index(0)
    while vertex < 0:
        if e < 0 or mesh.fixed[e] != 0:
            return -1, e, size, crossed
        if size == crossed.shape[0]:
            crossed = doubled(crossed)
        crossed[size] = e
        size += 1
        f = as_index(mesh.mate[e])
        w = as_index(mesh.corner[preceding(f)])
        if w == OUTSIDE:
            return -1, -1, size, crossed
        side = side_of(mesh.xy, a, b, w)
        if side == 0.0:
            vertex = w
        elif w != b and reach > 0.0 and is_on(mesh.xy, a, b, w, reach):
            return w, -1, as_index(NEAR), crossed
        elif side > 0.0:
            e = following(f)
        else:
            e = preceding(f)
    return vertex, -1, size, crossed


@inner
def _flipped_out(mesh: MeshArrays, a: int, b: int, crossed: Indices, size: int, made: Mutable[IndexRows]) -> int:
    """Flip the crossed edges until none crosses *a*-*b*; put the ends of the new edges into *made*, return how many."""
    corner = mesh.corner
    ends = np.empty((size, 2), np.int64)
    for k in range(size):
        ends[k, 0] = corner[crossed[k]]
        ends[k, 1] = corner[following(crossed[k])]
    after, before = np.empty(size, np.int64), np.empty(size, np.int64)
    for k in range(size):
        after[k], before[k] = k + 1, k - 1
    n_made = as_index(0)
    first = at = as_index(0)
    waiting = size
    # A flip that leads out of the way lets the edge before follow; only a round without one flips into the way again.
    is_stuck, has_flipped = False, False
    while waiting > 0:
        if at == size:
            is_stuck, has_flipped = not has_flipped, False
            at = first
        u, v = ends[at, 0], ends[at, 1]
        e = edge_between(mesh, u, v)
        c = as_index(corner[preceding(e)])
        d = as_index(corner[preceding(as_index(mesh.mate[e]))])
        touches = c == a or c == b or d == a or d == b
        crosses = not touches and (side_of(mesh.xy, a, b, c) > 0.0) != (side_of(mesh.xy, a, b, d) > 0.0)
        if (crosses and not is_stuck) or not is_convex(mesh, e):
            at = after[at]
            continue
        flip(mesh, e)
        has_flipped = True
        if crosses:
            ends[at, 0], ends[at, 1] = c, d
            at = after[at]
            continue
        made[n_made, 0], made[n_made, 1] = c, d
        n_made += 1
        waiting -= 1
        if before[at] >= 0:
            after[before[at]] = after[at]
        else:
            first = after[at]
        if after[at] < size:
            before[after[at]] = before[at]
        at = before[at] if before[at] >= 0 else first
    return n_made


@inner
def clear_way(
    mesh: MeshArrays,
    a: int,
    b: int,
    line: int,
    crossed: Indices,
    size: int,
    stack: Mutable[Indices],
) -> Indices:
    """Flip the crossed edges until *a*-*b* is an edge, fix it, and restore Delaunay beside it."""
    made = np.empty((size, 2), np.int64)
    n_made = _flipped_out(mesh, a, b, crossed, size, made)
    fix_edge(mesh, a, b, line)
    if stack.shape[0] < n_made + 8:
        stack = np.empty(2 * n_made + 8, np.int64)
    for k in range(n_made):
        stack[k] = edge_between(mesh, made[k, 0], made[k, 1])
    return restore_delaunay(mesh, stack, n_made)
