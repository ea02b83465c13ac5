"""Forced edges: no triangle crosses a line, and everywhere else the triangulation stays Delaunay.

References
----------
Sloan, S. W. (1993). A fast algorithm for generating constrained Delaunay triangulations. *Computers & Structures* 47,
441-450. https://doi.org/10.1016/0045-7949(93)90239-A
"""

from typing import NamedTuple

import numpy as np

from evrin.kernels import Flags, FloatRows, IndexRows, Indices, IntRows, Ints, Mutable, as_index, inner, kernel, lean
from evrin.tin.delaunay.triangulating import OUTSIDE, following, preceding
from evrin.tin.mesh.flips import GROUND, LINES, edge_between, fix_edge, insert_vertex, put_vertex, restore_delaunay
from evrin.tin.mesh.marching import NEAR, clear_way, march
from evrin.tin.mesh.meeting import height_between, is_on, meeting_place, side_of, splits_cleanly, vertex_within
from evrin.tin.mesh.mesh_arrays import MeshArrays

# Slots of the *progress* array, which lets a caller enlarge the arrays and go on.
VERTICES, TRIANGLES, NEXT_SEGMENT, NEXT_FRESH, PENDING, CROSSINGS, WORK, TANGLED, SNAPPED = range(9)
SLOTS = 9
_WORK_PER_PART = 1000


class LineArrays(NamedTuple):
    """The lines of a mesh, and what came up where they cross.

    Attributes
    ----------
    segments : (s, 2) int32
        All segments so far, by line number less one.
    has_height : (s,) bool
        Whether a segment counts for the height where it crosses another.
    crossings : (c, 3) int32
        The vertex, the line it was found on (0 for any other edge) and the line that came across.
    heights : (c, 2) float64
        The height of either there.
    progress : (SLOTS,) int64
    """

    segments: IntRows
    has_height: Flags
    crossings: Mutable[IntRows]
    heights: Mutable[FloatRows]
    progress: Mutable[Indices]


@inner
def _push(pending: Mutable[IndexRows], progress: Mutable[Indices], a: int, b: int, line: int) -> IndexRows:
    top = progress[PENDING]
    if top == pending.shape[0]:
        larger = np.empty((2 * top, 3), np.int64)
        for k in range(top):
            larger[k, 0], larger[k, 1], larger[k, 2] = pending[k, 0], pending[k, 1], pending[k, 2]
        pending = larger
    pending[top, 0], pending[top, 1], pending[top, 2] = a, b, line
    progress[PENDING] = top + 1
    return pending


@lean
def _give_height(mesh: MeshArrays, vertex: int, u: int, v: int) -> None:
    """A vertex without a height takes that of the edge that now passes through it."""
    if np.isnan(mesh.z[vertex]):
        mesh.z[vertex] = height_between(mesh.xy, mesh.z, u, v, mesh.xy[vertex, 0], mesh.xy[vertex, 1])


@inner
def _bend(
    mesh: MeshArrays,
    e: int,
    reach: float,
    stack: Mutable[Indices],
    pending: Mutable[IndexRows],
    progress: Mutable[Indices],
) -> tuple[bool, Indices, IndexRows]:
    """Lead fixed edge *e* through the third vertex of its triangle, if that is on it."""
    fixed = mesh.fixed
    u, v, c = as_index(mesh.corner[e]), as_index(mesh.corner[following(e)]), as_index(mesh.corner[preceding(e)])
    if fixed[e] <= 0 or u == OUTSIDE or v == OUTSIDE or c == OUTSIDE or not is_on(mesh.xy, u, v, c, reach):
        return False, stack, pending
    line = as_index(fixed[e])
    fixed[e] = 0
    fixed[mesh.mate[e]] = 0
    fix_edge(mesh, u, c, line)
    fix_edge(mesh, c, v, line)
    _give_height(mesh, c, u, v)
    # Both are looked at again for vertices on them; the sides have changed already.
    pending = _push(pending, progress, u, c, line & LINES)
    pending = _push(pending, progress, c, v, line & LINES)
    stack[0] = e
    progress[SNAPPED] += 1
    return True, restore_delaunay(mesh, stack, 1), pending


