"""A surface whose places were rounded anew, made valid again where that turned a triangle."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.analysis.combined_provenance import provenance_of
from evrin.analysis.joining import with_upright_faces
from evrin.analysis.patches import patch_of, snap_of
from evrin.analysis.settling import near_segments, settled
from evrin.kernels import Flags
from evrin.surface.surface import Surface
from evrin.tin.along_segments import as_segments

_MADE = "where rounding turned a thin triangle"


def resettled(surface: Surface) -> Surface:
    """Return a surface without the faults that rounding its coordinates gave it; itself where there are none.

    A triangle that rounding turned was thinner than the snap width. It goes, and its neighbours are led through its
    corners; where that leaves two heights at a place there is an upright face.

    Parameters
    ----------
    surface : Surface
        Each of its triangles is right, except for rounding.
    """
    found = [fault for fault in surface.faults() if fault.kind not in ("not-finite", "numbers", "same-place")]
    if not found:
        return surface
    rows = np.unique(np.concatenate([fault.rows for fault in found]))
    corners = surface.triangles[rows]
    edges = np.concatenate((corners[:, :2], corners[:, 1:], corners[:, ::2]))
    patch = patch_of(surface, snap_of(surface.vertices))
    again = _settled_near(surface, near_segments(patch, as_segments(patch.vertices, edges)))
    return again if not again.faults() else _settled_near(surface, np.ones(len(patch.triangles), np.bool_))


def _settled_near(surface: Surface, near: Flags) -> Surface:
    patch = patch_of(surface, snap_of(surface.vertices))
    if not near.any():
        return surface
    closed = with_upright_faces(settled([patch], [near], first_as_it_is=False).whole())
    vertices, triangles, rows = closed.compacted()
    return replace(
        surface,
        vertices=vertices,
        triangles=triangles,
        edge_lines=closed.edge_lines,
        provenance=provenance_of(rows, [surface], _MADE),
    )
