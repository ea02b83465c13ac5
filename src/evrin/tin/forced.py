"""Forced edges: no triangle crosses a line, and everywhere else the triangulation stays Delaunay.

References
----------
Sloan, S. W. (1993). A fast algorithm for generating constrained Delaunay triangulations. *Computers & Structures* 47,
441-450. https://doi.org/10.1016/0045-7949(93)90239-A
"""

import numpy as np
from numpy.typing import NDArray

from evrin.tin.delaunay import OUTSIDE, following, preceding
from evrin.tin.flips import (
    GROUND,
    doubled,
    edge_between,
    fix_edge,
    flip,
    insert_vertex,
    is_convex,
    put_vertex,
    restore_delaunay,
)
from evrin.tin.predicates import orientation
from evrin.tin.types import Flags, Floats, Ints, as_index, inner, kernel

# Slots of the *progress* array, which lets a caller enlarge the arrays and go on.
VERTICES, TRIANGLES, NEXT_SEGMENT, PENDING, CROSSINGS, WORK, TANGLED = range(7)

# Lines that meet within this part of the coordinates' size of a vertex meet at the vertex: 0.3 micrometres at a
# northing of 5,000 km. Places closer than that cannot be kept apart once crossings are rounded to doubles.
_SNAP = 2.0**-44
_WORK_PER_PART = 200


@inner
def _side(xy: Floats, a: int, b: int, c: int) -> float:
    return orientation(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1])


@inner
def _is_ahead(xy: Floats, a: int, b: int, c: int) -> bool:
    """Whether *c*, on the line through *a* and *b*, lies on *b*'s side of *a*."""
    along: float = (xy[b, 0] - xy[a, 0]) * (xy[c, 0] - xy[a, 0]) + (xy[b, 1] - xy[a, 1]) * (xy[c, 1] - xy[a, 1])
    return along > 0.0


@inner
def _leave(xy: Floats, corner: Ints, mate: Ints, spoke: Ints, a: int, b: int) -> tuple[int, int]:
    """The first vertex on the way from *a* to *b* beside *a*, or the half-edge of *a*'s star that the way crosses."""
    start = as_index(spoke[a])
    e = start
    while True:
        u = as_index(corner[following(e)])
        if u == b:
            return b, -1
        v = as_index(corner[preceding(e)])
        if u != OUTSIDE:
            side = _side(xy, a, b, u)
            if side == 0.0 and _is_ahead(xy, a, b, u):
                return u, -1
            if side < 0.0 and v != OUTSIDE and v != b and _side(xy, a, b, v) > 0.0:
                return -1, following(e)
        e = as_index(mate[preceding(e)])
        if e == start:
            return -1, -1


@inner
def march(
    xy: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    spoke: Ints,
    a: int,
    b: int,
    crossed: NDArray[np.int64],
) -> tuple[int, int, int, NDArray[np.int64]]:
    """Follow *a*-*b* to the next vertex on it or fixed edge across it: vertex, half-edge, edges crossed before."""
    vertex, e = _leave(xy, corner, mate, spoke, a, b)
    size = as_index(0)
    while vertex < 0:
        if fixed[e] != 0:
            return -1, e, size, crossed
        if size == crossed.shape[0]:
            crossed = doubled(crossed)
        crossed[size] = e
        size += 1
        f = as_index(mate[e])
        w = as_index(corner[preceding(f)])
        side = _side(xy, a, b, w)
        if side == 0.0:
            vertex = w
        elif side > 0.0:
            e = following(f)
        else:
            e = preceding(f)
    return vertex, -1, size, crossed


