"""Changes to single vertices and edges of a mesh, each refused where it would leave the mesh unsound."""

import numpy as np

from evrin.kernels import Flags, FloatRows, IndexRows, Indices, Mutable, as_index, inner, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, find_triangle, following, preceding
from evrin.tin.exact.predicates import orientation, square
from evrin.tin.mesh.flips import RIM, doubled, edge_between, flip, restore_delaunay
from evrin.tin.mesh.marching import march
from evrin.tin.mesh.mesh_arrays import MeshArrays

# While edits go on, an edge that one of them has turned is HELD, and the rim is RIM: neither flips.
HELD = -2
# Why a vertex is not removed.
TAKEN_OUT, ON_RIM, LINE_ENDS, LINES_MEET, LINE_STRAYS = range(5)
# What is in the way of a straight edge.
CLEAR, FORCED, GAP = range(3)


@kernel
def vertex_star(mesh: MeshArrays, vertex: int) -> Indices:
    """The half-edges that leave a vertex, counter-clockwise."""
    star = np.empty(16, np.int64)
    size = as_index(0)
    start = as_index(mesh.spoke[vertex])
    e = start
    while True:
        if size == star.shape[0]:
            star = doubled(star)
        star[size] = e
        size += 1
        e = as_index(mesh.mate[preceding(e)])
        if e == start:
            return star[:size]


@kernel
def nearest_vertex(mesh: MeshArrays, near: int, x: float, y: float) -> int:
    """The vertex of a living triangle nearest to a place, found by going on to whichever neighbour is nearer."""
    xy = mesh.xy
    e, _ = find_triangle(xy, mesh.corner, mesh.mate, near, x, y)
    best = as_index(-1)
    least = np.inf
    for h in range(e - e % 3, e - e % 3 + 3):
        v = as_index(mesh.corner[h])
        if v != OUTSIDE:
            square_distance = square(xy[v, 0] - x, xy[v, 1] - y)
            if square_distance < least:
                best, least = v, square_distance
    living = as_index(-1)
    closest = np.inf
    # A place that is not finite, or too far away to measure to, has no nearest vertex.
    going = best >= 0
    while going:
        going = False
        around = as_index(best)
        for e in vertex_star(mesh, around):
            if mesh.alive[e // 3] and least < closest:
                living, closest = around, least
        for e in vertex_star(mesh, around):
            v = as_index(mesh.corner[following(e)])
            if v == OUTSIDE:
                continue
            square_distance = square(xy[v, 0] - x, xy[v, 1] - y)
            if square_distance < closest:
                for f in vertex_star(mesh, v):
                    if mesh.alive[f // 3]:
                        living, closest = v, square_distance
                        break
            if square_distance < least:
                best, least = v, square_distance
                going = True
    return living


@inner
def _side(xy: FloatRows, a: int, b: int, c: int) -> float:
    return orientation(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1])


@kernel
def can_move(mesh: MeshArrays, vertex: int, x: float, y: float) -> bool:
    """Whether every triangle around a vertex stays upright, and the hull convex, with the vertex at another place."""
    xy, corner = mesh.xy, mesh.corner
    before, after = as_index(OUTSIDE), as_index(OUTSIDE)
    for e in vertex_star(mesh, vertex):
        b, c = as_index(corner[following(e)]), as_index(corner[preceding(e)])
        if c == OUTSIDE:
            before = b
            # Beyond the hull are outer triangles; the third hull vertex in a row is two of them away.
            first = as_index(corner[preceding(as_index(mesh.mate[following(e)]))])
            if orientation(xy[first, 0], xy[first, 1], xy[b, 0], xy[b, 1], x, y) < 0.0:
                return False
        elif b == OUTSIDE:
            after = c
            last = as_index(corner[preceding(as_index(mesh.mate[following(e)]))])
            if orientation(x, y, xy[c, 0], xy[c, 1], xy[last, 0], xy[last, 1]) < 0.0:
                return False
        elif not orientation(xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1], x, y) > 0.0:
            return False
    if before == OUTSIDE:
        return True
    return orientation(xy[before, 0], xy[before, 1], x, y, xy[after, 0], xy[after, 1]) >= 0.0


