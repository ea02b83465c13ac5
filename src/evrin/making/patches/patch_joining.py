"""Patches put together: one cut out for another, vertices at the join matched, steps between them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from evrin.kernels import Floats, Indices, Ints
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.bands_at_joins import met_within
from evrin.making.patches.edge_division import with_edges_divided
from evrin.making.patches.patches import Patch
from evrin.making.patches.settling import bounds, cut_along, joined, may_meet, without
from evrin.tin.exact.predicates import orientation
from evrin.tin.overlay.along_segments import as_segments
from evrin.tin.overlay.equal_lines import EQUAL, equal_segments


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


def laid_over(under: Patch, over: Patch, band: float = 0.0) -> Patch:
    """Return two patches as one: *over* wherever it is, *under* everywhere else, both cut along the join.

    Parameters
    ----------
    under, over : Patch
        The ground, and what is put into it.
    band : float
        Ground of *under* nearer to the join than this is raised or lowered so that it meets *over*.
    """
    if not len(over.triangles):
        return under
    if not len(under.triangles):
        return over
    rim = as_segments(over.vertices, over.rim())
    low, high = bounds(under)
    rim = rim[may_meet(rim, low - 1.0, high + 1.0)]
    beside = without(under, over)
    whole = joined(over, beside, rim)
    return _without_step(whole, int(over.surface_of[0]), band) if band > 0.0 else whole


def _without_step(patch: Patch, newest: int, band: float) -> Patch:
    """Raise or lower the ground beside the newest surface, within a band, so that both meet."""
    meeting = meetings(patch, newest + 1)
    at_newest = meeting.surfaces[:, 0] == newest
    if not at_newest.any():
        return patch
    newer, older = patch.vertices[meeting.newer[at_newest]], patch.vertices[meeting.older[at_newest]]
    is_newest = patch.surface_of == newest
    beside = met_within(patch.only(~is_newest), newer, older, band)
    return joined(patch.only(is_newest), beside, newer[:, :, :2].reshape(-1, 4))


def part_above(patch: Patch, other: Patch, sign: float = 1.0, *, alone: bool = True) -> Patch:
    """Return the part of a patch that is higher than another, lower for sign -1.

    Parameters
    ----------
    patch, other : Patch
        What is cut, and what it is compared with.
    sign : float
        1 for the part above, -1 for the part below.
    alone : bool
        Whether where the other is not counts as well.
    """
    if not len(other.triangles):
        return patch
    low, high = bounds(patch)
    rim = as_segments(other.vertices, other.rim())
    rim = rim[may_meet(rim, low, high)]
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
        The pieces, put together.
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
    is_paired = at < len(order)
    is_paired[is_paired] = there[order[at[is_paired]]] == back[is_paired]
    one, other = half[is_paired], half[order[at[is_paired]]]
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
    """Return a patch with a vertex wherever a step between two edges turns from up to down.

    Where rounding would put the vertex beyond a thin triangle there is none, and both faces of the step cross there.
    """
    left_out: set[tuple[int, int]] = set()
    while True:
        edges, middles = _turning_steps(patch, left_out)
        if not len(edges):
            return patch
        patch = with_edges_divided(patch, edges, middles)


def _turning_steps(patch: Patch, left_out: set[tuple[int, int]]) -> tuple[NDArray[np.int64], Floats]:
    """Half-edges (k, 2) on both sides of steps that turn, at most one of a triangle, and where each does."""
    left, right = _rim_pairs(patch)
    a, b = patch.ends(left)
    d, c = patch.ends(right)
    z = patch.vertices[:, 2]
    here, there = z[a] - z[c], z[b] - z[d]
    turns = np.flatnonzero(((here > 0.0) & (there < 0.0)) | ((here < 0.0) & (there > 0.0)))
    part = here[turns] / (here[turns] - there[turns])
    start, end = patch.vertices[a[turns]], patch.vertices[b[turns]]
    middles = start + part[:, None] * (end - start)
    busy: set[int] = set()
    edges = []
    for row, k in enumerate(turns.tolist()):
        edge = (int(a[k]), int(b[k]))
        of = {int(left[k]) // 3, int(right[k]) // 3}
        if edge in left_out or of & busy:
            continue
        if all(_divides(patch, int(half), middles[row]) for half in (left[k], right[k])):
            busy |= of
            edges.append(row)
        else:
            left_out.add(edge)
    rows = turns[edges]
    return np.column_stack((left[rows], right[rows])), middles[edges]


def _divides(patch: Patch, half: int, place: Floats) -> bool:
    """Whether both parts of a triangle that is divided at a place on an edge are counter-clockwise."""
    t, k = divmod(half, 3)
    ax, ay, bx, by, cx, cy = patch.vertices[np.roll(patch.triangles[t], -k), :2].ravel().tolist()
    x, y = float(place[0]), float(place[1])
    return orientation(ax, ay, x, y, cx, cy) > 0.0 and orientation(x, y, bx, by, cx, cy) > 0.0
