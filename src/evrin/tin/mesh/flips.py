"""Local changes to a mesh with fixed edges: flip, split, insert, and Delaunay restored around.

``fixed[e]`` is 0 on a free half-edge and the number of its line on a forced one. While a boundary is cut through the
surface, edges of the ground are held as line GROUND, and the edges that part inside from outside carry SIDES as well:
each of these bits is the part of the plane that begins or ends there. Negative numbers hold edges while edits go on.
``spoke[v]`` is any half-edge that leaves vertex ``v``.
"""

import numpy as np

from evrin.kernels import Indices, Mutable, as_index, inner, lean, lean_kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, find_triangle, following, is_delaunay, preceding
from evrin.tin.exact.predicates import orientation
from evrin.tin.mesh.meeting import vertex_within
from evrin.tin.mesh.mesh_arrays import MeshArrays

RIM = -1
GROUND = 2**28 - 1
LINES = 2**28 - 1
DATA, KEEP, CUT = 2**28, 2**29, 2**30
SIDES = DATA | KEEP | CUT


@inner
def doubled(values: Indices) -> Indices:
    out = np.empty(2 * values.shape[0], np.int64)
    for k in range(values.shape[0]):
        out[k] = values[k]
    return out


@lean_kernel
def fill_spokes(mesh: MeshArrays, triangles: int) -> None:
    for e in range(3 * triangles):
        if mesh.corner[e] != OUTSIDE:
            mesh.spoke[mesh.corner[e]] = e


@lean_kernel
def flip(mesh: MeshArrays, e: int) -> None:
    """Turn the edge of half-edge *e* into the other diagonal of its quadrilateral, at ``preceding(e)`` afterwards."""
    corner, mate, fixed, spoke = mesh.corner, mesh.mate, mesh.fixed, mesh.spoke
    f = as_index(mate[e])
    e_next = following(e)
    e_last = preceding(e)
    f_next = following(f)
    f_last = preceding(f)
    a = corner[e]
    b = corner[f]
    c = corner[e_last]
    d = corner[f_last]
    corner[e] = d
    corner[f] = c
    mate[e] = mate[f_last]
    fixed[e] = fixed[f_last]
    if mate[e] >= 0:
        mate[mate[e]] = e
    mate[f] = mate[e_last]
    fixed[f] = fixed[e_last]
    if mate[f] >= 0:
        mate[mate[f]] = f
    mate[e_last] = f_last
    mate[f_last] = e_last
    fixed[e_last] = 0
    fixed[f_last] = 0
    if a != OUTSIDE:
        spoke[a] = f_next
    if b != OUTSIDE:
        spoke[b] = e_next
    if c != OUTSIDE:
        spoke[c] = f
    if d != OUTSIDE:
        spoke[d] = e


@lean_kernel
def is_convex(mesh: MeshArrays, e: int) -> bool:
    """Whether the quadrilateral round half-edge *e* is strictly convex, so that its edge can flip."""
    xy, corner = mesh.xy, mesh.corner
    a = corner[e]
    b = corner[mesh.mate[e]]
    c = corner[preceding(e)]
    d = corner[preceding(as_index(mesh.mate[e]))]
    if a == OUTSIDE or b == OUTSIDE or c == OUTSIDE or d == OUTSIDE:
        return False
    return (
        orientation(xy[d, 0], xy[d, 1], xy[c, 0], xy[c, 1], xy[a, 0], xy[a, 1]) > 0.0
        and orientation(xy[c, 0], xy[c, 1], xy[d, 0], xy[d, 1], xy[b, 0], xy[b, 1]) > 0.0
    )


@lean
def _is_kept(mesh: MeshArrays, e: int) -> bool:
    xy, corner = mesh.xy, mesh.corner
    if mesh.fixed[e] != 0:
        return True
    a = corner[e]
    b = corner[mesh.mate[e]]
    c = corner[preceding(e)]
    d = corner[preceding(as_index(mesh.mate[e]))]
    if a == OUTSIDE:
        return orientation(xy[d, 0], xy[d, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1]) <= 0.0
    if b == OUTSIDE:
        return orientation(xy[c, 0], xy[c, 1], xy[a, 0], xy[a, 1], xy[d, 0], xy[d, 1]) <= 0.0
    if c == OUTSIDE:
        return True
    return is_delaunay(xy, a, b, c, d)


