"""From a working mesh to plain arrays in a canonical order, and from triangles to their neighbours."""

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats, Indices, IntRows, Ints, Mutable, inner, kernel
from evrin.kernels.threads import side_by_side
from evrin.tin.delaunay.triangulating import following
from evrin.tin.mesh.mesh_arrays import MeshArrays


@kernel
def number_vertices(mesh: MeshArrays, triangles: int, number: Mutable[Ints]) -> int:
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
def first_rows(mesh: MeshArrays, triangles: int, number: Ints, is_all: bool, starts: Mutable[Indices]) -> None:
    """Write where the living triangles begin whose lowest vertex is each, and the end.

    *is_all* is whether every vertex has its own number, which then need not be looked up.
    """
    corner = mesh.corner
    for t in range(triangles):
        if mesh.alive[t]:
            # Numbers rise with the vertices, so the lowest of one is the lowest of the other.
            first = min(corner[3 * t], corner[3 * t + 1], corner[3 * t + 2])
            starts[(first if is_all else number[first]) + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]


@kernel
def fill_triangles(
    mesh: MeshArrays,
    triangles: int,
    number: Ints,
    is_all: bool,
    has_lines: bool,
    starts: Indices,
    low: int,
    high: int,
    out: Mutable[IntRows],
    lines: Mutable[IntRows],
) -> None:
    """Write the living triangles whose lowest vertex is from *low* to *high*, that vertex first, sorted.

    *lines* takes the segments of their edges ab, bc, ca, -1 for none.
    """
    corner = mesh.corner
    for row in range(starts[low], starts[high]):
        lines[row, 0] = lines[row, 1] = lines[row, 2] = -1
    cursor = starts[low:high].copy()
    for t in range(triangles):
        if not mesh.alive[t]:
            continue
        e = 3 * t
        a, b, c = corner[e], corner[e + 1], corner[e + 2]
        if b < a and b < c:
            e += 1
        elif c < a and c < b:
            e += 2
        f = following(e)
        g = following(f)
        a, b, c = corner[e], corner[f], corner[g]
        if not is_all:
            a, b, c = number[a], number[b], number[c]
        if a < low or a >= high:
            continue
        row = cursor[a - low]
        cursor[a - low] += 1
        while row > starts[a] and out[row - 1, 1] > b:
            for k in range(3):
                out[row, k] = out[row - 1, k]
                if has_lines:
                    lines[row, k] = lines[row - 1, k]
            row -= 1
        out[row, 0], out[row, 1], out[row, 2] = a, b, c
        if has_lines:
            lines[row, 0] = max(mesh.fixed[e], 0) - 1
            lines[row, 1] = max(mesh.fixed[f], 0) - 1
            lines[row, 2] = max(mesh.fixed[g], 0) - 1


@inner
def _lowest_first(triangles: IntRows, t: int) -> tuple[int, int, int]:
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    if b < a and b < c:
        return b, c, a
    if c < a and c < b:
        return c, a, b
    return a, b, c


@kernel
def is_among(triangles: IntRows, others: IntRows, vertices: int) -> Flags:
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
def neighbours(triangles: IntRows, low: int, high: int, mate: Mutable[Ints]) -> None:
    """Pair half-edges whose lower vertex is from *low* to *high* into *mate* (3 m,), -1 on the rim.

    Of an edge with more than two sides the first two that run opposite ways are a pair.
    """
    m = triangles.shape[0]
    starts = np.zeros(high - low + 1, np.int64)
    for t in range(m):
        for k in range(3):
            lower = min(triangles[t, k], triangles[t, (k + 1) % 3])
            if low <= lower < high:
                starts[lower - low + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    waiting = np.empty(starts[-1], np.int64)
    far = np.empty(starts[-1], np.int32)
    for t in range(m):
        for k in range(3):
            u, v = triangles[t, k], triangles[t, (k + 1) % 3]
            lower, higher = min(u, v), max(u, v)
            if lower < low or lower >= high:
                continue
            e = 3 * t + k
            mate[e] = -1
            for row in range(starts[lower - low], cursor[lower - low]):
                if far[row] == higher:
                    other = waiting[row]
                    if mate[other] < 0 and triangles[other // 3, other % 3] != u:
                        mate[e] = other
                        mate[other] = e
                    break
            else:
                waiting[cursor[lower - low]] = e
                far[cursor[lower - low]] = higher
                cursor[lower - low] += 1


def mates_of(triangles: Ints, vertices: int) -> Ints:
    """Return the half-edge across each half-edge (3 m,), -1 on the rim.

    Parameters
    ----------
    triangles : (m, 3) int32
    vertices : int
        How many there are.
    """
    mate = np.empty(3 * len(triangles), np.int32)
    side_by_side(lambda low, high: neighbours(triangles, low, high, mate), vertices)
    return mate


@kernel
def fill_gradients(vertices: FloatRows, triangles: IntRows, out: Mutable[FloatRows]) -> None:
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
def fill_side_lengths(vertices: FloatRows, triangles: IntRows, out: Mutable[FloatRows]) -> None:
    """Fill the plan length of sides ab, bc, ca of each triangle."""
    for t in range(triangles.shape[0]):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            dx, dy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
            out[t, k] = np.sqrt(dx * dx + dy * dy)


@kernel
def fill_areas(vertices: FloatRows, triangles: IntRows, out: Mutable[Floats]) -> None:
    """Fill the plan area of each triangle."""
    for t in range(triangles.shape[0]):
        a, b, c = vertices[triangles[t, 0]], vertices[triangles[t, 1]], vertices[triangles[t, 2]]
        out[t] = 0.5 * ((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))


@kernel
def fill_own_ground(triangles: IntRows, areas: Floats, out: Mutable[Floats]) -> None:
    """Add a third of the area of each triangle to each of its corners."""
    for t in range(triangles.shape[0]):
        for k in range(3):
            out[triangles[t, k]] += areas[t] / 3.0