@inner
def _bend_round(
    mesh: MeshArrays,
    vertex: int,
    reach: float,
    stack: Mutable[Indices],
    pending: Mutable[IndexRows],
    progress: Mutable[Indices],
) -> tuple[Indices, IndexRows]:
    """Lead fixed edges through a new vertex that is on them."""
    start = as_index(mesh.spoke[vertex])
    e = start
    while True:
        bent, stack, pending = _bend(mesh, following(e), reach, stack, pending, progress)
        if bent:
            start = as_index(mesh.spoke[vertex])
            e = start
            continue
        e = as_index(mesh.mate[preceding(e)])
        if e == start:
            return stack, pending


@lean
def _note_crossing(mesh: MeshArrays, lines: LineArrays, u: int, v: int, on: int, line: int) -> None:
    """Give the newest vertex, where *line* crosses *u*-*v*, its height, and write both heights down."""
    vertex = lines.progress[VERTICES]
    x, y = mesh.xy[vertex, 0], mesh.xy[vertex, 1]
    is_ground = on == GROUND or on == 0
    own = _height_along(mesh, lines.segments, line, x, y) if line != GROUND else np.nan
    if is_ground or line == GROUND or not lines.has_height[line - 1]:
        there = height_between(mesh.xy, mesh.z, u, v, x, y)
        mesh.z[vertex] = there
    else:
        there = _height_along(mesh, lines.segments, on, x, y)
        mesh.z[vertex] = 0.5 * (there + own) if lines.has_height[on - 1] else own
    row = lines.progress[CROSSINGS]
    lines.crossings[row, 0] = vertex
    lines.crossings[row, 1] = 0 if is_ground else on
    lines.crossings[row, 2] = 0 if line == GROUND else line
    lines.heights[row, 0], lines.heights[row, 1] = there, own
    lines.progress[CROSSINGS] += 1
    lines.progress[VERTICES] += 1
    lines.progress[TRIANGLES] += 2


@lean
def _height_along(mesh: MeshArrays, segments: IntRows, line: int, x: float, y: float) -> float:
    a, b = as_index(segments[line - 1, 0]), as_index(segments[line - 1, 1])
    return height_between(mesh.xy, mesh.z, a, b, x, y)


@inner
def _join(
    mesh: MeshArrays,
    a: int,
    b: int,
    line: int,
    vertex: int,
    reach: float,
    crossed: Indices,
    size: int,
    stack: Mutable[Indices],
    pending: Mutable[IndexRows],
    progress: Mutable[Indices],
) -> tuple[Indices, IndexRows]:
    """Make *a*-*vertex* an edge of the line from *a* to *b*, and lead it through vertices that are on it."""
    if vertex != b:
        _give_height(mesh, vertex, a, b)
        pending = _push(pending, progress, vertex, b, line)
        if side_of(mesh.xy, a, b, vertex) != 0.0:
            progress[SNAPPED] += 1
    if size == NEAR:
        return stack, _push(pending, progress, a, vertex, line)
    if size > 0:
        stack = clear_way(mesh, a, vertex, line, crossed, size, stack)
        e = edge_between(mesh, a, vertex)
    else:
        e = fix_edge(mesh, a, vertex, line)
    if reach > 0.0:
        bent, stack, pending = _bend(mesh, e, reach, stack, pending, progress)
        if not bent:
            bent, stack, pending = _bend(mesh, as_index(mesh.mate[e]), reach, stack, pending, progress)
    return stack, pending