@inner
def _clip(mesh: MeshArrays, vertex: int, first: int, last: int) -> tuple[int, int]:
    """Cut one corner off the star of a vertex, strictly between two of its neighbours or anywhere; the edge so made."""
    corner = mesh.corner
    star = vertex_star(mesh, vertex)
    n = star.shape[0]
    offset = 0
    for k in range(n):
        if corner[following(star[k])] == first:
            offset = k
    span = n + 2
    if first >= 0:
        span = 0
        while corner[following(star[(offset + span) % n])] != last:
            span += 1
    for k in range(1, span):
        e = star[(offset + k) % n]
        u = as_index(corner[following(star[(offset + k - 1) % n])])
        v = as_index(corner[following(e)])
        w = as_index(corner[following(star[(offset + k + 1) % n])])
        if _side(mesh.xy, u, v, w) > 0.0 and _side(mesh.xy, u, w, vertex) >= 0.0:
            flip(mesh, e)
            return u, w
    return -1, -1


@inner
def _chord_is_inside(mesh: MeshArrays, star: Indices, first: int, last: int) -> bool:
    """Whether the straight line between two corners of a star has the corners between on either proper side."""
    n = star.shape[0]
    offset = 0
    for k in range(n):
        if mesh.corner[following(star[k])] == first:
            offset = k
    is_past = False
    for k in range(1, n):
        v = as_index(mesh.corner[following(star[(offset + k) % n])])
        if v == last:
            is_past = True
            continue
        side = _side(mesh.xy, first, last, v)
        if (side <= 0.0 and is_past) or (side >= 0.0 and not is_past):
            return False
    return True


