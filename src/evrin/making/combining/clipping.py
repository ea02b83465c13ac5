"""A surface cut along rings, its ground unchanged."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError, GeometryError
from evrin.kernels import Flags, Floats
from evrin.making.editor import Editor
from evrin.making.from_arrays import as_ring, several
from evrin.making.limits.limit_cells import Area, is_inside
from evrin.making.patches.patch_surface import surface_again
from evrin.making.patches.patches import patch_of, snap_of
from evrin.making.patches.settling import cut_along
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.query.inside_rings import is_inside_rings

_MADE = "on the edge of an area"


def clipped(
    surface: Surface,
    keep: Sequence[ArrayLike] | ArrayLike = (),
    cut: Sequence[ArrayLike] | ArrayLike = (),
    *,
    crisp: bool = True,
) -> Surface:
    """Return the part of a surface inside *keep* and outside *cut*, with the shots behind its vertices.

    See `Surface.clip`.
    """
    kept = [as_ring(ring, f"ring {k} to keep", "keep") for k, ring in enumerate(several(keep))]
    without = [as_ring(ring, f"ring {k} to cut", "cut") for k, ring in enumerate(several(cut))]
    if not kept and not without:
        raise DataError("no ring is given; give at least one, as keep= or cut=")
    if has_steps(surface):

        def stays(places: Floats) -> Flags:
            inside, taken = (is_inside_rings(places, [ring.points for ring in rings]) for rings in (kept, without))
            return ~taken & (inside | (not kept))

        return _part(surface, [ring.points for ring in (*kept, *without)] if crisp else [], stays)
    editor = Editor.of(surface)
    editor.let_go()
    editor.work.carve([kept, without], crisp=crisp)
    return editor.surface()


def within_areas(surface: Surface, areas: Sequence[Area]) -> Surface:
    """Return the part of a surface that lies in any of several areas; itself where there is none.

    The rings of one area alternate; areas that lie upon one another unite.
    """
    if not areas:
        return surface
    if has_steps(surface):
        rings = [ring for area in areas for ring in area.rings]
        return _part(surface, rings, lambda places: is_inside(areas, places))
    editor = Editor.of(surface)
    editor.let_go()
    editor.work.carve([[SourceLine(area.name, ring, True, "keep") for ring in area.rings] for area in areas])
    return editor.surface()


def has_steps(surface: Surface) -> bool:
    """Return whether a surface has more than one height at any place."""
    _, starts = distinct_places(np.ascontiguousarray(surface.vertices[:, :2]))
    return len(starts) - 1 < len(surface.vertices)


def _part(surface: Surface, rings: Sequence[Floats], stays: Callable[[Floats], Flags]) -> Surface:
    """The triangles whose middles stay, cut along rings; steps in the ground stay steps."""
    snap = snap_of(surface.vertices, *rings)
    patch = patch_of(surface, snap)
    if len(rings):
        ends = np.concatenate([np.hstack((ring[:, :2], np.roll(ring[:, :2], -1, axis=0))) for ring in rings])
        patch = cut_along(patch, ends)
    part = patch.only(stays(patch.middles))
    if not len(part.triangles):
        raise GeometryError("no triangle is left: the boundaries leave nothing of the surface")
    return surface_again(surface, part, _MADE)