@inner
def restore_delaunay(
    mesh: MeshArrays,
    stack: Mutable[Indices],
    size: int,
) -> Indices:
    """Flip until every free edge on the stack, and every edge so disturbed, is Delaunay; return the stack, grown."""
    while size > 0:
        size -= 1
        e = stack[size]
        if _is_kept(mesh, e):
            continue
        f = as_index(mesh.mate[e])
        # Across a rim only a sliver that a rounded place leaves can flip; it belongs to the far side.
        mesh.alive[e // 3] = mesh.alive[f // 3]
        flip(mesh, e)
        if size + 4 > stack.shape[0]:
            stack = doubled(stack)
        stack[size] = e
        stack[size + 1] = following(e)
        stack[size + 2] = f
        stack[size + 3] = following(f)
        size += 4
    return stack


@lean
def _split_three(mesh: MeshArrays, e: int, vertex: int, triangles: int) -> None:
    corner, mate, fixed = mesh.corner, mesh.mate, mesh.fixed
    e_next = following(e)
    e_last = preceding(e)
    b = corner[e_next]
    c = corner[e_last]
    u = 3 * triangles
    v = u + 3
    corner[u], corner[u + 1], corner[u + 2] = b, c, vertex
    corner[v], corner[v + 1], corner[v + 2] = c, corner[e], vertex
    mate[u], fixed[u] = mate[e_next], fixed[e_next]
    mate[v], fixed[v] = mate[e_last], fixed[e_last]
    mate[mate[u]] = u
    mate[mate[v]] = v
    corner[e_last] = vertex
    for side, beyond in ((e_next, u + 2), (u + 1, v + 2), (v + 1, e_last)):
        mate[side] = beyond
        mate[beyond] = side
        fixed[side] = 0
        fixed[beyond] = 0
    for h in (e, u, v, u + 2):
        if corner[h] != OUTSIDE:
            mesh.spoke[corner[h]] = h


@inner
def insert_vertex(
    mesh: MeshArrays,
    vertex: int,
    triangles: int,
    near: int,
    reach: float,
    stack: Mutable[Indices],
) -> tuple[int, Indices]:
    """Insert *vertex*, whose place is in *xy*; return it, or the vertex that is within reach of the place."""
    xy = mesh.xy
    x = xy[vertex, 0]
    y = xy[vertex, 1]
    e, on_edge = find_triangle(xy, mesh.corner, mesh.mate, near, x, y)
    t = e - e % 3
    held = as_index(-1)
    for h in range(t, t + 3):
        v = mesh.corner[h]
        if v != OUTSIDE and xy[v, 0] == x and xy[v, 1] == y:
            held = as_index(v)
    if held < 0 and reach > 0.0:
        held = vertex_within(mesh, e, x, y, reach)
    if held >= 0:
        return held, stack
    if on_edge >= 0:
        e = on_edge
    return vertex, put_vertex(mesh, vertex, triangles, e, on_edge >= 0, stack)


@inner
def put_vertex(
    mesh: MeshArrays,
    vertex: int,
    triangles: int,
    e: int,
    on_edge: bool,
    stack: Mutable[Indices],
) -> Indices:
    """Put *vertex* inside the triangle of half-edge *e*, or on its edge; either half of a fixed edge stays fixed."""
    alive = mesh.alive
    line = as_index(mesh.fixed[e])
    alive[triangles] = alive[e // 3]
    alive[triangles + 1] = alive[e // 3]
    _split_three(mesh, e, vertex, triangles)
    u = 3 * triangles
    stack[0], stack[1], stack[2] = e, u, u + 3
    size = as_index(3)
    if on_edge:
        f = as_index(mesh.mate[e])
        a, b = as_index(mesh.corner[e]), as_index(mesh.corner[f])
        alive[e // 3] = alive[f // 3]
        flip(mesh, e)
        if line != 0:
            fix_edge(mesh, vertex, a, line)
            fix_edge(mesh, vertex, b, line)
        stack[3] = following(f)
        # Where the edge is on the hull, the outer triangles beside the vertex have to be looked at, too.
        stack[4], stack[5] = following(e), f
        size = as_index(6)
    return restore_delaunay(mesh, stack, size)


@lean
def edge_between(mesh: MeshArrays, a: int, b: int) -> int:
    """The half-edge from *a* to *b*, or -1."""
    start = as_index(mesh.spoke[a])
    e = start
    while True:
        if mesh.corner[following(e)] == b:
            return e
        e = as_index(mesh.mate[preceding(e)])
        if e == start:
            return -1


@lean
def fix_edge(mesh: MeshArrays, a: int, b: int, line: int) -> int:
    """Fix edge *a*-*b* as part of a line, beside what it is already; return its half-edge."""
    e = edge_between(mesh, a, b)
    held = as_index(mesh.fixed[e])
    if line < 0:
        together = line if held <= 0 else held
    else:
        held = max(held, 0)
        number = held & LINES
        if number == 0 or number == GROUND:
            number = line & LINES if line & LINES else number
        together = number | ((held ^ line) & SIDES)
    mesh.fixed[e] = together
    mesh.fixed[mesh.mate[e]] = together
    return e