@kernel
def remove_vertex(mesh: MeshArrays, vertex: int) -> int:
    """Take a vertex out of the middle of the living mesh, and close the ground over it.

    A line that runs straight through it continues between its two neighbours. Two triangles of the arrays fall idle, so
    that all others keep their numbers.
    """
    fixed = mesh.fixed
    star = vertex_star(mesh, vertex)
    first, last = as_index(-1), as_index(-1)
    line = as_index(0)
    forced = 0
    for e in star:
        if not mesh.alive[e // 3]:
            return ON_RIM
        if fixed[e] > 0:
            forced += 1
            if forced == 1:
                first, line = as_index(mesh.corner[following(e)]), as_index(fixed[e])
            else:
                last = as_index(mesh.corner[following(e)])
    if forced == 1:
        return LINE_ENDS
    if forced > 2:
        return LINES_MEET
    if forced == 2 and not _chord_is_inside(mesh, star, first, last):
        return LINE_STRAYS
    for e in star:
        fixed[e] = 0
        fixed[mesh.mate[e]] = 0
    made = np.empty((star.shape[0] + 1, 2), np.int64)
    size = as_index(0)
    if forced == 2:
        # The side of the line that the vertex does not lean into, then the other.
        if _side(mesh.xy, first, last, vertex) < 0.0:
            first, last = last, first
        made, size = _clip_all(mesh, vertex, first, last, made, size)
        made, size = _clip_all(mesh, vertex, last, first, made, size)
    made, size = _clip_all(mesh, vertex, -1, -1, made, size)
    star = vertex_star(mesh, vertex)
    _close_over(mesh, vertex, star)
    if forced == 2:
        e = edge_between(mesh, first, last)
        fixed[e] = line
        fixed[mesh.mate[e]] = line
    stack = np.empty(max(64, 2 * size + 8), np.int64)
    for k in range(size):
        stack[k] = edge_between(mesh, made[k, 0], made[k, 1])
    restore_delaunay(mesh, stack, size)
    return TAKEN_OUT


@kernel
def take_away(mesh: MeshArrays, triangles: Indices) -> None:
    """Take triangles away, and hold the rim that this leaves in place of the old one."""
    for t in triangles:
        mesh.alive[t] = False
    for t in triangles:
        for e in range(3 * t, 3 * t + 3):
            f = mesh.mate[e]
            if mesh.fixed[e] <= 0:
                mesh.fixed[e] = mesh.fixed[f] = RIM if mesh.alive[f // 3] else 0


@kernel
def remove_from_rim(mesh: MeshArrays, vertex: int) -> int:
    """Take a vertex off the rim: ground that is left between its neighbours is closed, the rest goes with it."""
    star = vertex_star(mesh, vertex)
    for e in star:
        if mesh.fixed[e] > 0 and mesh.alive[e // 3] and mesh.alive[mesh.mate[e] // 3]:
            return LINE_ENDS
    made = np.empty((star.shape[0] + 1, 2), np.int64)
    size = as_index(0)
    going = True
    while going:
        going = False
        star = vertex_star(mesh, vertex)
        for e in star:
            f = as_index(mesh.mate[e])
            if not mesh.alive[e // 3] or not mesh.alive[f // 3]:
                continue
            u, v, w = as_index(mesh.corner[preceding(f)]), as_index(mesh.corner[f]), as_index(mesh.corner[preceding(e)])
            if _side(mesh.xy, u, v, w) > 0.0 and _side(mesh.xy, u, w, vertex) > 0.0:
                mesh.fixed[e] = 0
                mesh.fixed[f] = 0
                flip(mesh, e)
                made[size, 0], made[size, 1] = u, w
                size += 1
                going = True
                break
    star = vertex_star(mesh, vertex)
    lost = np.empty(star.shape[0], np.int64)
    count = as_index(0)
    for e in star:
        if mesh.alive[e // 3]:
            lost[count] = e // 3
            count += 1
    take_away(mesh, lost[:count])
    stack = np.empty(max(64, 2 * size + 8), np.int64)
    for k in range(size):
        stack[k] = edge_between(mesh, made[k, 0], made[k, 1])
    restore_delaunay(mesh, stack, size)
    return TAKEN_OUT


@inner
def _clip_all(
    mesh: MeshArrays,
    vertex: int,
    first: int,
    last: int,
    made: Mutable[IndexRows],
    size: int,
) -> tuple[Indices, int]:
    while vertex_star(mesh, vertex).shape[0] > 3:
        u, w = _clip(mesh, vertex, first, last)
        if u < 0:
            break
        made[size, 0], made[size, 1] = u, w
        size += 1
    return made, size


@inner
def _close_over(mesh: MeshArrays, vertex: int, star: Indices) -> None:
    """Make one triangle of the three around a vertex."""
    mate = mesh.mate
    t = star[0] - star[0] % 3
    corners, beyond, lines = np.empty(3, np.int64), np.empty(3, np.int64), np.empty(3, np.int64)
    for k in range(3):
        across = as_index(following(star[k]))
        corners[k], beyond[k], lines[k] = mesh.corner[across], mate[across], mesh.fixed[across]
    for k in range(3):
        s = star[k] - star[k] % 3
        if s != t:
            mesh.alive[s // 3] = False
            for h in range(s, s + 3):
                mesh.corner[h] = OUTSIDE
                mate[h] = h
                mesh.fixed[h] = 0
    for k in range(3):
        mesh.corner[t + k] = corners[k]
        mate[t + k] = beyond[k]
        mate[beyond[k]] = t + k
        mesh.fixed[t + k] = lines[k]
        mesh.spoke[corners[k]] = t + k
    mesh.spoke[vertex] = t


@kernel
def clear_between(mesh: MeshArrays, a: int, b: int) -> tuple[int, int]:
    """What is in the way of a straight edge between two vertices, and the half-edge where; held edges do not count."""
    fixed, alive = mesh.fixed, mesh.alive
    crossed = np.empty(64, np.int64)
    while a != b:
        vertex, e, size, crossed = march(mesh, a, b, 0.0, crossed)
        if e < 0 and vertex < 0:
            return GAP, e
        if vertex < 0 and fixed[e] != HELD:
            return (FORCED if fixed[e] > 0 else GAP), e
        if vertex < 0:
            fixed[e] = 0
            fixed[mesh.mate[e]] = 0
            continue
        for k in range(size):
            if not alive[crossed[k] // 3] or not alive[mesh.mate[crossed[k]] // 3]:
                return GAP, as_index(crossed[k])
        if size == 0:
            e = edge_between(mesh, a, vertex)
            if not alive[e // 3] and not alive[mesh.mate[e] // 3]:
                return GAP, as_index(e)
        a = vertex
    return CLEAR, as_index(-1)


@kernel
def hold_rim(mesh: MeshArrays, triangles: int) -> None:
    """Hold every free edge between a living triangle and none."""
    for e in range(3 * triangles):
        if mesh.fixed[e] == 0 and mesh.alive[e // 3] != mesh.alive[mesh.mate[e] // 3]:
            mesh.fixed[e] = RIM


@kernel
def opens_hole(mesh: MeshArrays, triangles: Indices) -> int:
    """The first of some triangles whose removal would open a hole inside, away from every rim; -1 if none would."""
    is_chosen = np.zeros(mesh.alive.shape[0], np.bool_)
    for t in triangles:
        is_chosen[t] = True
    stack = np.empty(triangles.shape[0] + 1, np.int64)
    for first in triangles:
        if not is_chosen[first]:
            continue
        reaches_rim = False
        is_chosen[first] = False
        stack[0] = first
        size = 1
        while size > 0:
            size -= 1
            t = stack[size]
            for e in range(3 * t, 3 * t + 3):
                beyond = mesh.mate[e] // 3
                if is_chosen[beyond]:
                    is_chosen[beyond] = False
                    stack[size] = beyond
                    size += 1
                elif not mesh.alive[beyond]:
                    reaches_rim = True
        if not reaches_rim:
            return as_index(first)
    return as_index(-1)


@inner
def _is_apart(xy: FloatRows, a: int, b: int, c: int, x0: float, y0: float, x1: float, y1: float) -> bool:
    """Whether some side of a triangle, or the line itself, parts them."""
    if max(x0, x1) < min(xy[a, 0], xy[b, 0], xy[c, 0]) or min(x0, x1) > max(xy[a, 0], xy[b, 0], xy[c, 0]):
        return True
    if max(y0, y1) < min(xy[a, 1], xy[b, 1], xy[c, 1]) or min(y0, y1) > max(xy[a, 1], xy[b, 1], xy[c, 1]):
        return True
    left = right = 0
    for v in (a, b, c):
        side = orientation(x0, y0, x1, y1, xy[v, 0], xy[v, 1])
        left += side > 0.0
        right += side < 0.0
    if left == 0 or right == 0:
        return True
    for u, v in ((a, b), (b, c), (c, a)):
        if (
            orientation(xy[u, 0], xy[u, 1], xy[v, 0], xy[v, 1], x0, y0) <= 0.0
            and orientation(xy[u, 0], xy[u, 1], xy[v, 0], xy[v, 1], x1, y1) <= 0.0
        ):
            return True
    return False


@kernel
def triangles_under(mesh: MeshArrays, triangles: int, line: FloatRows) -> Flags:
    """Which living triangles a line (k, 2) passes through, not merely beside."""
    under = np.zeros(triangles, np.bool_)
    for t in range(triangles):
        if not mesh.alive[t]:
            continue
        a, b, c = as_index(mesh.corner[3 * t]), as_index(mesh.corner[3 * t + 1]), as_index(mesh.corner[3 * t + 2])
        for k in range(line.shape[0] - 1):
            if not _is_apart(mesh.xy, a, b, c, line[k, 0], line[k, 1], line[k + 1, 0], line[k + 1, 1]):
                under[t] = True
                break
    return under