@inner
def _cross(
    mesh: MeshArrays,
    lines: LineArrays,
    a: int,
    b: int,
    line: int,
    e: int,
    reach: float,
    stack: Mutable[Indices],
    pending: Mutable[IndexRows],
) -> tuple[Indices, IndexRows]:
    """Put a vertex where the line from *a* to *b* crosses fixed edge *e*, or lead both through one that is there."""
    progress = lines.progress
    u, v = as_index(mesh.corner[e]), as_index(mesh.corner[following(e)])
    other = as_index(mesh.fixed[e])
    x, y = meeting_place(mesh.xy, a, b, u, v)
    vertex = vertex_within(mesh, e, x, y, reach)
    meeting = progress[VERTICES]
    is_split = False
    if vertex >= 0:
        progress[SNAPPED] += 1
    else:
        mesh.xy[meeting, 0], mesh.xy[meeting, 1] = x, y
        is_split = splits_cleanly(mesh, e, meeting)
        if is_split:
            vertex = meeting
            stack = put_vertex(mesh, meeting, progress[TRIANGLES], e, True, stack)
        else:
            vertex, stack = insert_vertex(mesh, meeting, progress[TRIANGLES], e, reach, stack)
    if vertex == a or vertex == b:
        pending = _push(pending, progress, a, b, line)
    else:
        pending = _push(pending, progress, vertex, b, line)
        pending = _push(pending, progress, a, vertex, line)
    if not is_split and vertex != u and vertex != v:
        e = edge_between(mesh, u, v)
        # Where the vertex fell on the edge exactly, it is split already.
        if e >= 0:
            mesh.fixed[e] = 0
            mesh.fixed[mesh.mate[e]] = 0
            pending = _push(pending, progress, vertex, v, other)
            pending = _push(pending, progress, u, vertex, other)
    if vertex == meeting:
        _note_crossing(mesh, lines, u, v, other & LINES, line & LINES)
        stack, pending = _bend_round(mesh, vertex, reach, stack, pending, progress)
    else:
        _give_height(mesh, vertex, u, v)
        _give_height(mesh, vertex, a, b)
    return stack, pending


@kernel
def force_segments(
    mesh: MeshArrays,
    lines: LineArrays,
    segments: IntRows,
    first_line: int,
    sides: Ints,
    fresh: Ints,
    reach: float,
    pending: Mutable[IndexRows],
) -> tuple[bool, IndexRows]:
    """Force segments into the mesh, splitting whatever fixed edge they cross; False where an array must grow.

    Fixed edges are first made to pass through the *fresh* vertices that are on them. *segments* join vertices; the k-th
    counts as line ``first_line + k`` and changes the *sides* given for it.
    """
    progress = lines.progress
    stack = np.empty(64, np.int64)
    crossed = np.empty(64, np.int64)
    room = min(mesh.xy.shape[0], mesh.alive.shape[0] // 2)
    while True:
        if progress[PENDING] > 0:
            progress[PENDING] -= 1
            top = progress[PENDING]
            a, b, line = pending[top, 0], pending[top, 1], pending[top, 2]
        elif progress[NEXT_FRESH] < fresh.shape[0]:
            a = as_index(fresh[progress[NEXT_FRESH]])
            progress[NEXT_FRESH] += 1
            stack, pending = _bend_round(mesh, a, reach, stack, pending, progress)
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
        vertex, e, size, crossed = march(mesh, a, b, reach, crossed)
        is_lost = vertex < 0 and e < 0
        if is_lost or progress[WORK] > _WORK_PER_PART * (segments.shape[0] + fresh.shape[0] + progress[VERTICES]):
            progress[TANGLED] = 1
            return False, pending
        if vertex >= 0:
            stack, pending = _join(mesh, a, b, line, vertex, reach, crossed, size, stack, pending, progress)
        elif progress[VERTICES] + 1 > room - 2:
            return False, _push(pending, progress, a, b, line)
        else:
            stack, pending = _cross(mesh, lines, a, b, line, e, reach, stack, pending)
