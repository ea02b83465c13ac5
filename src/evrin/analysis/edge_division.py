"""Edges of a patch divided at vertices on them, so that what lies beside them meets them vertex by vertex."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from evrin.analysis.patches import NOWHERE, SAME_HEIGHT, Patch, longest_and_width
from evrin.kernels import Flags, Floats, Indices

_ROUNDS = 4
_SLIVER_ROUNDS = 24
_MOST_IDLE = 2


def with_vertices(patch: Patch, more: Floats) -> Patch:
    """Return a patch with further vertices (k, 3), which no triangle uses yet."""
    return replace(
        patch,
        vertices=np.concatenate((patch.vertices, more)),
        row_of=np.concatenate((patch.row_of, np.full(len(more), NOWHERE))),
    )


def with_edges_split(patch: Patch, at: Mapping[int, Sequence[int]]) -> Patch:
    """Return a patch with triangles divided at vertices on their edges.

    Parameters
    ----------
    patch : Patch
    at : mapping of int to sequence of int
        For half-edges, the vertices on each from its tail to its head.
    """
    if not at:
        return patch
    rows: list[list[int]] = []
    lines: list[list[int]] = []
    of: list[int] = []
    divided = sorted({half // 3 for half in at})
    for t in divided:
        ring: list[int] = []
        along: list[int] = []
        for k in range(3):
            here = [int(patch.triangles[t, k]), *at.get(3 * t + k, ())]
            ring += here
            along += [int(patch.edge_lines[t, k])] * len(here)
        for fan in _ears(patch.vertices[ring, :2]):
            rows.append([ring[k] for k in fan])
            lines.append([_line_between(along, fan[k], fan[(k + 1) % 3]) for k in range(3)])
            of.append(int(patch.surface_of[t]))
    whole = np.ones(len(patch.triangles), np.bool_)
    whole[divided] = False
    rest = patch.only(whole)
    return replace(
        rest,
        triangles=np.concatenate((rest.triangles, np.array(rows, np.int32).reshape(-1, 3))),
        edge_lines=np.concatenate((rest.edge_lines, np.array(lines, np.int32).reshape(-1, 3))),
        surface_of=np.concatenate((rest.surface_of, np.array(of, np.int32))),
    )


def _line_between(along: list[int], one: int, other: int) -> int:
    """The line of the side from one place of a ring to the next, -1 across it."""
    return along[one] if (one + 1) % len(along) == other else NOWHERE


def _ears(places: Floats) -> list[tuple[int, int, int]]:
    """Triangles of a convex ring, some of whose vertices are in line: the ear that leaves most on both sides first."""
    left = list(range(len(places)))
    out = []
    while len(left) > 3:
        ears = [(left[k - 1], left[k], left[(k + 1) % len(left)]) for k in range(len(left))]
        whole = _area(places[left])
        areas = [_area(places[list(ear)]) for ear in ears]
        best = max(range(len(ears)), key=lambda k: min(areas[k], whole - areas[k]))
        out.append(ears[best])
        left.pop(best)
    out.append((left[0], left[1], left[2]))
    return out


def _area(ring: Floats) -> float:
    x, y = (ring - ring[0]).T
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())


def sealed(patch: Patch) -> Patch:
    """Return a patch whose edges on the rim are divided at vertices of the rim that lie on them.

    Rounding alone decides whether a line is led through a vertex on one side only; what is left is a slit, or a
    triangle, as wide as nothing.
    """
    for _ in range(_ROUNDS):
        divided, thin = _vertices_on_rim(patch)
        if len(thin):
            whole = np.ones(len(patch.triangles), np.bool_)
            whole[thin] = False
            patch = patch.only(whole)
        elif divided:
            made: list[list[float]] = []
            at = {half: _vertices_of_edge(patch, on, half, made) for half, on in divided.items()}
            patch = with_edges_split(with_vertices(patch, np.array(made).reshape(-1, 3)), at)
        else:
            break
    return patch


def tidied(patch: Patch) -> Patch:
    """Return a patch without what rounding leaves at a join: doubled vertices, slits, triangles as wide as nothing."""
    sealed_once = sealed(welded(patch))
    for _ in range(_ROUNDS):
        without = without_slivers(sealed_once)
        if without is sealed_once:
            break
        sealed_once = sealed(without)
    return sealed_once


def welded(patch: Patch) -> Patch:
    """Return a patch in which new vertices, and those on the rim, are one where only rounding is between them."""
    is_near = np.zeros(len(patch.vertices), np.bool_)
    is_near[patch.used] = True
    is_near &= patch.row_of < 0
    is_near[patch.rim()] = True
    near = np.flatnonzero(is_near)
    pairs = cKDTree(patch.vertices[near, :2]).query_pairs(2.0 * patch.snap, output_type="ndarray")
    at = pairs.reshape(-1, 2)
    one, other = near[at].T
    same = np.abs(patch.vertices[one, 2] - patch.vertices[other, 2]) <= SAME_HEIGHT
    if not same.any():
        return patch
    links = coo_array((np.ones(int(same.sum()), np.int8), (at[same, 0], at[same, 1])), shape=(len(near), len(near)))
    group = connected_components(links, directed=False)[1]
    # Of each group one that was given leads, or else the first.
    order = np.lexsort((near, patch.row_of[near] < 0, group))
    leads = near[order[np.unique(group[order], return_index=True)[1]]]
    becomes = np.arange(len(patch.vertices))
    becomes[near] = leads[group]
    triangles = becomes[patch.triangles].astype(np.int32)
    whole = (triangles != np.roll(triangles, 1, axis=1)).all(axis=1)
    return replace(patch, triangles=triangles).only(whole)


def without_slivers(patch: Patch) -> Patch:
    """Return a patch without triangles as wide as nothing that have new vertices.

    Places that are meant to be in line are so except for rounding, and between them such triangles are left. Each is
    taken out, and the triangle along its longest side divided at its third corner.
    """
    fewest, idle = len(patch.triangles), 0
    for _ in range(_SLIVER_ROUNDS):
        thin, middle, longest = _slivers(patch)
        idle = 0 if len(thin) < fewest else idle + 1
        fewest = min(fewest, len(thin))
        # A few may turn into one another for ever.
        if not len(thin) or idle == _MOST_IDLE:
            break
        whole = np.ones(len(patch.triangles), np.bool_)
        at: dict[int, list[int]] = {}
        busy: set[int] = set()
        for t, m, half in zip(thin.tolist(), middle.tolist(), longest.tolist(), strict=True):
            mate = int(patch.mates[half])
            beside = mate // 3 if mate >= 0 else -1
            is_corner = beside >= 0 and m in patch.triangles[beside]
            if t in busy or beside in busy:
                continue
            busy |= {t, beside} if beside >= 0 else {t}
            whole[t] = False
            if is_corner:
                # Both are of the same three places.
                whole[beside] = False
            elif mate >= 0:
                at[mate] = [m]
        patch = _divided_and_dropped(patch, at, whole)
    return patch


def _divided_and_dropped(patch: Patch, at: dict[int, list[int]], whole: Flags) -> Patch:
    number = np.cumsum(whole) - 1
    kept = {3 * int(number[half // 3]) + half % 3: vertices for half, vertices in at.items()}
    return with_edges_split(patch.only(whole), kept)


def _slivers(patch: Patch) -> tuple[Indices, Indices, Indices]:
    """Triangles as wide as nothing with a new vertex: each with its middle corner and its longest half-edge."""
    is_new = patch.row_of < 0
    near = np.flatnonzero(is_new[patch.triangles].any(axis=1))
    corners = patch.triangles[near]
    longest, width = longest_and_width(patch.vertices[corners][:, :, :2])
    thin = np.flatnonzero(width <= 4.0 * patch.snap)
    return near[thin], corners[thin, (longest[thin] + 2) % 3].astype(np.int64), 3 * near[thin] + longest[thin]


def _vertices_on_rim(patch: Patch) -> tuple[dict[int, list[list[int]]], list[int]]:
    """For half-edges on the rim the vertices on each, by place; and triangles with a third corner on such an edge."""
    half = np.flatnonzero(patch.mates < 0)
    tail, head = patch.ends(half)
    rim = np.unique(np.concatenate((tail, head)))
    start, end = patch.vertices[tail, :2], patch.vertices[head, :2]
    lengths = np.hypot(*(end - start).T)
    found: dict[int, list[list[int]]] = {}
    thin: list[int] = []
    if not len(rim):
        return found, thin
    tree = cKDTree(patch.vertices[rim, :2])
    near = tree.query_ball_point((start + end) / 2.0, lengths / 2.0 * (1.0 + 1e-9))
    sizes = np.array([len(each) for each in near])
    edge = np.repeat(np.arange(len(half)), sizes)
    vertex = rim[np.concatenate([np.array(each, np.int64) for each in near])]
    away, along_edge = patch.vertices[vertex, :2] - start[edge], (end - start)[edge]
    length = np.maximum(lengths[edge], np.finfo(np.float64).tiny)
    along = (away * along_edge).sum(axis=1) / length
    across = np.abs(away[:, 0] * along_edge[:, 1] - away[:, 1] * along_edge[:, 0]) / length
    reach = 4.0 * patch.snap
    on = np.flatnonzero((across <= reach) & (along > reach) & (along < length - reach))
    on = on[np.lexsort((along[on], edge[on]))]
    for number in np.unique(edge[on]).tolist():
        here = vertex[on[edge[on] == number]].tolist()
        if set(patch.triangles[half[number] // 3].tolist()) & set(here):
            thin.append(int(half[number] // 3))
            continue
        by_place: dict[tuple[float, ...], list[int]] = {}
        for each in here:
            by_place.setdefault(tuple(patch.vertices[each, :2].tolist()), []).append(each)
        found[int(half[number])] = list(by_place.values())
    return found, thin


def _vertices_of_edge(patch: Patch, on: list[list[int]], half: int, made: list[list[float]]) -> list[int]:
    """For each place on an edge the vertex there at the height of the edge, made where there is none."""
    out = []
    (tail,), (head,) = patch.ends(np.array([half]))
    start, end = patch.vertices[tail], patch.vertices[head]
    length = float(np.hypot(*(end - start)[:2]))
    for here in on:
        x, y = patch.vertices[here[0], :2].tolist()
        part = float(np.hypot(x - start[0], y - start[1])) / length
        z = float(start[2] + part * (end[2] - start[2]))
        same = [v for v in here if abs(float(patch.vertices[v, 2]) - z) <= SAME_HEIGHT]
        if same:
            out.append(same[0])
        else:
            out.append(len(patch.vertices) + len(made))
            made.append([x, y, z])
    return out
