"""The difference of two surfaces as a mesh: exact, and whole where rounding would tear it."""

from __future__ import annotations

import numpy as np

from evrin.base.errors import GeometryError
from evrin.kernels import Floats, Ints
from evrin.making.limits.limit_cells import layer_of
from evrin.making.patches.arranging import ArrangedPart, arranged, corner_heights, one_a_height
from evrin.making.patches.patch_joining import with_upright_faces
from evrin.making.patches.patches import Patch, patch_of, snap_of
from evrin.surface.surface import Surface
from evrin.tin.overlay.equal_lines import EQUAL, equal_segments
from evrin.tin.overlay.overlay_mesh import overlay_mesh


def difference_mesh(first: Surface, other: Surface) -> tuple[Floats, Ints]:
    """Return vertices (n, 3) and triangles (m, 3) of what two surfaces have in common.

    Heights are *other* less *first*.

    Parameters
    ----------
    first, other : Surface
        The two surfaces.

    Raises
    ------
    GeometryError
        Where they have no ground in common.
    """
    nowhere = np.zeros(2)
    vertices, triangles, is_whole = overlay_mesh(layer_of(first, nowhere), layer_of(other, nowhere))
    edges = np.full(triangles.shape, -1, np.int32)
    if is_whole and len(triangles) and not Surface(vertices.copy(), triangles, edges).faults():
        return vertices, triangles
    # Where rounding turned a triangle, tore it from its neighbours or made one place twice, places are settled.
    vertices, triangles = arranged_difference(first, other)
    if not len(triangles):
        raise GeometryError(f"{first.name} and {other.name} have no ground in common; look at their extents")
    return vertices, triangles


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
