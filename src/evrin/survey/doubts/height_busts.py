"""Height busts: vertices that differ from the ground around them, and are not on a wall."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from evrin.base.errors import GeometryError
from evrin.base.tolerances import BUST_LEAST
from evrin.kernels import Flags, FloatRows, Floats, Indices, IntRows, Ints, Mutable, as_index, inner, kernel
from evrin.making.triangulation import Triangulation
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.doubts.bust_rows import rows_alike
from evrin.tin.exact.sorting import sort_by

SCALES = 8.0
_MOST, _FEWEST = 48, 5
_TRIALS = 64
_ALLY = 0.3
_OBJECT = 3
_STEEP = 0.5
_SPACINGS = 4.0
# What differs from its neighbours by less than this part of the least is not looked at.
_ASKED = 0.5


@dataclass(frozen=True, eq=False)
class Busts:
    """Vertices that differ from the ground around them, and how far each is above it (below where negative).

    ``rows`` has the vertices that differ alike in rows of four or more, such as the top of a wall: they are none.
    """

    vertices: Indices
    heights: Floats
    rows: list[Indices] = field(default_factory=list)


@kernel
def _neighbour_lists(
    triangles: IntRows, edge_lines: IntRows, mates: Ints, vertices: int, on_line: Mutable[Flags], on_rim: Mutable[Flags]
) -> tuple[Indices, Ints, Flags]:
    """Neighbours of each vertex, and whether a breakline runs there."""
    starts = np.zeros(vertices + 1, np.int64)
    for t in range(triangles.shape[0]):
        for k in range(3):
            starts[triangles[t, k] + 1] += 1
            if mates[3 * t + k] < 0:
                starts[triangles[t, (k + 1) % 3] + 1] += 1
    for v in range(1, starts.shape[0]):
        starts[v] += starts[v - 1]
    cursor = starts[:-1].copy()
    out = np.empty(starts[-1], np.int32)
    along = np.zeros(starts[-1], np.bool_)
    for t in range(triangles.shape[0]):
        for k in range(3):
            u, v = triangles[t, k], triangles[t, (k + 1) % 3]
            is_line = edge_lines[t, k] >= 0
            out[cursor[u]], along[cursor[u]] = v, is_line
            cursor[u] += 1
            if mates[3 * t + k] < 0:
                out[cursor[v]], along[cursor[v]] = u, is_line
                cursor[v] += 1
                on_rim[u] = on_rim[v] = True
            if is_line:
                on_line[u] = on_line[v] = True
    return starts, out, along


@kernel
def _above_neighbours(
    xyz: FloatRows,
    triangles: IntRows,
    mates: Ints,
    totals: Mutable[Floats],
    weights: Mutable[Floats],
    out: Mutable[Floats],
) -> None:
    """How far each vertex lies above the mean of its neighbours, near ones weighing most."""
    for t in range(triangles.shape[0]):
        for k in range(3):
            u, v = triangles[t, k], triangles[t, (k + 1) % 3]
            dx, dy = xyz[v, 0] - xyz[u, 0], xyz[v, 1] - xyz[u, 1]
            part = 1.0 / max(dx * dx + dy * dy, 1e-18)
            totals[u] += part * xyz[v, 2]
            weights[u] += part
            if mates[3 * t + k] < 0:
                totals[v] += part * xyz[u, 2]
                weights[v] += part
    for v in range(xyz.shape[0]):
        out[v] = xyz[v, 2] - totals[v] / weights[v] if weights[v] > 0.0 else 0.0


@inner
def _ground_round(
    v: int, starts: Indices, near: Ints, on_line: Flags, lines_too: bool, ground: Mutable[Indices]
) -> int:
    """The vertices one and two edges away, without looking past a breakline; those on one only where asked."""
    size = 0
    for m in range(starts[v], starts[v + 1]):
        u = as_index(near[m])
        is_new = lines_too or not on_line[u]
        for k in range(size):
            is_new &= ground[k] != u
        if is_new and size < ground.shape[0]:
            ground[size] = u
            size += 1
    ring = size
    for j in range(ring):
        u = ground[j]
        if on_line[u] and not on_line[v]:
            continue
        for m in range(starts[u], starts[u + 1]):
            w = as_index(near[m])
            is_new = w != v and (lines_too or not on_line[w])
            for k in range(size):
                is_new &= ground[k] != w
            if is_new and size < ground.shape[0]:
                ground[size] = w
                size += 1
    return size


@inner
def _robust_plane(
    xyz: FloatRows, v: int, ground: Indices, size: int, plane: Mutable[Floats], residuals: Mutable[Floats]
) -> float:
    """The plane, through three of the vertices, from which the median of all is least far: that median."""
    x0, y0 = xyz[v, 0], xyz[v, 1]
    best = np.inf
    order = np.empty(size, np.int64)
    state = np.uint64(88172645463325252)
    for _ in range(_TRIALS):
        state ^= state << np.uint64(13)
        state ^= state >> np.uint64(7)
        state ^= state << np.uint64(17)
        a = ground[np.int64(state % np.uint64(size))]
        b = ground[np.int64((state >> np.uint64(16)) % np.uint64(size))]
        c = ground[np.int64((state >> np.uint64(32)) % np.uint64(size))]
        ux, uy, uz = xyz[b, 0] - xyz[a, 0], xyz[b, 1] - xyz[a, 1], xyz[b, 2] - xyz[a, 2]
        wx, wy, wz = xyz[c, 0] - xyz[a, 0], xyz[c, 1] - xyz[a, 1], xyz[c, 2] - xyz[a, 2]
        twice = ux * wy - uy * wx
        if abs(twice) < 0.1 * (np.hypot(ux, uy) * np.hypot(wx, wy)) or twice == 0.0:
            continue
        east, north = (uz * wy - wz * uy) / twice, (ux * wz - wx * uz) / twice
        base = xyz[a, 2] - east * (xyz[a, 0] - x0) - north * (xyz[a, 1] - y0)
        # The median is below the best only if more than half of the residuals are; mostly it is soon known that not.
        beyond = 0
        for k in range(size):
            u = ground[k]
            residuals[k] = abs(xyz[u, 2] - base - east * (xyz[u, 0] - x0) - north * (xyz[u, 1] - y0))
            if not residuals[k] < best:
                beyond += 1
                if beyond > size - 1 - size // 2:
                    break
        if beyond <= size - 1 - size // 2:
            for k in range(size):
                order[k] = k
            sort_by(residuals, order, size)
            best = residuals[order[size // 2]]
            plane[0], plane[1], plane[2] = base, east, north
    return best


@inner
def _has_company(
    xyz: FloatRows,
    v: int,
    starts: Indices,
    near: Ints,
    along: Flags,
    on_rim: Flags,
    plane: Floats,
    height: float,
    group: Mutable[Indices],
) -> bool:
    """Whether others beside a vertex differ with it: two or more; on a breakline or the rim, one."""
    group[0] = v
    size, head = 1, 0
    while head < size:
        u = group[head]
        head += 1
        for m in range(starts[u], starts[u + 1]):
            w = as_index(near[m])
            above = xyz[w, 2] - plane[0] - plane[1] * (xyz[w, 0] - xyz[v, 0]) - plane[2] * (xyz[w, 1] - xyz[v, 1])
            if above / height < _ALLY:
                continue
            if u == v and (along[m] or on_rim[v]):
                return True
            is_new = True
            for k in range(size):
                is_new &= group[k] != w
            if is_new:
                group[size] = w
                size += 1
            if size >= _OBJECT:
                return True
    return False


@kernel
def _fill_busts(
    xyz: FloatRows,
    starts: Indices,
    near: Ints,
    along: Flags,
    on_line: Flags,
    on_rim: Flags,
    scales: float,
    least: float,
    roughness: float,
    out: Mutable[Floats],
    every: Mutable[Floats],
) -> None:
    """Write how far busts differ from the ground, and to *every* how far those do that have company, too."""
    ground, beside = np.empty(_MOST, np.int64), np.empty(_MOST, np.int64)
    residuals = np.empty(_MOST)
    plane = np.empty(3)
    group = np.empty(_OBJECT, np.int64)
    for v in range(xyz.shape[0]):
        above = out[v]
        out[v] = 0.0
        if abs(above) < _ASKED * least:
            continue
        gentlest = np.inf
        for m in range(starts[v], starts[v + 1]):
            u = near[m]
            run = max(np.hypot(xyz[u, 0] - xyz[v, 0], xyz[u, 1] - xyz[v, 1]), 1e-9)
            gentlest = min(gentlest, abs(xyz[u, 2] - xyz[v, 2]) / run)
        size = _ground_round(v, starts, near, on_line, True, ground)
        if size < _FEWEST:
            continue
        # Beside a wall its top is not ground: what differs from that alone does not count.
        apart = as_index(0) if on_line[v] else _ground_round(v, starts, near, on_line, False, beside)
        if apart >= _FEWEST:
            scale = 1.4826 * _robust_plane(xyz, v, beside, apart, plane, residuals)
            if not abs(xyz[v, 2] - plane[0]) > max(scales * max(scale, roughness), least):
                continue
        scale = 1.4826 * _robust_plane(xyz, v, ground, size, plane, residuals)
        height = xyz[v, 2] - plane[0]
        if not abs(height) > max(scales * max(scale, roughness), least):
            continue
        if on_rim[v] and not gentlest > _STEEP:
            continue
        every[v] = height
        if not _has_company(xyz, v, starts, near, along, on_rim, plane, height, group):
            out[v] = height


def find_busts(
    surface: Surface, scales: float = SCALES, least: float | None = None, ignored: Flags | None = None
) -> Busts:
    """Find vertices that differ from the ground around them, spikes and pits alike.

    The ground around a vertex is the plane, through three of the vertices up to two edges away and not beyond a
    breakline, from which the median of them all is least far (least median of squares, Rousseeuw 1984): up to half of
    them can be wrong, and steep ground counts as ground. The vertex is reported where it is farther from that plane
    than *scales* times their spread, the median absolute deviation (as in the identifier of Hampel 1985), and than
    *least*. Walls and heaps are spared: what has company in standing out, by three tenths of its own height or more,
    from a neighbour on the same breakline or from two others beside it; on the rim,
    where less can be seen, from one, and what rises or falls by less than 1 in 2 along some edge is spared too. Four
    or more that differ alike in a row are a feature; see `evrin.survey.doubts.bust_rows`.

    Parameters
    ----------
    surface : Surface
        The surface that is examined.
    scales : float
        How many times the usual scatter counts as a bust.
    least : float, optional
        In the surface's units; half a metre if not given.
    ignored : (n,) bool, optional
        Vertices known to be wrong: the rest is triangulated without them and judged by itself.

    Returns
    -------
    Busts

    References
    ----------
    Rousseeuw, P. J. (1984), Least median of squares regression, https://doi.org/10.1080/01621459.1984.10477105.
    Hampel, F. R. (1985), The breakdown points of the mean combined with some rejection rules,
    https://doi.org/10.1080/00401706.1985.10488027.

    Examples
    --------
    >>> import evrin
    >>> east, north = np.meshgrid(np.arange(6.0), np.arange(6.0))
    >>> z = 2.0 * east
    >>> z[2, 3] += 4.0
    >>> field = evrin.triangulate(np.column_stack((east.ravel(), north.ravel(), z.ravel())))
    >>> found = find_busts(field)
    >>> field.vertices[found.vertices].tolist(), found.heights.tolist()
    ([[3.0, 2.0, 10.0]], [4.0])
    """
    if ignored is not None and ignored.any():
        return _busts_of_the_rest(surface, scales, least, ignored)
    smallest = BUST_LEAST.in_units(surface.units) if least is None else least
    xyz = surface.vertices
    heights = np.empty(len(xyz))
    totals, weights = np.zeros((2, len(xyz)))
    _above_neighbours(xyz, surface.triangles, surface.mates, totals, weights, heights)
    if not (np.abs(heights) >= _ASKED * smallest).any():
        return Busts(np.empty(0, np.int64), np.empty(0))
    on_line, on_rim = np.zeros(len(xyz), np.bool_), np.zeros(len(xyz), np.bool_)
    starts, near, along = _neighbour_lists(
        surface.triangles, surface.edge_lines, surface.mates, len(xyz), on_line, on_rim
    )
    # A part of what vertices differ from their neighbours by is noise everywhere.
    roughness = 0.25 * 1.4826 * float(np.median(np.abs(heights)))
    every = np.zeros(len(xyz))
    _fill_busts(xyz, starts, near, along, on_line, on_rim, scales, smallest, roughness, heights, every)
    vertices, out = np.flatnonzero(heights), np.flatnonzero(every)
    farthest = _SPACINGS * float(np.median(surface.side_lengths))
    rows = [out[row] for row in rows_alike(xyz[out, :2], every[out], farthest)] if len(vertices) else []
    rows = [row for row in rows if heights[row].any()]
    lone = np.setdiff1d(vertices, np.concatenate([np.empty(0, np.int64), *rows]))
    return Busts(lone, heights[lone], rows)


def _busts_of_the_rest(surface: Surface, scales: float, least: float | None, ignored: Flags) -> Busts:
    wrong = {tuple(place) for place in surface.vertices[ignored].tolist()}
    lines = []
    for line in (line for line in surface.lines if not line.is_ring):
        kept = [place for place in line.points.tolist() if tuple(place) not in wrong]
        if len(kept) > 1:
            lines.append(SourceLine(line.name, np.array(kept), line.closed))
    rows = np.flatnonzero(~ignored)
    try:
        work = Triangulation(surface.vertices[rows], lines)
        rest, reading = work.surface()
    except GeometryError:
        return Busts(np.empty(0, np.int64), np.empty(0))
    busts = find_busts(rest, scales, least)
    row_of = np.full(work.mesh.vertex_count, -1, np.int64)
    row_of[work.mesh_vertex_of[: len(rows)]] = rows
    vertices = row_of[reading.vertices[busts.vertices]]
    rows_out = [row_of[reading.vertices[each]] for each in busts.rows]
    return Busts(vertices[vertices >= 0], busts.heights[vertices >= 0], [each[each >= 0] for each in rows_out])
