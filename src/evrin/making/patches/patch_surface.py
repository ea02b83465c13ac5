"""A surface that became a patch, made a surface again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.making.combining.combined_provenance import provenance_of
from evrin.making.patches.patch_joining import with_upright_faces
from evrin.making.patches.patches import Patch
from evrin.surface.surface import Surface


def surface_again(surface: Surface, patch: Patch, made: str) -> Surface:
    """Return what a patch of one surface became, its steps closed with upright faces.

    Parameters
    ----------
    surface : Surface
        That it was: names, lines and shots are taken from it.
    patch : Patch
        What was made.
    made : str
        What a vertex is that was made.
    """
    closed = with_upright_faces(patch)
    vertices, triangles, rows = closed.compacted()
    return replace(
        surface,
        vertices=vertices,
        triangles=triangles,
        edge_lines=closed.edge_lines,
        provenance=provenance_of(rows, [surface], made),
        # They name vertices of what was.
        hidden=np.empty((0, 3), np.int32),
    )
