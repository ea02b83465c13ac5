"""A surface whose places were rounded again, made valid again where that turned a triangle."""

from __future__ import annotations

import numpy as np

from evrin.making.patches.patch_surface import surface_again
from evrin.making.patches.patches import patch_of, snap_of
from evrin.making.patches.settling import near_segments, settled
from evrin.surface.surface import Surface
from evrin.tin.overlay.along_segments import as_segments

_MADE = "where rounding turned a thin triangle"


def resettled(surface: Surface) -> Surface:
    """Return a surface without the faults that rounding its coordinates gave it; itself where there are none.

    A triangle that rounding turned was thinner than the snap width. It is removed, and its neighbours are made to pass
    through its corners; where that leaves two heights at a place there is an upright face.

    Parameters
    ----------
    surface : Surface
        Each of its triangles is right, except for rounding.
    """
    faults = [fault for fault in surface.faults() if fault.kind in ("turned", "edges", "covers-twice")]
    if not faults:
        return surface
    corners = surface.triangles[np.unique(np.concatenate([fault.rows for fault in faults]))]
    edges = np.concatenate((corners[:, :2], corners[:, 1:], corners[:, ::2]))
    patch = patch_of(surface, snap_of(surface.vertices))
    for near in (
        near_segments(patch, as_segments(patch.vertices, edges)),
        np.ones(len(patch.triangles), np.bool_),
    ):
        if near.any():
            again = surface_again(surface, settled([patch], [near], first_as_it_is=False).whole(), _MADE)
            if not again.faults():
                return again
    return surface
