"""Following each level from triangle to triangle."""

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, IntRows, Ints, Mutable, as_index, inner, kernel


@inner
def _levels_up_to(levels: Floats, z: float) -> int:
    """How many of the rising levels do not exceed a height."""
    low, high = 0, levels.shape[0]
    while low < high:
        middle = (low + high) // 2
        if levels[middle] <= z:
            low = middle + 1
        else:
            high = middle
    return low


@kernel
def crossed_triangles(vertices: FloatRows, triangles: IntRows, levels: Floats) -> tuple[Indices, Ints]:
    """Group triangles by the levels that cross them: level *k* crosses ``members[starts[k]:starts[k + 1]]``."""
    m = triangles.shape[0]
    ranges = np.empty((m, 2), np.int32)
    starts = np.zeros(levels.shape[0] + 1, np.int64)
    for t in range(m):
        a, b, c = vertices[triangles[t, 0], 2], vertices[triangles[t, 1], 2], vertices[triangles[t, 2], 2]
        first, stop = _levels_up_to(levels, min(a, b, c)), _levels_up_to(levels, max(a, b, c))
        ranges[t, 0], ranges[t, 1] = first, stop
        for k in range(first, stop):
            starts[k + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    members = np.empty(starts[-1], np.int32)
    for t in range(m):
        for k in range(ranges[t, 0], ranges[t, 1]):
            members[cursor[k]] = t
            cursor[k] += 1
    return starts, members


@inner
def _rising_edge(vertices: FloatRows, triangles: IntRows, t: int, level: float) -> int:
    """The side of a crossed triangle that climbs through a level."""
    for k in range(3):
        low = vertices[triangles[t, k], 2] < level
        if low and vertices[triangles[t, (k + 1) % 3], 2] >= level:
            return k
    return -1


@inner
def _falling_edge(vertices: FloatRows, triangles: IntRows, t: int, level: float) -> int:
    for k in range(3):
        high = vertices[triangles[t, k], 2] >= level
        if high and vertices[triangles[t, (k + 1) % 3], 2] < level:
            return k
    return -1


@inner
def _append(
    vertices: FloatRows,
    low: int,
    high: int,
    level: float,
    points: Mutable[FloatRows],
    edges: Mutable[IntRows],
    first: int,
    size: int,
) -> int:
    """Add the place where the edge from a *low* vertex to a *high* one meets the level, unless it is the last one."""
    lx, ly, lz = vertices[low, 0], vertices[low, 1], vertices[low, 2]
    hx, hy, hz = vertices[high, 0], vertices[high, 1], vertices[high, 2]
    x, y = hx, hy
    if hz != level:
        part = (level - lz) / (hz - lz)
        x, y = lx + part * (hx - lx), ly + part * (hy - ly)
    if size > first and points[size - 1, 0] == x and points[size - 1, 1] == y:
        return size
    points[size, 0], points[size, 1] = x, y
    if edges.shape[0] > 0:
        edges[size, 0], edges[size, 1] = low, high
    return size + 1


@kernel
def trace_levels(
    vertices: FloatRows,
    triangles: IntRows,
    mate: Ints,
    levels: Floats,
    starts: Indices,
    members: Ints,
    points: Mutable[FloatRows],
    edges: Mutable[IntRows],
    ends: Mutable[Indices],
    level_of: Mutable[Ints],
    crossed: Mutable[IntRows],
) -> int:
    """Join the crossings of each level into lines with high ground on the right; return how many lines.

    Line *i* fills ``points[ends[i - 1]:ends[i]]`` (from 0 for the first); a closed one ends where it began. *edges*
    takes the low and the high end of the edge that each place lies on, unless it is empty. *crossed* takes the low and
    high ends of the edges over which each line comes and leaves, unless it is empty; lines of one place count then.
    """
    seen = np.empty(triangles.shape[0], np.int32)
    for t in range(triangles.shape[0]):
        seen[t] = -1
    count = 0
    size = as_index(0)
    for k in range(levels.shape[0]):
        level = levels[k]
        # Lines that come in over the rim are traced first, so that all others are closed.
        for closed in range(2):
            for row in range(starts[k], starts[k + 1]):
                t = as_index(members[row])
                if seen[t] == k:
                    continue
                side = _rising_edge(vertices, triangles, t, level)
                if closed == 0 and mate[3 * t + side] >= 0:
                    continue
                first = size
                low, high = as_index(triangles[t, side]), as_index(triangles[t, (side + 1) % 3])
                if crossed.shape[0] > 0:
                    crossed[count, 0], crossed[count, 1] = low, high
                size = _append(vertices, low, high, level, points, edges, first, size)
                while t >= 0 and seen[t] != k:
                    seen[t] = k
                    side = _falling_edge(vertices, triangles, t, level)
                    low, high = as_index(triangles[t, (side + 1) % 3]), as_index(triangles[t, side])
                    size = _append(vertices, low, high, level, points, edges, first, size)
                    e = as_index(mate[3 * t + side])
                    t = e // 3 if e >= 0 else as_index(-1)
                if crossed.shape[0] > 0:
                    crossed[count, 2], crossed[count, 3] = low, high
                elif size - first < 2:
                    size = first
                    continue
                ends[count] = size
                level_of[count] = k
                count += 1
    return count
