"""Faces between loose edges: a planar graph walked round, face by face."""

import numpy as np

from evrin.kernels import Flags, FloatRows, Indices, IntRows, Ints, Mutable, inner, kernel
from evrin.tin.exact.predicates import orientation


@inner
def _is_after(xy: FloatRows, hub: int, a: int, b: int) -> bool:
    """Whether b comes before a, counter-clockwise from due east around a hub."""
    ax, ay = xy[a, 0] - xy[hub, 0], xy[a, 1] - xy[hub, 1]
    bx, by = xy[b, 0] - xy[hub, 0], xy[b, 1] - xy[hub, 1]
    a_upper = ay > 0.0 or (ay == 0.0 and ax > 0.0)
    b_upper = by > 0.0 or (by == 0.0 and bx > 0.0)
    if a_upper != b_upper:
        return bool(b_upper)
    return bool(orientation(xy[hub, 0], xy[hub, 1], xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1]) < 0.0)


@kernel
def order_round_vertices(xy: FloatRows, edges: IntRows, starts: Mutable[Indices], out: Mutable[Ints]) -> None:
    """Fill *out* with the half-edges (2 i from the first end of edge i, 2 i + 1 from the other) that leave each vertex.

    Those of vertex v are in ``out[starts[v]:starts[v + 1]]``, counter-clockwise.
    """
    for k in range(starts.shape[0]):
        starts[k] = 0
    for i in range(edges.shape[0]):
        starts[edges[i, 0] + 1] += 1
        starts[edges[i, 1] + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    for i in range(edges.shape[0]):
        for side in range(2):
            hub, far = edges[i, side], edges[i, 1 - side]
            row = cursor[hub]
            cursor[hub] += 1
            while row > starts[hub]:
                other = out[row - 1]
                if not _is_after(xy, hub, edges[other // 2, 1 - other % 2], far):
                    break
                out[row] = other
                row -= 1
            out[row] = 2 * i + side


@kernel
def walk_faces(edges: IntRows, starts: Indices, ring: Ints, face_of: Mutable[Ints], sides: Mutable[Ints]) -> int:
    """Number the faces to the left of half-edges in *face_of*, count the sides of each; return how many there are."""
    place = np.empty(ring.shape[0], np.int32)
    for row in range(ring.shape[0]):
        place[ring[row]] = row
    for h in range(face_of.shape[0]):
        face_of[h] = -1
    count = 0
    for first in range(face_of.shape[0]):
        if face_of[first] >= 0:
            continue
        h = first
        length = 0
        while face_of[h] < 0:
            face_of[h] = count
            length += 1
            back = h ^ 1
            hub = edges[back // 2, back % 2]
            row = place[back] - 1
            if row < starts[hub]:
                row = starts[hub + 1] - 1
            h = ring[row]
        sides[count] = length
        count += 1
    return count


@kernel
def prune_dangling(edges: IntRows, starts: Indices, ring: Ints, removed: Mutable[Flags]) -> None:
    """Mark edges that end where no other does, and those that then do."""
    vertices = starts.shape[0] - 1
    degree = np.empty(vertices, np.int64)
    waiting = np.empty(vertices, np.int64)
    count = 0
    for v in range(vertices):
        degree[v] = starts[v + 1] - starts[v]
        if degree[v] == 1:
            waiting[count] = v
            count += 1
    while count > 0:
        count -= 1
        v = waiting[count]
        for row in range(starts[v], starts[v + 1]):
            h = ring[row]
            if removed[h // 2]:
                continue
            removed[h // 2] = True
            other = edges[h // 2, 1 - h % 2]
            degree[v] -= 1
            degree[other] -= 1
            if degree[other] == 1:
                waiting[count] = other
                count += 1


@kernel
def crossing_edges(xy: FloatRows, edges: IntRows, order: Indices, crossed: Mutable[Flags], first: Mutable[Ints]) -> int:
    """Mark edges that meet another anywhere but at a common end; note one pair in *first*; return how many pairs.

    *order* has the edges by their western ends.
    """
    crossing_count = 0
    n = edges.shape[0]
    for i in range(n):
        a, b = edges[order[i], 0], edges[order[i], 1]
        east = max(xy[a, 0], xy[b, 0])
        south, north = min(xy[a, 1], xy[b, 1]), max(xy[a, 1], xy[b, 1])
        for j in range(i + 1, n):
            c, d = edges[order[j], 0], edges[order[j], 1]
            if min(xy[c, 0], xy[d, 0]) > east:
                break
            if min(xy[c, 1], xy[d, 1]) > north or max(xy[c, 1], xy[d, 1]) < south:
                continue
            if _meet(xy, a, b, c, d):
                if crossing_count == 0:
                    first[0], first[1] = order[i], order[j]
                crossed[order[i]] = True
                crossed[order[j]] = True
                crossing_count += 1
    return crossing_count


@inner
def _side(xy: FloatRows, a: int, b: int, c: int) -> float:
    return orientation(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1])


@inner
def _meet(xy: FloatRows, a: int, b: int, c: int, d: int) -> bool:
    """Whether edges ab and cd meet where they have no common end, or run along each other."""
    if a == c or a == d or b == c or b == d:
        hub = a if a == c or a == d else b
        p = b if hub == a else a
        q = d if hub == c else c
        if _side(xy, hub, p, q) != 0.0:
            return False
        along = (xy[p, 0] - xy[hub, 0]) * (xy[q, 0] - xy[hub, 0])
        return bool(along + (xy[p, 1] - xy[hub, 1]) * (xy[q, 1] - xy[hub, 1]) > 0.0)
    c_side, d_side = _side(xy, a, b, c), _side(xy, a, b, d)
    if (c_side > 0.0 and d_side > 0.0) or (c_side < 0.0 and d_side < 0.0):
        return False
    a_side, b_side = _side(xy, c, d, a), _side(xy, c, d, b)
    if c_side == 0.0 and d_side == 0.0:
        for axis in range(2):
            low, high = min(xy[a, axis], xy[b, axis]), max(xy[a, axis], xy[b, axis])
            if max(xy[c, axis], xy[d, axis]) < low or min(xy[c, axis], xy[d, axis]) > high:
                return False
        return True
    return not ((a_side > 0.0 and b_side > 0.0) or (a_side < 0.0 and b_side < 0.0))
