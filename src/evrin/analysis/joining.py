"""Patches put together: one cut out for another, vertices at the join matched, steps between them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from evrin.analysis.bands_at_joins import met_within
from evrin.analysis.edge_division import tidied, with_edges_split, with_vertices
from evrin.analysis.patches import NOWHERE, SAME_HEIGHT, Patch, cut_along, merged, used_in
from evrin.kernels import Flags, Floats, Indices, Ints
from evrin.tin.along_segments import as_segments
from evrin.tin.equal_lines import EQUAL, equal_segments


@dataclass(frozen=True, eq=False)
class Meeting:
    """Edges along which the ground of two surfaces meets, directed so that the newer ground is on the left.

    Attributes
    ----------
    newer, older : (e, 2) int32
        The vertices of each edge on either side; the same where there is no step.
    surfaces : (e, 2) int32
        Which surface is newer and which is older.
    """

    newer: Ints
    older: Ints
    surfaces: Ints


def without(under: Patch, over: Patch) -> Patch:
    """Return the part of a patch where another is not, cut along its rim."""
    low, high = _bounds(over)
    rim = as_segments(over.vertices, over.rim())
    cut = cut_along(under, rim[_may_meet(rim, *_bounds(under))])
    middles = cut.middles
    near = np.flatnonzero(((middles >= low) & (middles <= high)).all(axis=1))
    covered = np.zeros(len(cut.triangles), np.bool_)
    covered[near] = over.locator.triangles_at(np.ascontiguousarray(middles[near])) >= 0
    return cut.only(~covered)


def laid_over(under: Patch, over: Patch, band: float = 0.0) -> Patch:
    """Return two patches as one: *over* wherever it is, *under* everywhere else, both cut along the join.

    Parameters
    ----------
    under, over : Patch
        In coordinates of one origin.
    band : float
        Ground of *under* nearer to the join than this is raised or lowered so that it meets *over*.
    """
    if not len(over.triangles):
        return under
    if not len(under.triangles):
        return over
    low, high = _bounds(over)
    stays = without(under, over)
    edges = stays.rim()
    beside = as_segments(stays.vertices, edges)
    # What has not been a part of the rim before is where the join is.
    fresh = _may_meet(beside, low - 1.0, high + 1.0)
    over = cut_along(over, beside[fresh])
    if band > 0.0:
        stays = _met_within(stays, over, band)
        again = as_segments(stays.vertices, stays.rim())
        over = cut_along(over, again[_may_meet(again, low - 1.0, high + 1.0)])
    return _matched(stays, over)


def _met_within(under: Patch, over: Patch, band: float) -> Patch:
    """The ground of *under*, changed within a band so that it meets *over*."""
    mine, others = _at_one_place(under, over)
    of_other = np.full(len(over.vertices), NOWHERE, np.int64)
    of_other[others] = mine
    edges = over.rim()
    edges = edges[(of_other[edges] >= 0).all(axis=1)]
    # Only where both run along the same edge; beyond, the rim of *over* has nothing beside it.
    there = {(int(a), int(b)) for a, b in under.rim().tolist()}
    kept = np.array([(int(b), int(a)) in there for a, b in of_other[edges].tolist()], np.bool_)
    edges = edges[kept] if len(edges) else edges
    if not len(edges):
        return under
    return met_within(under, over, edges, of_other[edges].astype(np.int32), band)


def _on_rim(patch: Patch) -> Indices:
    return used_in(patch.rim(), len(patch.vertices))


def _at_one_place(under: Patch, over: Patch) -> tuple[Indices, Indices]:
    """Vertices on the rims of two patches that are at one place."""
    mine, others = _on_rim(under), _on_rim(over)
    if not len(mine) or not len(others):
        return mine[:0], others[:0]
    tree = cKDTree(over.vertices[others, :2])
    found_at = tree.query(under.vertices[mine, :2], distance_upper_bound=8.0 * under.snap)
    away, at = (np.asarray(each) for each in found_at)
    found = np.isfinite(away)
    return mine[found], others[at[found]]


def _bounds(patch: Patch) -> tuple[Floats, Floats]:
    box = patch.locator.boxes[-1]
    return box[:2], box[2:]


def _may_meet(segments: Floats, low: Floats, high: Floats) -> Flags:
    west, east = np.minimum(segments[:, 0], segments[:, 2]), np.maximum(segments[:, 0], segments[:, 2])
    south, north = np.minimum(segments[:, 1], segments[:, 3]), np.maximum(segments[:, 1], segments[:, 3])
    meets: Flags = (east >= low[0]) & (west <= high[0]) & (north >= low[1]) & (south <= high[1])
    return meets


def _matched(under: Patch, over: Patch) -> Patch:
    """Both as one; on the rim, a vertex of *under* at one of *over* takes its place, and where heights agree is it."""
    joint = merged((under, over))
    mine, others = _at_one_place(under, over)
    shift = len(under.vertices)
    vertices = joint.vertices.copy()
    vertices[mine, :2] = over.vertices[others, :2]
    # Several vertices one above the other: the one whose height agrees.
    becomes = np.arange(len(vertices))
    nearest = _same_height(under, over, mine, others)
    becomes[mine[nearest >= 0]] = nearest[nearest >= 0] + shift
    joint = replace(joint, vertices=vertices, triangles=becomes[joint.triangles].astype(np.int32))
    return tidied(joint)


def _same_height(under: Patch, over: Patch, mine: Indices, others: Indices) -> NDArray[np.int64]:
    """For each vertex of *under* the vertex of *over* at the same place and height, -1 where there is none."""
    rim = _on_rim(over)
    places = over.vertices[rim, :2]
    order = np.lexsort(places.T)
    same = np.zeros(len(rim), np.bool_)
    same[1:] = (np.diff(places[order], axis=0) == 0.0).all(axis=1)
    group = np.empty(len(rim), np.int64)
    group[order] = np.cumsum(~same) - 1
    of_vertex = dict(zip(rim.tolist(), group.tolist(), strict=True))
    several = {int(g) for g in group[order][same]}
    members: dict[int, list[int]] = {}
    for vertex, number in zip(rim.tolist(), group.tolist(), strict=True):
        if number in several:
            members.setdefault(number, []).append(vertex)
    out = np.where(np.abs(under.vertices[mine, 2] - over.vertices[others, 2]) <= SAME_HEIGHT, others, NOWHERE)
    for k, vertex in enumerate(others.tolist()):
        for other in members.get(of_vertex[vertex], ()):
            if abs(under.vertices[mine[k], 2] - over.vertices[other, 2]) <= SAME_HEIGHT:
                out[k] = other
    return out


def part_above(patch: Patch, other: Patch, sign: float = 1.0, *, alone: bool = True) -> Patch:
    """Return the part of a patch that is higher than another, lower for sign -1.

    Parameters
    ----------
    patch, other : Patch
        In coordinates of one origin.
    sign : float
    alone : bool
        Whether where the other is not counts as well.
    """
    if not len(other.triangles):
        return patch
    low, high = _bounds(patch)
    rim = as_segments(other.vertices, other.rim())
    rim = rim[_may_meet(rim, low, high)]
    cut = cut_along(patch, np.concatenate((equal_segments(patch.layer, other.layer), rim)))
    middles = cut.middles
    below = other.locator.heights_at(middles)
    own = cut.vertices[cut.triangles, 2].mean(axis=1)
    return cut.only((np.isnan(below) & alone) | (sign * (own - below) > EQUAL))


def meetings(patch: Patch, surfaces: int) -> Meeting:
    """Return the edges along which triangles of different surfaces meet, those with a step between them as well.

    Parameters
    ----------
    patch : Patch
    surfaces : int
        How many there are; triangles across gaps, of a number beyond, meet nothing.
    """
    half = np.flatnonzero(patch.mates >= 0)
    mate = patch.mates[half]
    of, across = patch.surface_of[half // 3], patch.surface_of[mate // 3]
    joined = half[of > across]
    flush = np.column_stack(patch.ends(joined))
    left, right = _rim_pairs(patch)
    differ = patch.surface_of[left // 3] != patch.surface_of[right // 3]
    left, right = left[differ], right[differ]
    turned = patch.surface_of[left // 3] < patch.surface_of[right // 3]
    left, right = np.where(turned, right, left), np.where(turned, left, right)
    newer = np.concatenate((flush, np.column_stack(patch.ends(left))))
    older = np.concatenate((flush, np.column_stack(patch.ends(right)[::-1])))
    of_newer = np.concatenate((patch.surface_of[joined // 3], patch.surface_of[left // 3]))
    of_older = np.concatenate((patch.surface_of[patch.mates[joined] // 3], patch.surface_of[right // 3]))
    kept = of_newer < surfaces
    both = np.column_stack((of_newer, of_older))
    return Meeting(newer[kept].astype(np.int32), older[kept].astype(np.int32), both[kept])


def _rim_pairs(patch: Patch) -> tuple[Indices, Indices]:
    """Half-edges on the rim that run over one another in opposite directions, at different heights."""
    half = np.flatnonzero(patch.mates < 0)
    tail, head = patch.ends(half)
    places = patch.vertices[np.concatenate((tail, head)), :2]
    number = np.unique(places, axis=0, return_inverse=True)[1].reshape(2, -1)
    count = int(number.max()) + 1 if number.size else 1
    there, back = number[0] * count + number[1], number[1] * count + number[0]
    order = np.argsort(there, kind="stable")
    at = np.searchsorted(there[order], back)
    found = at < len(order)
    found[found] = there[order[at[found]]] == back[found]
    one, other = half[found], half[order[at[found]]]
    once = one < other
    return one[once], other[once]


def with_upright_faces(patch: Patch) -> Patch:
    """Return a patch whose steps are closed with upright faces, which come last."""
    left, right = _rim_pairs(patch)
    a, b = patch.ends(left)
    d, c = patch.ends(right)
    # The other side runs back: d is at b, c at a. Each face runs along an edge against the triangle beside it.
    first = np.column_stack((b, a, c))[a != c]
    second = np.column_stack((b, c, d))[b != d]
    of = np.concatenate((patch.surface_of[left // 3][a != c], patch.surface_of[left // 3][b != d]))
    faces = np.concatenate((first, second)).astype(np.int32)
    return replace(
        patch,
        triangles=np.concatenate((patch.triangles, faces)),
        edge_lines=np.concatenate((patch.edge_lines, np.full(faces.shape, NOWHERE, np.int32))),
        surface_of=np.concatenate((patch.surface_of, of)),
    )


def split_where_steps_turn(patch: Patch) -> Patch:
    """Return a patch with a vertex wherever a step between two edges turns from up to down."""
    left, right = _rim_pairs(patch)
    a, b = patch.ends(left)
    d, c = patch.ends(right)
    z = patch.vertices[:, 2]
    here, there = z[a] - z[c], z[b] - z[d]
    turns = ((here > 0.0) & (there < 0.0)) | ((here < 0.0) & (there > 0.0))
    if not turns.any():
        return patch
    part = here[turns] / (here[turns] - there[turns])
    start, end = patch.vertices[a[turns]], patch.vertices[b[turns]]
    middles = start + part[:, None] * (end - start)
    numbers = len(patch.vertices) + np.arange(len(middles))
    sides = np.concatenate((left[turns], right[turns])).tolist()
    at = {half: [number] for half, number in zip(sides, np.tile(numbers, 2).tolist(), strict=True)}
    return with_edges_split(with_vertices(patch, middles), at)
