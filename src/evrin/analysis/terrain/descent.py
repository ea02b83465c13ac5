"""Following water down the triangles."""

import numpy as np

from evrin.kernels import FloatRows, Indices, IntRows, Ints, Mutable, as_index, inner, kernel

PIT, EDGE, LEVEL = 0, 1, 2
ENDS = ("pit", "edge of the surface", "level ground")


@inner
def _add(out: Mutable[FloatRows], count: int, x: float, y: float, z: float) -> int:
    """Write a place; heights that rounding would raise are held down."""
    if count < out.shape[0]:
        if count > 0 and z > out[count - 1, 2]:
            z = out[count - 1, 2]
        if count > 0 and out[count - 1, 0] == x and out[count - 1, 1] == y:
            return count
        out[count, 0], out[count, 1], out[count, 2] = x, y, z
    return count + 1


@inner
def _way_out(
    vertices: FloatRows, triangles: IntRows, t: int, x: float, y: float, dx: float, dy: float
) -> tuple[int, float]:
    """The side through which a straight line leaves a triangle, and how far along the line that is; -1 if none."""
    side, reach = as_index(-1), np.inf
    for k in range(3):
        a, b = triangles[t, k], triangles[t, (k + 1) % 3]
        nx, ny = vertices[b, 1] - vertices[a, 1], vertices[a, 0] - vertices[b, 0]
        outwards = dx * nx + dy * ny
        if outwards > 0.0:
            far = ((vertices[a, 0] - x) * nx + (vertices[a, 1] - y) * ny) / outwards
            if far < reach:
                side, reach = as_index(k), far
    return side, max(reach, 0.0)


@inner
def _steepest_from(
    vertices: FloatRows, triangles: IntRows, gradients: FloatRows, starts: Indices, members: Ints, v: int
) -> tuple[int, int, bool]:
    """The steepest way down from a vertex: a triangle, a vertex along an edge, or neither; and whether it is level."""
    best, triangle, along, is_level = 0.0, as_index(-1), as_index(-1), False
    for row in range(starts[v], starts[v + 1]):
        t = as_index(members[row])
        k = 0 if triangles[t, 0] == v else 1 if triangles[t, 1] == v else 2
        b, c = as_index(triangles[t, (k + 1) % 3]), as_index(triangles[t, (k + 2) % 3])
        for w in (b, c):
            fall = vertices[v, 2] - vertices[w, 2]
            run = np.hypot(vertices[w, 0] - vertices[v, 0], vertices[w, 1] - vertices[v, 1])
            if fall == 0.0:
                is_level = True
            if run > 0.0 and fall / run > best:
                best, triangle, along = fall / run, as_index(-1), w
        dx, dy = -gradients[t, 0], -gradients[t, 1]
        ux, uy = vertices[b, 0] - vertices[v, 0], vertices[b, 1] - vertices[v, 1]
        wx, wy = vertices[c, 0] - vertices[v, 0], vertices[c, 1] - vertices[v, 1]
        slope = np.hypot(dx, dy)
        if slope > best and ux * dy - uy * dx > 0.0 and dx * wy - dy * wx > 0.0:
            best, triangle, along = slope, t, as_index(-1)
    return triangle, along, is_level


@inner
def _is_on_rim(mate: Ints, triangles: IntRows, starts: Indices, members: Ints, v: int) -> bool:
    for row in range(starts[v], starts[v + 1]):
        t = as_index(members[row])
        k = 0 if triangles[t, 0] == v else 1 if triangles[t, 1] == v else 2
        if mate[3 * t + k] < 0 or mate[3 * t + (k + 2) % 3] < 0:
            return True
    return False


@kernel
def run_down(
    vertices: FloatRows,
    triangles: IntRows,
    mate: Ints,
    gradients: FloatRows,
    starts: Indices,
    members: Ints,
    t: int,
    x: float,
    y: float,
    out: Mutable[FloatRows],
) -> tuple[int, int]:
    """Follow water from a place in triangle *t*; return how many places the path has, written or not, and its end."""
    a = triangles[t, 0]
    z = vertices[a, 2] + gradients[t, 0] * (x - vertices[a, 0]) + gradients[t, 1] * (y - vertices[a, 1])
    count = _add(out, 0, x, y, z)
    v = as_index(-1)
    for k in range(3):
        if vertices[triangles[t, k], 0] == x and vertices[triangles[t, k], 1] == y:
            v = as_index(triangles[t, k])
    # No path meets a triangle or a vertex twice; rounding alone could make one turn on the spot.
    for _ in range(2 * (triangles.shape[0] + vertices.shape[0])):
        if v >= 0:
            t, w, is_level = _steepest_from(vertices, triangles, gradients, starts, members, v)
            x, y = vertices[v, 0], vertices[v, 1]
            if t < 0 and w < 0:
                if _is_on_rim(mate, triangles, starts, members, v):
                    return count, EDGE
                return count, LEVEL if is_level else PIT
            if t < 0:
                v = w
                count = _add(out, count, vertices[v, 0], vertices[v, 1], vertices[v, 2])
                continue
            v = as_index(-1)
        dx, dy = -gradients[t, 0], -gradients[t, 1]
        side, reach = _way_out(vertices, triangles, t, x, y, dx, dy)
        if side < 0:
            return count, LEVEL
        a, b = as_index(triangles[t, side]), as_index(triangles[t, (side + 1) % 3])
        ex, ey = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
        part = ((x + reach * dx - vertices[a, 0]) * ex + (y + reach * dy - vertices[a, 1]) * ey) / (ex * ex + ey * ey)
        if part <= 1e-12 or part >= 1.0 - 1e-12:
            v = a if part <= 1e-12 else b
            count = _add(out, count, vertices[v, 0], vertices[v, 1], vertices[v, 2])
            continue
        x, y = vertices[a, 0] + part * ex, vertices[a, 1] + part * ey
        count = _add(out, count, x, y, vertices[a, 2] + part * (vertices[b, 2] - vertices[a, 2]))
        e = as_index(mate[3 * t + side])
        if e < 0:
            return count, EDGE
        t = e // 3
        # Beyond the edge the outward side of the triangle just left is the inside.
        if -gradients[t, 0] * ey + gradients[t, 1] * ex > 0.0:
            continue
        if (gradients[t, 0] == 0.0 and gradients[t, 1] == 0.0) or vertices[a, 2] == vertices[b, 2]:
            return count, LEVEL
        v = a if vertices[a, 2] < vertices[b, 2] else b
        count = _add(out, count, vertices[v, 0], vertices[v, 1], vertices[v, 2])
    return count, LEVEL
