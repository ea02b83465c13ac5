"""Forced edges: no triangle crosses a line, and everywhere else the triangulation stays Delaunay.

References
----------
Sloan, S. W. (1993). A fast algorithm for generating constrained Delaunay triangulations. *Computers & Structures* 47,
441-450. https://doi.org/10.1016/0045-7949(93)90239-A
"""

import numpy as np

from evrin.tin.delaunay import OUTSIDE, following, preceding
from evrin.tin.flips import (
    GROUND,
    LINES,
    doubled,
    edge_between,
    fix_edge,
    flip,
    insert_vertex,
    is_convex,
    put_vertex,
    restore_delaunay,
)
from evrin.tin.meeting import (
    height_between,
    is_on,
    meeting_place,
    side_of,
    splits_cleanly,
    vertex_within,
)
from evrin.tin.types import Flags, Floats, Indices, Ints, as_index, inner, kernel

Rows = Indices

# Slots of the *progress* array, which lets a caller enlarge the arrays and go on.
VERTICES, TRIANGLES, NEXT_SEGMENT, NEXT_FRESH, PENDING, CROSSINGS, WORK, TANGLED, SNAPPED = range(9)
SLOTS = 9
NEAR = -1
_WORK_PER_PART = 1000


@inner
def _is_ahead(xy: Floats, a: int, b: int, c: int) -> bool:
    """Whether *c*, on the line through *a* and *b*, lies on *b*'s side of *a*."""
    along: float = (xy[b, 0] - xy[a, 0]) * (xy[c, 0] - xy[a, 0]) + (xy[b, 1] - xy[a, 1]) * (xy[c, 1] - xy[a, 1])
    return along > 0.0


@inner
def _leave(xy: Floats, corner: Ints, mate: Ints, spoke: Ints, a: int, b: int, reach: float) -> tuple[int, int]:
    """The first vertex on the way from *a* to *b* beside *a*, or the half-edge of *a*'s star that the way crosses."""
    start = as_index(spoke[a])
    e = start
    across = as_index(-1)
    near = as_index(-1)
    least = np.inf
    while True:
        u = as_index(corner[following(e)])
        if u == b:
            return b, -1
        v = as_index(corner[preceding(e)])
        if u != OUTSIDE:
            side = side_of(xy, a, b, u)
            if side == 0.0 and _is_ahead(xy, a, b, u):
                return u, -1
            if reach > 0.0 and is_on(xy, a, b, u, reach):
                away = (xy[u, 0] - xy[a, 0]) ** 2 + (xy[u, 1] - xy[a, 1]) ** 2
                if away < least:
                    near, least = u, away
            if side < 0.0 and v != OUTSIDE and v != b and side_of(xy, a, b, v) > 0.0:
                across = following(e)
        e = as_index(mate[preceding(e)])
        if e == start:
            return near, -1 if near >= 0 else across


@inner
def march(
    xy: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    spoke: Ints,
    a: int,
    b: int,
    reach: float,
    crossed: Indices,
) -> tuple[int, int, int, Indices]:
    """Follow *a*-*b* to the next vertex on it or fixed edge across it: vertex, half-edge, edges crossed before.

    A vertex that is on it but not exactly comes with NEAR instead of their number, unless it is a neighbour of *a*.
    """
    vertex, e = _leave(xy, corner, mate, spoke, a, b, reach)
    size = as_index(0)
    while vertex < 0:
        if e < 0 or fixed[e] != 0:
            return -1, e, size, crossed
        if size == crossed.shape[0]:
            crossed = doubled(crossed)
        crossed[size] = e
        size += 1
        f = as_index(mate[e])
        w = as_index(corner[preceding(f)])
        if w == OUTSIDE:
            return -1, -1, size, crossed
        side = side_of(xy, a, b, w)
        if side == 0.0:
            vertex = w
        elif w != b and reach > 0.0 and is_on(xy, a, b, w, reach):
            return w, -1, as_index(NEAR), crossed
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
    crossed: Indices,
    size: int,
    stack: Indices,
) -> Indices:
    """Flip the crossed edges until *a*-*b* is an edge, fix it, and restore Delaunay beside it."""
    ends = np.empty((size, 2), np.int64)
    made = np.empty((size, 2), np.int64)
    for k in range(size):
        ends[k, 0] = corner[crossed[k]]
        ends[k, 1] = corner[following(crossed[k])]
    after = np.arange(1, size + 1)
    before = np.arange(-1, size - 1)
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
        e = edge_between(corner, mate, spoke, u, v)
        c = as_index(corner[preceding(e)])
        d = as_index(corner[preceding(as_index(mate[e]))])
        touches = c == a or c == b or d == a or d == b
        crosses = not touches and (side_of(xy, a, b, c) > 0.0) != (side_of(xy, a, b, d) > 0.0)
        if (crosses and not is_stuck) or not is_convex(xy, corner, mate, e):
            at = after[at]
            continue
        flip(corner, mate, fixed, spoke, e)
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
    fix_edge(corner, mate, fixed, spoke, a, b, line)
    if stack.shape[0] < n_made + 8:
        stack = np.empty(2 * n_made + 8, np.int64)
    for k in range(n_made):
        stack[k] = edge_between(corner, mate, spoke, made[k, 0], made[k, 1])
    return restore_delaunay(xy, corner, mate, fixed, spoke, alive, stack, n_made)


