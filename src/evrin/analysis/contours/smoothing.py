"""Smoothing contours so that none can cross another, itself, or a breakline that it did not cross.

Each contour gets a corridor of its own. On every edge of the triangles that it crosses, the corridor reaches half way,
in height, to the next level or to the end of the edge, whichever is nearer. Inside a triangle the corridor is the
convex shape between the two edges that the contour crosses there, so that the corridors of two contours never meet.

Two steps stay inside it. First the places slide along their edges, within the middle half of the corridor: in turns
towards the straight line between their neighbours and a little further back, which lessens bends without drawing rings
together (Taubin 1995). Then corners are rounded by the parabola (quadratic B-spline) that touches both legs, cut back
where it would leave the corridor on the edge; a parabola lies in the triangle of its three control points, so what
holds for that triangle holds for the curve.

Places on breaklines, at vertices and on the rim stay where they are, with their corners.

References
----------
Taubin, G. (1995). A signal processing approach to fair surface design. *SIGGRAPH '95*, 351-358.
https://doi.org/10.1145/218380.218473

Chaikin, G. M. (1974). An algorithm for high-speed curve generation. *Computer Graphics and Image Processing* 3,
346-349. https://doi.org/10.1016/0146-664X(74)90028-8 (the curve of repeated corner cutting is this B-spline).
"""

from __future__ import annotations

import math

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats, Indices, IntRows, Ints, Mutable, inner, kernel
from evrin.surface.surface import Surface

# Neighbouring corridors keep a gap between them, far wider than what rounding can do.
_WIDEST = 0.95
_SLIDES_WITHIN = 0.5
_TURNS = (0.5, -0.53) * 5
_MOST_PIECES = 6
_TURN_A_PIECE = np.pi / 14.0


def smoothed(
    surface: Surface, levels: Floats, points: Floats, edges: Ints, starts: Indices, level_of: Ints, share: float
) -> tuple[Floats, Indices]:
    """Return smoothed places (q, 2) and where each line of them starts (n + 1,).

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    levels : (l,) float64
        All levels drawn, rising.
    points : (p, 2) float64
        Places of all lines, one after another.
    edges : (p, 2) int32
        Low and high end of the edge that each place lies on.
    starts : (n + 1,) int64
        Where each line begins in *points*.
    level_of : (n,) int32
        Which level each line is at.
    share : float
        How much of the corridor may be used, above 0 and up to 1.
    """
    is_fixed = _on_breaklines(surface, edges)
    bounds = np.empty((len(points), 2))
    _corridors(surface.vertices, levels, edges, starts, level_of, _WIDEST * share, is_fixed, bounds)
    slid = points.copy()
    _slide(surface.vertices, edges, bounds, is_fixed, starts, level_of, levels, np.array(_TURNS), slid)
    room = np.empty((len(points) * (_MOST_PIECES + 1), 2))
    ends = np.empty(len(starts), np.int64)
    size = _round(surface.vertices, edges, bounds, is_fixed, starts, slid, room, ends)
    return room[:size], ends


def _on_breaklines(surface: Surface, edges: Ints) -> Flags:
    """Return which places lie on an edge of a breakline."""
    rows, sides = np.nonzero(surface.edge_lines >= 0)
    ends = np.stack((surface.triangles[rows, sides], surface.triangles[rows, (sides + 1) % 3]), axis=1)
    count = np.int64(len(surface.vertices))

    def keys(pairs: Ints) -> Indices:
        wide = np.sort(pairs, axis=1).astype(np.int64)
        return np.asarray(wide[:, 0] * count + wide[:, 1])

    return np.isin(keys(edges), np.unique(keys(ends)))


@kernel
def _corridors(
    vertices: FloatRows,
    levels: Floats,
    edges: IntRows,
    starts: Indices,
    level_of: Ints,
    share: float,
    is_fixed: Mutable[Flags],
    bounds: Mutable[FloatRows],
) -> None:
    """Fill how far each place may go, as parts of its edge from the low to the high end; fix those that may not."""
    for line in range(level_of.shape[0]):
        k = level_of[line]
        level = levels[k]
        first, last = starts[line], starts[line + 1] - 1
        closed = edges[first, 0] == edges[last, 0] and edges[first, 1] == edges[last, 1] and last > first + 2
        if not closed:
            is_fixed[first] = is_fixed[last] = True
        for i in range(first, last + 1):
            low, high = vertices[edges[i, 0], 2], vertices[edges[i, 1], 2]
            below = max(levels[k - 1], low) if k > 0 else low
            above = min(levels[k + 1], high) if k + 1 < levels.shape[0] else high
            if high == level:
                is_fixed[i] = True
            part = (level - low) / (high - low)
            bounds[i, 0] = part - share * (level - below) / (high - low) / 2.0
            bounds[i, 1] = part + share * (above - level) / (high - low) / 2.0


@inner
def _meeting(vertices: FloatRows, edge: Ints, ax: float, ay: float, bx: float, by: float) -> float:
    """Part of an edge, from its low end, at which the straight line through two places meets it; NaN if it does not."""
    lx, ly = vertices[edge[0], 0], vertices[edge[0], 1]
    ex, ey = vertices[edge[1], 0] - lx, vertices[edge[1], 1] - ly
    dx, dy = bx - ax, by - ay
    across = dx * ey - dy * ex
    if across == 0.0:
        return np.nan
    return float((dx * (ay - ly) - dy * (ax - lx)) / across)


