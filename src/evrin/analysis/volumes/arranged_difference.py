"""The difference of two surfaces where rounding would tear it: all edges of both in one triangulation."""

from __future__ import annotations

import numpy as np

from evrin.kernels import Floats, Ints
from evrin.making.patches.arranging import ArrangedPart, arranged, corner_heights, one_a_height
from evrin.making.patches.patch_joining import with_upright_faces
from evrin.making.patches.patches import Patch, patch_of, snap_of
from evrin.surface.surface import Surface
from evrin.tin.overlay.equal_lines import EQUAL, equal_segments


def arranged_difference(first: Surface, other: Surface) -> tuple[Floats, Ints]:
    """Return vertices (n, 3) and triangles (m, 3) where both surfaces are; heights are *other* less *first*.

    Steps of either are steps of the difference, closed with upright faces.

    Parameters
    ----------
    first, other : Surface
        The two surfaces; both cover some ground.
    """
    snap = snap_of(first.vertices, other.vertices)
    patches = [patch_of(surface, snap) for surface in (first, other)]
    parts = [_part_of(patch) for patch in patches]
    arrangement = arranged(parts, snap, along=equal_segments(patches[0].layer, patches[1].layer))
    both = arrangement.covers[0] & arrangement.covers[1]
    placed = arrangement.triangles[both]
    low, high = (
        corner_heights(part.rows, part.triangles, parents[both], numbers, placed, arrangement.xy, snap)[1]
        for part, parents, numbers in zip(parts, arrangement.parents, arrangement.numbers, strict=True)
    )
    difference = high - low
    difference[(np.abs(difference) <= EQUAL) | arrangement.on_along[placed]] = 0.0
    vertex: Ints = placed.ravel()
    heights: Floats = difference.ravel()
    number, one = one_a_height(vertex, heights, snap)
    vertices = np.column_stack((arrangement.xy[vertex[one]], heights[one]))
    triangles = number.reshape(-1, 3).astype(np.int32)
    nothing = np.full(len(triangles), 0, np.int32)
    lines, rows = np.full(triangles.shape, -1, np.int32), np.full(len(vertices), -1, np.int64)
    closed = with_upright_faces(
        Patch(vertices=vertices, triangles=triangles, edge_lines=lines, surface_of=nothing, row_of=rows, snap=snap)
    )
    return closed.vertices, closed.triangles


def _part_of(patch: Patch) -> ArrangedPart:
    used = patch.used
    rows = np.ascontiguousarray(patch.vertices[used])
    return ArrangedPart(rows, np.searchsorted(used, patch.triangles).astype(np.int32), patch.edge_lines)