@inner
def _push(pending: Rows, progress: Indices, a: int, b: int, line: int) -> Rows:
    top = progress[PENDING]
    if top == pending.shape[0]:
        larger = np.empty((2 * top, 3), np.int64)
        larger[:top] = pending
        pending = larger
    pending[top, 0], pending[top, 1], pending[top, 2] = a, b, line
    progress[PENDING] = top + 1
    return pending


@inner
def _give_height(xy: Floats, z: Floats, vertex: int, u: int, v: int) -> None:
    """A vertex without a height takes that of the edge which is led through it."""
    if np.isnan(z[vertex]):
        z[vertex] = height_between(xy, z, u, v, xy[vertex, 0], xy[vertex, 1])


@inner
def _bend(
    xy: Floats,
    z: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    spoke: Ints,
    alive: Flags,
    e: int,
    reach: float,
    stack: Indices,
    pending: Rows,
    progress: Indices,
) -> tuple[bool, Indices, Rows]:
    """Lead fixed edge *e* through the third vertex of its triangle, if that is on it."""
    u, v, c = as_index(corner[e]), as_index(corner[following(e)]), as_index(corner[preceding(e)])
    if fixed[e] <= 0 or u == OUTSIDE or v == OUTSIDE or c == OUTSIDE or not is_on(xy, u, v, c, reach):
        return False, stack, pending
    line = as_index(fixed[e])
    fixed[e] = 0
    fixed[mate[e]] = 0
    fix_edge(corner, mate, fixed, spoke, u, c, line)
    fix_edge(corner, mate, fixed, spoke, c, v, line)
    _give_height(xy, z, c, u, v)
    # Both are looked at again for vertices on them; the sides have changed already.
    pending = _push(pending, progress, u, c, line & LINES)
    pending = _push(pending, progress, c, v, line & LINES)
    stack[0] = e
    progress[SNAPPED] += 1
    return True, restore_delaunay(xy, corner, mate, fixed, spoke, alive, stack, 1), pending


@inner
def _bend_round(
    xy: Floats,
    z: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    spoke: Ints,
    alive: Flags,
    vertex: int,
    reach: float,
    stack: Indices,
    pending: Rows,
    progress: Indices,
) -> tuple[Indices, Rows]:
    """Lead fixed edges through a new vertex that is on them."""
    start = as_index(spoke[vertex])
    e = start
    while True:
        bent, stack, pending = _bend(
            xy, z, corner, mate, fixed, spoke, alive, following(e), reach, stack, pending, progress
        )
        if bent:
            start = as_index(spoke[vertex])
            e = start
            continue
        e = as_index(mate[preceding(e)])
        if e == start:
            return stack, pending


@inner
def _height_along(xy: Floats, z: Floats, segments: Ints, line: int, x: float, y: float) -> float:
    a, b = as_index(segments[line - 1, 0]), as_index(segments[line - 1, 1])
    return height_between(xy, z, a, b, x, y)


