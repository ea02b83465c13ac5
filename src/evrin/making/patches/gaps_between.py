"""Gaps between pieces of ground, triangulated across."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from evrin.kernels import Flags, Indices, Ints
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patches import Patch, used_in
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.mesh import carving, flips
from evrin.tin.mesh.working_mesh import Mesh


def across_gaps(patch: Patch, longest: float, number: int) -> tuple[Patch, float]:
    """Return a patch with the gaps between its pieces closed, as far as edges up to a length do; and their area.

    Parameters
    ----------
    patch : Patch
        Pieces of ground.
    longest : float
        The longest edge across a gap.
    number : int
        Of the surface that the new triangles are taken to be of.
    """
    rim = patch.rim()
    used = used_in(rim, len(patch.vertices))
    places = np.ascontiguousarray(patch.vertices[used, :2])
    order, starts = distinct_places(places)
    if len(starts) < 4:
        return patch, 0.0
    firsts = order[starts[:-1]]
    mesh = Mesh(np.ascontiguousarray(places[firsts]), np.zeros(len(firsts)))
    place_of = np.empty(len(used), np.int32)
    place_of[order] = np.repeat(np.arange(len(firsts), dtype=np.int32), np.diff(starts))
    ends = place_of[np.searchsorted(used, rim)]
    rim_sides = np.full(len(ends), flips.DATA, np.int32)
    mesh.force(np.ascontiguousarray(ends), np.zeros(len(ends), np.bool_), sides=rim_sides, exact=True)
    count = mesh.triangle_count
    side = np.empty(count, np.int32)
    carving.sides_of_triangles(mesh.arrays, count, side)
    corners = mesh.corner[: 3 * count].reshape(-1, 3)
    is_void = (side & flips.DATA == 0) & (corners >= 0).all(axis=1) & (corners < len(firsts)).all(axis=1)
    lines = mesh.fixed[: 3 * count].reshape(-1, 3)[is_void] & flips.LINES
    corners = corners[is_void].copy()
    xy = mesh.xy[corners]
    sides = np.hypot(*np.moveaxis(np.roll(xy, -1, axis=1) - xy, 2, 0))
    short = (sides <= longest).all(axis=1)
    corners, lines = corners[short], lines[short]
    bridging = _bridges(corners, lines, _piece_of(patch)[used[firsts]])
    triangles = used[firsts][corners[bridging]].astype(np.int32)
    if not len(triangles):
        return patch, 0.0
    filled = replace(
        patch,
        triangles=np.concatenate((patch.triangles, triangles)),
        edge_lines=np.concatenate((patch.edge_lines, np.full(triangles.shape, NOWHERE, np.int32))),
        surface_of=np.concatenate((patch.surface_of, np.full(len(triangles), number, np.int32))),
    )
    return filled, filled.area - patch.area


def _piece_of(patch: Patch) -> Indices:
    """Which connected piece each vertex is of."""
    a, b, c = patch.triangles.T
    count = len(patch.vertices)
    ends = np.concatenate((a, b)), np.concatenate((b, c))
    links = coo_array((np.ones(len(ends[0]), np.int8), ends), shape=(count, count))
    return connected_components(links, directed=False)[1].astype(np.int64)


def _bridges(corners: Ints, lines: Ints, piece: Indices) -> Flags:
    """Which triangles belong to a gap that touches two pieces or more; gaps are apart where ground is between them."""
    if not len(corners):
        return np.empty(0, np.bool_)
    count = int(corners.max()) + 1
    tail, head = corners.ravel().astype(np.int64), np.roll(corners, -1, axis=1).ravel().astype(np.int64)
    keys = np.minimum(tail, head) * count + np.maximum(tail, head)
    free = np.flatnonzero(lines.ravel() == 0)
    order = free[np.argsort(keys[free], kind="stable")]
    same = np.flatnonzero(keys[order[1:]] == keys[order[:-1]])
    one, other = order[same] // 3, order[same + 1] // 3
    links = coo_array((np.ones(len(one), np.int8), (one, other)), shape=(len(corners), len(corners)))
    gap = connected_components(links, directed=False)[1]
    low = np.full(gap.max() + 1, np.iinfo(np.int64).max)
    high = np.full(gap.max() + 1, -1)
    np.minimum.at(low, np.repeat(gap, 3), piece[corners].ravel())
    np.maximum.at(high, np.repeat(gap, 3), piece[corners].ravel())
    return (low < high)[gap]
