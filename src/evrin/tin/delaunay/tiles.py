"""Delaunay triangulation part by part: what is settled within one part, and what waits for its neighbours.

The plane is divided into rectangles, and the places of each are triangulated alone. A triangle whose circle lies wholly
within its rectangle is **settled**: no place of any other part can be in that circle, so it is a triangle of the whole.
All others wait. The vertices that waiting triangles have, triangulated together with those of neighbouring parts, give
all other triangles of the whole:

- A triangle of the whole that is settled in no part has three vertices each of which is a corner of a waiting triangle
  of its part, or is on that part's hull: a vertex with nothing but settled triangles around it has all its triangles.
- Its circle is empty of all places, so it is empty of those that wait: it is a triangle of the waiting ones, too.
- The edges between settled and waiting triangles are edges of the whole with both ends waiting, so they are edges of
  the triangulation of the waiting places. They part it into what is settled already and what is new.

As four places on one circle are settled by the places alone (`evrin.tin.delaunay.triangulating`), the triangulation is
unique, and the parts give it bit for bit, whatever the rectangles. The same step joins rectangles into larger ones.

References
----------
Blelloch, G. E., Miller, G. L., Hardwick, J. C., Talmor, D. (1999). Design and implementation of a practical parallel
Delaunay algorithm. *Algorithmica* 24, 243-269. https://doi.org/10.1007/PL00008262
"""

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats, IntRows, Ints, Mutable, as_index, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE

# A circle counts as known to this part of its radius, where its triangle is not too slim.
_CIRCLE_ERROR = 1e-5
_TOO_SLIM = 1e-9
_ROUNDING = 2.0**-50


@kernel
def fill_settled(xy: FloatRows, corner: Ints, triangles: int, box: Floats, settled: Mutable[Flags]) -> int:
    """Mark triangles whose circles lie within a box (west, south, east, north) for certain; return how many."""
    count = 0
    for t in range(triangles):
        settled[t] = False
        a, b, c = corner[3 * t], corner[3 * t + 1], corner[3 * t + 2]
        if a == OUTSIDE or b == OUTSIDE or c == OUTSIDE:
            continue
        ax, ay = xy[a, 0], xy[a, 1]
        bx, by, cx, cy = xy[b, 0] - ax, xy[b, 1] - ay, xy[c, 0] - ax, xy[c, 1] - ay
        b_lift, c_lift = bx * bx + by * by, cx * cx + cy * cy
        cross = bx * cy - by * cx
        if not cross > _TOO_SLIM * (b_lift + c_lift):
            continue
        east = 0.5 * (cy * b_lift - by * c_lift) / cross
        north = 0.5 * (bx * c_lift - cx * b_lift) / cross
        reach = np.sqrt(east * east + north * north) * (1.0 + _CIRCLE_ERROR)
        reach += _ROUNDING * (abs(ax) + abs(ay) + reach)
        x, y = ax + east, ay + north
        if x - reach > box[0] and x + reach < box[2] and y - reach > box[1] and y + reach < box[3]:
            settled[t] = True
            count += 1
    return count


@kernel
def fill_waiting(corner: Ints, mate: Ints, triangles: int, settled: Flags, waits: Mutable[Flags]) -> int:
    """Mark the vertices of triangles that are not settled; return how many edges part these from those that are."""
    walls = 0
    for v in range(waits.shape[0]):
        waits[v] = False
    for e in range(3 * triangles):
        if not settled[e // 3]:
            if corner[e] != OUTSIDE:
                waits[corner[e]] = True
            if settled[mate[e] // 3]:
                walls += 1
    return walls


@kernel
def fill_walls(corner: Ints, mate: Ints, triangles: int, settled: Flags, ids: Ints, walls: Mutable[IntRows]) -> None:
    """Write both ends of each edge of a waiting triangle that has a settled one beyond it."""
    count = 0
    for e in range(3 * triangles):
        if not settled[e // 3] and settled[mate[e] // 3]:
            after = e - 2 if e % 3 == 2 else e + 1
            walls[count, 0] = ids[corner[e]]
            walls[count, 1] = ids[corner[after]]
            count += 1


@kernel
def fill_covered(mate: Ints, triangles: int, wall: Flags, covered: Mutable[Flags]) -> None:
    """Mark the triangles that settled ones cover; *wall* marks half-edges whose own triangle is not covered."""
    stack = np.empty(triangles, np.int32)
    size = as_index(0)
    for t in range(triangles):
        covered[t] = False
    for e in range(3 * triangles):
        beyond = mate[e] // 3
        if wall[e] and not covered[beyond]:
            covered[beyond] = True
            stack[size] = beyond
            size += 1
    while size > 0:
        size -= 1
        t = as_index(stack[size])
        for k in range(3):
            other = as_index(mate[3 * t + k])
            if not wall[other] and not covered[other // 3]:
                covered[other // 3] = True
                stack[size] = other // 3
                size += 1


@kernel
def append_triangles(
    corner: Ints,
    mate: Ints,
    triangles: int,
    kept: Flags,
    ids: Ints,
    first: int,
    corners: Mutable[Ints],
    mates: Mutable[Ints],
    cut: Mutable[Ints],
) -> int:
    """Copy the triangles that are kept behind the first ones of a larger mesh, and write which half-edges are cut off.

    Return how many those are.
    """
    number = np.empty(triangles, np.int32)
    count = as_index(first)
    for t in range(triangles):
        number[t] = -1
        if kept[t]:
            number[t] = count
            count += 1
    cuts = 0
    for t in range(triangles):
        if not kept[t]:
            continue
        for k in range(3):
            e = 3 * as_index(number[t]) + k
            vertex = corner[3 * t + k]
            corners[e] = ids[vertex] if vertex != OUTSIDE else OUTSIDE
            other = as_index(mate[3 * t + k])
            if number[other // 3] >= 0:
                mates[e] = 3 * number[other // 3] + other % 3
            else:
                cut[cuts] = e
                cuts += 1
    return cuts