@inner
def _note_crossing(
    xy: Floats,
    z: Floats,
    u: int,
    v: int,
    on: int,
    line: int,
    has_height: Flags,
    segments: Ints,
    crossings: Ints,
    crossing_heights: Floats,
    progress: Indices,
) -> None:
    """Give the newest vertex, where *line* crosses *u*-*v*, its height, and write both heights down."""
    vertex = progress[VERTICES]
    x, y = xy[vertex, 0], xy[vertex, 1]
    is_ground = on == GROUND or on == 0
    own = _height_along(xy, z, segments, line, x, y) if line != GROUND else np.nan
    if is_ground or line == GROUND or not has_height[line - 1]:
        there = height_between(xy, z, u, v, x, y)
        z[vertex] = there
    else:
        there = _height_along(xy, z, segments, on, x, y)
        z[vertex] = 0.5 * (there + own) if has_height[on - 1] else own
    row = progress[CROSSINGS]
    crossings[row, 0] = vertex
    crossings[row, 1] = 0 if is_ground else on
    crossings[row, 2] = 0 if line == GROUND else line
    crossing_heights[row, 0], crossing_heights[row, 1] = there, own
    progress[CROSSINGS] += 1
    progress[VERTICES] += 1
    progress[TRIANGLES] += 2


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
    sides: Ints,
    fresh: Ints,
    reach: float,
    has_height: Flags,
    all_segments: Ints,
    crossings: Ints,
    crossing_heights: Floats,
    pending: Rows,
    progress: Indices,
) -> tuple[bool, Rows]:
    """Force segments into the mesh, splitting whatever fixed edge they cross; False where an array must grow.

    Fixed edges are first led through the *fresh* vertices that are on them. *segments* join vertices; the k-th counts
    as line ``first_line + k`` and changes the *sides* given for it. Rows of *crossings* are the vertex, the line it was
    found on (0 for any other edge) and the line that came across; *crossing_heights* has the height of either there.
    """
    stack = np.empty(64, np.int64)
    crossed = np.empty(64, np.int64)
    room = min(xy.shape[0], alive.shape[0] // 2)
    while True:
        if progress[PENDING] > 0:
            progress[PENDING] -= 1
            top = progress[PENDING]
            a, b, line = pending[top, 0], pending[top, 1], pending[top, 2]
        elif progress[NEXT_FRESH] < fresh.shape[0]:
            a = as_index(fresh[progress[NEXT_FRESH]])
            progress[NEXT_FRESH] += 1
            stack, pending = _bend_round(xy, z, corner, mate, fixed, spoke, alive, a, reach, stack, pending, progress)
            continue
        elif progress[NEXT_SEGMENT] < segments.shape[0]:
            k = progress[NEXT_SEGMENT]
            progress[NEXT_SEGMENT] += 1
            a, b, line = as_index(segments[k, 0]), as_index(segments[k, 1]), as_index(first_line + k) | sides[k]
        else:
            return True, pending
        if a == b:
            continue
        progress[WORK] += 1
        vertex, e, size, crossed = march(xy, corner, mate, fixed, spoke, a, b, reach, crossed)
        is_lost = vertex < 0 and e < 0
        if is_lost or progress[WORK] > _WORK_PER_PART * (segments.shape[0] + fresh.shape[0] + progress[VERTICES]):
            progress[TANGLED] = 1
            return False, pending
        if vertex >= 0:
            if vertex != b:
                _give_height(xy, z, vertex, a, b)
                pending = _push(pending, progress, vertex, b, line)
                if side_of(xy, a, b, vertex) != 0.0:
                    progress[SNAPPED] += 1
            if size == NEAR:
                pending = _push(pending, progress, a, vertex, line)
                continue
            if size > 0:
                stack = _clear_way(xy, corner, mate, fixed, spoke, alive, a, vertex, line, crossed, size, stack)
                e = edge_between(corner, mate, spoke, a, vertex)
            else:
                e = fix_edge(corner, mate, fixed, spoke, a, vertex, line)
            if reach > 0.0:
                bent, stack, pending = _bend(
                    xy, z, corner, mate, fixed, spoke, alive, e, reach, stack, pending, progress
                )
                if not bent:
                    f = as_index(mate[e])
                    bent, stack, pending = _bend(
                        xy, z, corner, mate, fixed, spoke, alive, f, reach, stack, pending, progress
                    )
            continue
        if progress[VERTICES] + 1 > room - 2:
            pending = _push(pending, progress, a, b, line)
            return False, pending
        u, v = as_index(corner[e]), as_index(corner[following(e)])
        other = as_index(fixed[e])
        x, y = meeting_place(xy, a, b, u, v)
        vertex = vertex_within(xy, corner, mate, e, x, y, reach)
        meeting = progress[VERTICES]
        is_split = False
        if vertex >= 0:
            progress[SNAPPED] += 1
        else:
            xy[meeting, 0], xy[meeting, 1] = x, y
            is_split = splits_cleanly(xy, corner, mate, e, meeting)
            if is_split:
                vertex = meeting
                stack = put_vertex(xy, corner, mate, fixed, spoke, alive, meeting, progress[TRIANGLES], e, True, stack)
            else:
                vertex, stack = insert_vertex(
                    xy, corner, mate, fixed, spoke, alive, meeting, progress[TRIANGLES], e, reach, stack
                )
        if vertex == a or vertex == b:
            pending = _push(pending, progress, a, b, line)
        else:
            pending = _push(pending, progress, vertex, b, line)
            pending = _push(pending, progress, a, vertex, line)
        if not is_split and vertex != u and vertex != v:
            e = edge_between(corner, mate, spoke, u, v)
            # Where the vertex fell on the edge exactly, it is split already.
            if e >= 0:
                fixed[e] = 0
                fixed[mate[e]] = 0
                pending = _push(pending, progress, vertex, v, other)
                pending = _push(pending, progress, u, vertex, other)
        if vertex == meeting:
            _note_crossing(
                xy,
                z,
                u,
                v,
                other & LINES,
                line & LINES,
                has_height,
                all_segments,
                crossings,
                crossing_heights,
                progress,
            )
            stack, pending = _bend_round(
                xy, z, corner, mate, fixed, spoke, alive, vertex, reach, stack, pending, progress
            )
        else:
            _give_height(xy, z, vertex, u, v)
            _give_height(xy, z, vertex, a, b)