@inner
def _clear_way(
    xy: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    spoke: Ints,
    alive: Flags,
    a: int,
    b: int,
    line: int,
    crossed: NDArray[np.int64],
    size: int,
    stack: NDArray[np.int64],
) -> NDArray[np.int64]:
    """Flip the crossed edges until *a*-*b* is an edge, fix it, and restore Delaunay beside it."""
    ends = np.empty((size, 2), np.int64)
    made = np.empty((size, 2), np.int64)
    for k in range(size):
        ends[k, 0] = corner[crossed[k]]
        ends[k, 1] = corner[following(crossed[k])]
    head = as_index(0)
    waiting = size
    n_made = as_index(0)
    while waiting > 0:
        u, v = ends[head, 0], ends[head, 1]
        tail = (head + waiting) % size
        head = (head + 1) % size
        e = edge_between(corner, mate, spoke, u, v)
        if not is_convex(xy, corner, mate, e):
            ends[tail, 0], ends[tail, 1] = u, v
            continue
        c = as_index(corner[preceding(e)])
        d = as_index(corner[preceding(as_index(mate[e]))])
        flip(corner, mate, fixed, spoke, e)
        touches = c == a or c == b or d == a or d == b
        if not touches and (_side(xy, a, b, c) > 0.0) != (_side(xy, a, b, d) > 0.0):
            ends[tail, 0], ends[tail, 1] = c, d
            continue
        made[n_made, 0], made[n_made, 1] = c, d
        n_made += 1
        waiting -= 1
    fix_edge(corner, mate, fixed, spoke, a, b, line)
    if stack.shape[0] < n_made + 8:
        stack = np.empty(2 * n_made + 8, np.int64)
    for k in range(n_made):
        stack[k] = edge_between(corner, mate, spoke, made[k, 0], made[k, 1])
    return restore_delaunay(xy, corner, mate, fixed, spoke, alive, stack, n_made)


@inner
def _meeting_place(xy: Floats, a: int, b: int, u: int, v: int) -> tuple[float, float]:
    u_side = _side(xy, a, b, u)
    part = u_side / (u_side - _side(xy, a, b, v))
    if part <= 0.5:
        return xy[u, 0] + part * (xy[v, 0] - xy[u, 0]), xy[u, 1] + part * (xy[v, 1] - xy[u, 1])
    part = 1.0 - part
    return xy[v, 0] + part * (xy[u, 0] - xy[v, 0]), xy[v, 1] + part * (xy[u, 1] - xy[v, 1])


@inner
def _vertex_at(xy: Floats, a: int, b: int, u: int, v: int, x: float, y: float) -> int:
    """The end of either line that a meeting place cannot be told from, or -1."""
    reach = _SNAP * max(abs(x), abs(y))
    for vertex in (u, v, a, b):
        if abs(xy[vertex, 0] - x) <= reach and abs(xy[vertex, 1] - y) <= reach:
            return vertex
    return -1


@inner
def height_between(xy: Floats, z: Floats, a: int, b: int, x: float, y: float) -> float:
    """Height at a place on or beside the straight line between two vertices."""
    dx = xy[b, 0] - xy[a, 0]
    dy = xy[b, 1] - xy[a, 1]
    part = ((x - xy[a, 0]) * dx + (y - xy[a, 1]) * dy) / (dx * dx + dy * dy)
    height: float = z[a] + min(max(part, 0.0), 1.0) * (z[b] - z[a])
    return height


@inner
def _splits_cleanly(xy: Floats, corner: Ints, mate: Ints, e: int, vertex: int) -> bool:
    """Whether *vertex*, rounded as its place is, divides the triangles beside half-edge *e* into upright ones."""
    u, v = as_index(corner[e]), as_index(corner[following(e)])
    c, d = as_index(corner[preceding(e)]), as_index(corner[preceding(as_index(mate[e]))])
    if c != OUTSIDE and (_side(xy, u, vertex, c) <= 0.0 or _side(xy, vertex, v, c) <= 0.0):
        return False
    return d == OUTSIDE or (_side(xy, v, vertex, d) > 0.0 and _side(xy, vertex, u, d) > 0.0)


@inner
def _height_along(xy: Floats, z: Floats, segments: Ints, line: int, x: float, y: float) -> float:
    a, b = as_index(segments[line - 1, 0]), as_index(segments[line - 1, 1])
    return height_between(xy, z, a, b, x, y)


