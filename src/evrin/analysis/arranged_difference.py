"""The difference of two surfaces where rounding would tear it: all edges of both in one triangulation."""

from __future__ import annotations

import numpy as np

from evrin.analysis.arranging import Part, arranged, corner_heights, same_height
from evrin.analysis.joining import with_upright_faces
from evrin.analysis.patches import Patch, patch_of, snap_of
from evrin.kernels import Floats, Indices, Ints
from evrin.surface.surface import Surface
from evrin.tin.equal_lines import EQUAL, equal_segments


def arranged_difference(first: Surface, other: Surface) -> tuple[Floats, Ints]:
    """Return vertices (n, 3) and triangles (m, 3) where both surfaces are; heights are *other* less *first*.

    Steps of either are steps of the difference, closed with upright faces.

    Parameters
    ----------
    first, other : Surface
    """
    snap = snap_of(first.vertices, other.vertices)
    patches = [patch_of(surface, snap) for surface in (first, other)]
    parts = [_part_of(patch) for patch in patches]
    found = arranged(parts, snap, along=equal_segments(patches[0].layer, patches[1].layer))
    both = found.covers[0] & found.covers[1]
    placed = found.triangles[both]
    low, high = (
        corner_heights(part.rows, part.triangles, parents[both], numbers, placed, found.xy, snap)[1]
        for part, parents, numbers in zip(parts, found.parents, found.numbers, strict=True)
    )
    away = high - low
    away[(np.abs(away) <= EQUAL) | found.on_along[placed]] = 0.0
    vertices, triangles = _one_a_height(found.xy, placed, away, snap)
    nothing = np.full(len(triangles), 0, np.int32)
    lines, rows = np.full(triangles.shape, -1, np.int32), np.full(len(vertices), -1, np.int64)
    closed = with_upright_faces(Patch(vertices, triangles, lines, nothing, rows, snap))
    return closed.vertices, closed.triangles


def _part_of(patch: Patch) -> Part:
    used = patch.used
    rows = np.ascontiguousarray(patch.vertices[used])
    return Part(rows, np.searchsorted(used, patch.triangles).astype(np.int32), patch.edge_lines)


def _one_a_height(xy: Floats, placed: Ints, heights: Floats, snap: float) -> tuple[Floats, Ints]:
    """Vertices, one for each height at a place, and triangles of them."""
    vertex, z = placed.ravel(), heights.ravel()
    order = np.lexsort((z, vertex))
    begins = np.ones(len(vertex), np.bool_)
    begins[1:] = (np.diff(vertex[order]) != 0) | (np.diff(z[order]) > same_height(snap))
    number: Indices = np.empty(len(vertex), np.int64)
    number[order] = np.cumsum(begins) - 1
    first = order[begins]
    return np.column_stack((xy[vertex[first]], z[first])), number.reshape(-1, 3).astype(np.int32)