@inner
def _neighbours(first: int, last: int, i: int, points: FloatRows) -> tuple[int, int]:
    """The places before and after one, around the end of a closed line."""
    before = i - 1 if i > first else last - 1
    after = i + 1 if i < last else first + 1
    return before, after


@kernel
def _slide(
    vertices: FloatRows,
    edges: IntRows,
    bounds: FloatRows,
    is_fixed: Flags,
    starts: Indices,
    level_of: Ints,
    levels: Floats,
    turns: Floats,
    points: Mutable[FloatRows],
) -> None:
    """Move places along their edges, each turn a part of the way to the line between their neighbours."""
    moved = points.copy()
    for turn in range(turns.shape[0]):
        for line in range(starts.shape[0] - 1):
            first, last = starts[line], starts[line + 1] - 1
            for i in range(first, last + 1):
                if is_fixed[i]:
                    continue
                before, after = _neighbours(first, last, i, points)
                a, b = points[before], points[after]
                part = _meeting(vertices, edges[i], a[0], a[1], b[0], b[1])
                if not np.isfinite(part):
                    continue
                low, high = vertices[edges[i, 0]], vertices[edges[i, 1]]
                ex, ey = high[0] - low[0], high[1] - low[1]
                now = ((points[i, 0] - low[0]) * ex + (points[i, 1] - low[1]) * ey) / (ex * ex + ey * ey)
                begun = (levels[level_of[line]] - low[2]) / (high[2] - low[2])
                least = begun - _SLIDES_WITHIN * (begun - bounds[i, 0])
                most = begun + _SLIDES_WITHIN * (bounds[i, 1] - begun)
                part = min(max(now + turns[turn] * (min(max(part, least), most) - now), least), most)
                moved[i, 0], moved[i, 1] = low[0] + part * ex, low[1] + part * ey
        for i in range(points.shape[0]):
            points[i, 0], points[i, 1] = moved[i, 0], moved[i, 1]


@inner
def _cut_back(vertices: FloatRows, edge: Ints, low: float, high: float, a: Floats, p: Floats, b: Floats) -> float:
    """How much of both legs from a corner *p* towards *a* and *b* its curve may take, at most half."""
    part = 0.5
    for _ in range(40):
        met = _meeting(
            vertices,
            edge,
            p[0] + part * (a[0] - p[0]),
            p[1] + part * (a[1] - p[1]),
            p[0] + part * (b[0] - p[0]),
            p[1] + part * (b[1] - p[1]),
        )
        if low <= met <= high:
            return part
        part *= 0.75
    return 0.0


@kernel
def _round(
    vertices: FloatRows,
    edges: IntRows,
    bounds: FloatRows,
    is_fixed: Flags,
    starts: Indices,
    points: FloatRows,
    out: Mutable[FloatRows],
    ends: Mutable[Indices],
) -> int:
    """Write every line with its corners rounded; return how many places there are."""
    size = 0
    ends[0] = 0
    for line in range(starts.shape[0] - 1):
        first, last = starts[line], starts[line + 1] - 1
        begin = size
        for i in range(first, last + 1):
            p = points[i]
            closing = i == last and not is_fixed[i]
            if closing:
                break
            if is_fixed[i]:
                out[size, 0], out[size, 1] = p[0], p[1]
                size += 1
                continue
            before, after = _neighbours(first, last, i, points)
            a, b = points[before], points[after]
            part = _cut_back(vertices, edges[i], bounds[i, 0], bounds[i, 1], a, p, b)
            ux, uy, vx, vy = p[0] - a[0], p[1] - a[1], b[0] - p[0], b[1] - p[1]
            turn = abs(math.atan2(ux * vy - uy * vx, ux * vx + uy * vy))
            if part == 0.0 or turn == 0.0:
                out[size, 0], out[size, 1] = p[0], p[1]
                size += 1
                continue
            pieces = min(1 + int(turn / _TURN_A_PIECE), _MOST_PIECES)
            for k in range(pieces + 1):
                s = k / pieces
                wa, wb = (1.0 - s) * (1.0 - s), s * s
                # The ends of the curve lie on the legs, part of the way to the neighbours.
                x = p[0] - part * (wa * ux - wb * vx)
                y = p[1] - part * (wa * uy - wb * vy)
                # Where two curves meet half way, both are the same to the last bit.
                if part == 0.5 and k == 0:
                    x, y = (a[0] + p[0]) / 2.0, (a[1] + p[1]) / 2.0
                elif part == 0.5 and k == pieces:
                    x, y = (p[0] + b[0]) / 2.0, (p[1] + b[1]) / 2.0
                if size > begin and out[size - 1, 0] == x and out[size - 1, 1] == y:
                    continue
                out[size, 0], out[size, 1] = x, y
                size += 1
        # The last curve ends where the first begins, unless it was cut back.
        if not is_fixed[last] and not (out[size - 1, 0] == out[begin, 0] and out[size - 1, 1] == out[begin, 1]):
            out[size, 0], out[size, 1] = out[begin, 0], out[begin, 1]
            size += 1
        ends[line + 1] = size
    return size