@kernel
def force_segments(
    xy: Floats,
    z: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    spoke: Ints,
    alive: Flags,
    segments: Ints,
    first_line: int,
    has_height: Flags,
    all_segments: Ints,
    crossings: Ints,
    crossing_heights: Floats,
    pending: NDArray[np.int64],
    progress: NDArray[np.int64],
) -> bool:
    """Force segments into the mesh, splitting whatever fixed edge they cross; False where an array must grow.

    *segments* join vertices; the k-th counts as line ``first_line + k``. Rows of *crossings* are the vertex, the line
    it was found on (GROUND for any other edge) and the line that came across; *crossing_heights* has the height of
    either line there.
    """
    stack = np.empty(64, np.int64)
    crossed = np.empty(64, np.int64)
    room = min(xy.shape[0], alive.shape[0] // 2)
    while True:
        if progress[PENDING] > 0:
            progress[PENDING] -= 1
            top = progress[PENDING]
            a, b, line = pending[top, 0], pending[top, 1], pending[top, 2]
        elif progress[NEXT_SEGMENT] < segments.shape[0]:
            k = progress[NEXT_SEGMENT]
            progress[NEXT_SEGMENT] += 1
            a, b, line = as_index(segments[k, 0]), as_index(segments[k, 1]), as_index(first_line + k)
        else:
            return True
        if a == b:
            continue
        progress[WORK] += 1
        if progress[WORK] > _WORK_PER_PART * (segments.shape[0] + progress[VERTICES]):
            progress[TANGLED] = 1
            return False
        vertex, e, size, crossed = march(xy, corner, mate, fixed, spoke, a, b, crossed)
        if vertex >= 0:
            if size == 0:
                fix_edge(corner, mate, fixed, spoke, a, vertex, line)
            else:
                stack = _clear_way(xy, corner, mate, fixed, spoke, alive, a, vertex, line, crossed, size, stack)
            if vertex != b:
                top = progress[PENDING]
                pending[top, 0], pending[top, 1], pending[top, 2] = vertex, b, line
                progress[PENDING] += 1
            continue
        top = progress[PENDING]
        if progress[VERTICES] + 1 > room - 2 or top + 5 > pending.shape[0]:
            pending[top, 0], pending[top, 1], pending[top, 2] = a, b, line
            progress[PENDING] += 1
            return False
        u, v = as_index(corner[e]), as_index(corner[following(e)])
        other = as_index(fixed[e])
        x, y = _meeting_place(xy, a, b, u, v)
        vertex = _vertex_at(xy, a, b, u, v, x, y)
        if vertex == u or vertex == v:
            pending[top, 0], pending[top, 1], pending[top, 2] = vertex, b, line
            pending[top + 1, 0], pending[top + 1, 1], pending[top + 1, 2] = a, vertex, line
            progress[PENDING] = top + 2
            continue
        meeting = progress[VERTICES]
        progress[PENDING] = top + 2
        if vertex < 0:
            xy[meeting, 0], xy[meeting, 1] = x, y
        if vertex < 0 and _splits_cleanly(xy, corner, mate, e, meeting):
            vertex = meeting
            stack = put_vertex(xy, corner, mate, fixed, spoke, alive, meeting, progress[TRIANGLES], e, True, stack)
        else:
            fixed[e] = 0
            fixed[mate[e]] = 0
            if vertex < 0:
                vertex, stack = insert_vertex(
                    xy, corner, mate, fixed, spoke, alive, meeting, progress[TRIANGLES], e, stack
                )
            pending[top + 2, 0], pending[top + 2, 1], pending[top + 2, 2] = vertex, v, other
            pending[top + 3, 0], pending[top + 3, 1], pending[top + 3, 2] = u, vertex, other
            progress[PENDING] = top + 4
        pending[top, 0], pending[top, 1], pending[top, 2] = vertex, b, line
        pending[top + 1, 0], pending[top + 1, 1], pending[top + 1, 2] = a, vertex, line
        if vertex == meeting:
            progress[VERTICES] += 1
            progress[TRIANGLES] += 2
            own = _height_along(xy, z, all_segments, line, x, y)
            if other == GROUND or not has_height[line - 1]:
                there = height_between(xy, z, u, v, x, y)
                z[vertex] = there
            else:
                there = _height_along(xy, z, all_segments, other, x, y)
                z[vertex] = 0.5 * (there + own) if has_height[other - 1] else own
            row = progress[CROSSINGS]
            crossings[row, 0], crossings[row, 1], crossings[row, 2] = vertex, other, line
            crossing_heights[row, 0], crossing_heights[row, 1] = there, own
            progress[CROSSINGS] += 1
