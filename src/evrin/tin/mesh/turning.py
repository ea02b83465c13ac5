"""Turning edges until they suit a measure other than plain distance."""

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats, Indices, IntRows, Mutable, as_index, inner, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, following, preceding
from evrin.tin.exact.predicates import in_circle, orientation
from evrin.tin.mesh.flips import doubled, flip, is_convex
from evrin.tin.mesh.mesh_arrays import MeshArrays


@kernel
def _chainages(
    line: FloatRows,
    xy: FloatRows,
    order: Indices,
    starts: Indices,
    low: Floats,
    side: float,
    shape: Indices,
    within: float,
    squash: float,
    out: Mutable[FloatRows],
) -> None:
    least = np.full(xy.shape[0], within * within)
    start = 0.0
    for k in range(line.shape[0] - 1):
        dx, dy = line[k + 1, 0] - line[k, 0], line[k + 1, 1] - line[k, 1]
        length = np.hypot(dx, dy)
        west, east = min(line[k, 0], line[k + 1, 0]) - within, max(line[k, 0], line[k + 1, 0]) + within
        south, north = min(line[k, 1], line[k + 1, 1]) - within, max(line[k, 1], line[k + 1, 1]) + within
        c0, c1 = max(np.floor((west - low[0]) / side), 0.0), min(np.floor((east - low[0]) / side), shape[1] - 1.0)
        r0, r1 = max(np.floor((south - low[1]) / side), 0.0), min(np.floor((north - low[1]) / side), shape[0] - 1.0)
        reach = within + 0.7072 * side
        for row in range(as_index(r0), as_index(r1) + 1):
            for column in range(as_index(c0), as_index(c1) + 1):
                cell = row * shape[1] + column
                if starts[cell] == starts[cell + 1]:
                    continue
                px, py = low[0] + (column + 0.5) * side - line[k, 0], low[1] + (row + 0.5) * side - line[k, 1]
                if abs(px * dy - py * dx) > reach * length * 1.000001:
                    continue
                for m in range(starts[cell], starts[cell + 1]):
                    i = order[m]
                    px, py = xy[i, 0] - line[k, 0], xy[i, 1] - line[k, 1]
                    along = (px * dx + py * dy) / length
                    is_end = (k == 0 and along < 0.0) or (k == line.shape[0] - 2 and along > length)
                    along = min(max(along, 0.0), length)
                    ox, oy = px - along * dx / length, py - along * dy / length
                    square_length = ox * ox + oy * oy
                    if square_length < least[i] and not is_end:
                        least[i] = square_length
                        way = 1.0 if dx * py - dy * px >= 0.0 else -1.0
                        out[i, 0] = start + along
                        out[i, 1] = way * np.sqrt(square_length) / squash
        start += length


def chainages(line: Floats, xy: Floats, within: float, squash: float) -> Floats:
    """Chainage and squashed offset (n, 2) of places along a line; NaN beyond *within* or beyond its ends.

    Places are sorted into cells, and each leg of the line looks into the cells within reach alone.
    """
    out = np.full((len(xy), 2), np.nan)
    if not len(xy) or not within > 0.0:
        return out
    low, size = xy.min(axis=0), np.ptp(xy, axis=0)
    side = max(within, float(size.max()) / max(np.sqrt(len(xy)), 1.0), 1e-9)
    shape = (np.floor(size / side)[::-1] + 1.0).astype(np.int64)
    column, row = np.floor((xy - low) / side).astype(np.int64).T
    cell = row * shape[1] + column
    order = np.argsort(cell, kind="stable")
    starts = np.searchsorted(cell[order], np.arange(int(shape.prod()) + 1))
    _chainages(line, xy, order, starts, low, side, shape, within, squash, out)
    return out


@inner
def _is_left(places: FloatRows, a: int, b: int, c: int) -> bool:
    return orientation(places[a, 0], places[a, 1], places[b, 0], places[b, 1], places[c, 0], places[c, 1]) > 0.0


@inner
def _should_turn(mesh: MeshArrays, places: FloatRows, e: int) -> bool:
    """Whether the edge is free, and its other diagonal the better one where distances are those of *places*."""
    corner = mesh.corner
    f = as_index(mesh.mate[e])
    if mesh.fixed[e] != 0 or not mesh.alive[e // 3] or not mesh.alive[f // 3]:
        return False
    a, b, c, d = corner[e], corner[f], corner[preceding(e)], corner[preceding(f)]
    if a == OUTSIDE or b == OUTSIDE or c == OUTSIDE or d == OUTSIDE:
        return False
    if np.isnan(places[a, 0]) or np.isnan(places[b, 0]) or np.isnan(places[c, 0]) or np.isnan(places[d, 0]):
        return False
    if not (_is_left(places, a, b, c) and _is_left(places, b, a, d)):
        return False
    if not (_is_left(places, d, c, a) and _is_left(places, c, d, b)):
        return False
    inside = in_circle(
        places[a, 0], places[a, 1], places[b, 0], places[b, 1], places[c, 0], places[c, 1], places[d, 0], places[d, 1]
    )
    return inside > 0.0 and is_convex(mesh, e)


@kernel
def turn_edges(mesh: MeshArrays, triangles: int, places: FloatRows) -> int:
    """Flip free edges until each is Delaunay among *places*, where all four vertices have one; return how many."""
    stack = np.empty(3 * triangles, np.int64)
    size = as_index(0)
    for e in range(3 * triangles):
        if mesh.alive[e // 3] and e < mesh.mate[e]:
            stack[size] = e
            size += 1
    turned = 0
    while size > 0:
        size -= 1
        e = stack[size]
        if not _should_turn(mesh, places, e):
            continue
        f = as_index(mesh.mate[e])
        flip(mesh, e)
        turned += 1
        if size + 4 > stack.shape[0]:
            stack = doubled(stack)
        stack[size], stack[size + 1], stack[size + 2], stack[size + 3] = e, following(e), f, following(f)
        size += 4
    return turned


@kernel
def passing(mesh: MeshArrays, half_edges: int, segments: IntRows, has_height: Flags) -> Floats:
    """Vertices that a forced segment with heights passes and does not end at: vertex, segment, its height there."""
    xy = mesh.xy
    out = np.empty((16, 3))
    size = 0
    for e in range(half_edges):
        s = mesh.fixed[e] - 1
        if s < 0 or s >= segments.shape[0] or not has_height[s]:
            continue
        v = mesh.corner[e]
        a, b = segments[s, 0], segments[s, 1]
        # The half-edge that runs the way of its segment counts, so that each vertex counts once.
        if v == a or v == b:
            continue
        w = mesh.corner[following(e)]
        if (xy[w, 0] - xy[v, 0]) * (xy[b, 0] - xy[a, 0]) + (xy[w, 1] - xy[v, 1]) * (xy[b, 1] - xy[a, 1]) < 0.0:
            continue
        dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
        part = ((xy[v, 0] - xy[a, 0]) * dx + (xy[v, 1] - xy[a, 1]) * dy) / (dx * dx + dy * dy)
        if size == out.shape[0]:
            larger = np.empty((2 * size, 3))
            for k in range(size):
                larger[k, 0], larger[k, 1], larger[k, 2] = out[k, 0], out[k, 1], out[k, 2]
            out = larger
        out[size, 0], out[size, 1], out[size, 2] = v, s, mesh.z[a] + part * (mesh.z[b] - mesh.z[a])
        size += 1
    return out[:size]
