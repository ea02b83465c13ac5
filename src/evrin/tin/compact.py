"""From a working mesh to plain arrays in a canonical order, and from triangles to their neighbours."""

import numpy as np

from evrin.tin.delaunay import following
from evrin.tin.types import Flags, Floats, Ints, MeshArrays, inner, kernel


@kernel
def number_vertices(mesh: MeshArrays, triangles: int, number: Ints) -> int:
    """Number in *number* the vertices that living triangles use, in their order, -1 for others; return how many."""
    for v in range(number.shape[0]):
        number[v] = -1
    for e in range(3 * triangles):
        if mesh.alive[e // 3]:
            number[mesh.corner[e]] = 0
    count = 0
    for v in range(number.shape[0]):
        if number[v] == 0:
            number[v] = count
            count += 1
    return count


@kernel
def ordered_triangles(mesh: MeshArrays, triangles: int, number: Ints, vertices: int) -> tuple[Ints, Ints]:
    """Living triangles, lowest vertex first and sorted, with the lines of their edges ab, bc, ca."""
    corner = mesh.corner
    starts = np.zeros(vertices + 1, np.int64)
    for t in range(triangles):
        if mesh.alive[t]:
            first = min(number[corner[3 * t]], number[corner[3 * t + 1]], number[corner[3 * t + 2]])
            starts[first + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    out = np.empty((starts[-1], 3), np.int32)
    lines = np.empty((starts[-1], 3), np.int32)
    cursor = starts[:-1].copy()
    for t in range(triangles):
        if not mesh.alive[t]:
            continue
        e = 3 * t
        a, b, c = number[corner[e]], number[corner[e + 1]], number[corner[e + 2]]
        if b < a and b < c:
            e += 1
        elif c < a and c < b:
            e += 2
        f = following(e)
        g = following(f)
        a, b, c = number[corner[e]], number[corner[f]], number[corner[g]]
        row = cursor[a]
        cursor[a] += 1
        while row > starts[a] and out[row - 1, 1] > b:
            for k in range(3):
                out[row, k] = out[row - 1, k]
                lines[row, k] = lines[row - 1, k]
            row -= 1
        out[row, 0], out[row, 1], out[row, 2] = a, b, c
        lines[row, 0], lines[row, 1], lines[row, 2] = (
            max(mesh.fixed[e], 0),
            max(mesh.fixed[f], 0),
            max(mesh.fixed[g], 0),
        )
    return out, lines


@inner
def _lowest_first(triangles: Ints, t: int) -> tuple[int, int, int]:
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    if b < a and b < c:
        return b, c, a
    if c < a and c < b:
        return c, a, b
    return a, b, c


@kernel
def is_among(triangles: Ints, others: Ints, vertices: int) -> Flags:
    """Which triangles are among the others, turning the same way round."""
    starts = np.zeros(vertices + 1, np.int64)
    for t in range(others.shape[0]):
        starts[_lowest_first(others, t)[0] + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    rest = np.empty((others.shape[0], 2), np.int32)
    for t in range(others.shape[0]):
        a, b, c = _lowest_first(others, t)
        rest[cursor[a], 0], rest[cursor[a], 1] = b, c
        cursor[a] += 1
    out = np.zeros(triangles.shape[0], np.bool_)
    for t in range(triangles.shape[0]):
        a, b, c = _lowest_first(triangles, t)
        for row in range(starts[a], starts[a + 1]):
            out[t] |= rest[row, 0] == b and rest[row, 1] == c
    return out


@kernel
def neighbours(triangles: Ints, vertices: int, mate: Ints) -> int:
    """Pair half-edges into *mate* (3 m,), -1 on the rim; return how many edges have more than two sides."""
    m = triangles.shape[0]
    starts = np.zeros(vertices + 1, np.int64)
    for t in range(m):
        for k in range(3):
            starts[min(triangles[t, k], triangles[t, (k + 1) % 3]) + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    waiting = np.empty(3 * m, np.int64)
    far = np.empty(3 * m, np.int32)
    crowded = 0
    for t in range(m):
        for k in range(3):
            u, v = triangles[t, k], triangles[t, (k + 1) % 3]
            low, high = min(u, v), max(u, v)
            e = 3 * t + k
            mate[e] = -1
            for row in range(starts[low], cursor[low]):
                if far[row] == high:
                    other = waiting[row]
                    if mate[other] >= 0 or triangles[other // 3, other % 3] == u:
                        crowded += 1
                    else:
                        mate[e] = other
                        mate[other] = e
                    break
            else:
                waiting[cursor[low]] = e
                far[cursor[low]] = high
                cursor[low] += 1
    return crowded


def mates_of(triangles: Ints, vertices: int) -> Ints:
    """Return the half-edge across each half-edge (3 m,), -1 on the rim.

    Parameters
    ----------
    triangles : (m, 3) int32
    vertices : int
        How many there are.
    """
    mate = np.empty(3 * len(triangles), np.int32)
    neighbours(triangles, vertices, mate)
    return mate


@kernel
def fill_gradients(vertices: Floats, triangles: Ints, out: Floats) -> None:
    """Fill rise over run of each triangle eastwards and northwards; NaN for one without plan area."""
    for t in range(triangles.shape[0]):
        a, b, c = vertices[triangles[t, 0]], vertices[triangles[t, 1]], vertices[triangles[t, 2]]
        ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        twice = ux * vy - uy * vx
        if twice == 0.0:
            out[t, 0] = out[t, 1] = np.nan
        else:
            out[t, 0] = (uz * vy - vz * uy) / twice
            out[t, 1] = (vz * ux - uz * vx) / twice


@kernel
def fill_side_lengths(vertices: Floats, triangles: Ints, out: Floats) -> None:
    """Fill the plan length of sides ab, bc, ca of each triangle."""
    for t in range(triangles.shape[0]):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            dx, dy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
            out[t, k] = np.sqrt(dx * dx + dy * dy)


@kernel
def fill_areas(vertices: Floats, triangles: Ints, out: Floats) -> None:
    """Fill the plan area of each triangle."""
    for t in range(triangles.shape[0]):
        a, b, c = vertices[triangles[t, 0]], vertices[triangles[t, 1]], vertices[triangles[t, 2]]
        out[t] = 0.5 * ((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))


@kernel
def fill_own_ground(triangles: Ints, areas: Floats, out: Floats) -> None:
    """Add a third of the area of each triangle to each of its corners."""
    for t in range(triangles.shape[0]):
        for k in range(3):
            out[triangles[t, k]] += areas[t] / 3.0
