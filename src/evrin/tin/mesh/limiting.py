"""Limiting a mesh to what rings keep and cut, one group of rings after the other."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from evrin.kernels import Flags, Floats, Ints
from evrin.tin.mesh import carving, flips
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query.inside_rings import is_inside_rings


class Limit(NamedTuple):
    """Closed rings that alternate where one lies in another, and whether their inside is kept or cut out.

    Attributes
    ----------
    keeps : bool
    rings : list of (k, 2) or (k, 3) float64
    """

    keeps: bool
    rings: list[Floats]


def is_kept(limits: Sequence[Limit], inside: Sequence[Flags], count: int) -> Flags:
    """Return what several limits leave, in turn.

    The first that keeps leaves only its inside, and each later one adds its inside; one that cuts takes its inside
    away.

    Parameters
    ----------
    limits : sequence of Limit
    inside : sequence of (count,) bool
        For each, what is inside its rings.
    count : int

    Returns
    -------
    (count,) bool
    """
    out = np.ones(count, np.bool_)
    is_limited = False
    for limit, within in zip(limits, inside, strict=True):
        out = _after(limit, out, within, is_limited=is_limited)
        is_limited |= limit.keeps
    return out


def _after(limit: Limit, kept: Flags, within: Flags, *, is_limited: bool) -> Flags:
    """What one more limit leaves of what those before it did."""
    if not limit.keeps:
        return kept & ~within
    return kept | within if is_limited else kept & within


def are_kept(limits: Sequence[Limit], places: Floats) -> Flags:
    """Return which places limits leave.

    Parameters
    ----------
    limits : sequence of Limit
    places : (n, 2) float64

    Returns
    -------
    (n,) bool
    """
    return is_kept(limits, [is_inside_rings(places, limit.rings) for limit in limits], len(places))


def limit_mesh(mesh: Mesh, limits: Sequence[Limit], *, crisp: bool = True) -> None:
    """Leave alive what limits leave of a mesh.

    Parameters
    ----------
    mesh : Mesh
    limits : sequence of Limit
        In turn; see `is_kept`.
    crisp : bool
        Cut triangles along the rings, with new vertices on the surface; otherwise a triangle is kept or removed
        whole, by its middle.
    """
    asked = [limit for limit in limits if limit.rings]
    if not asked:
        return
    if not crisp:
        living = np.flatnonzero(mesh.alive[: mesh.triangle_count])
        mesh.alive[living] = are_kept(asked, mesh.xy[mesh.corner.reshape(-1, 3)[living]].mean(axis=1))
        return
    first_line = len(mesh.segments) + 1
    carving.hold_ground(mesh.arrays, mesh.triangle_count)
    keeps = [limit for limit in asked if limit.keeps]
    if len(keeps) < 2 and len(asked) - len(keeps) < 2:
        # One of each: the order makes no difference, and both are forced at once.
        _force(mesh, asked)
        side = _sides(mesh)
        stays = (side & flips.DATA != 0) & (side & flips.CUT == 0)
        mesh.alive[: mesh.triangle_count] = stays & (side & flips.KEEP != 0) if keeps else stays
    else:
        _limit_in_turn(mesh, asked)
    carving.release_ground(mesh.fixed, 3 * mesh.triangle_count, first_line)
    carving.fill_heights(mesh.arrays, mesh.triangle_count)
    carving.drop_unreal(mesh.arrays, mesh.triangle_count, mesh.vertex_count)


def _limit_in_turn(mesh: Mesh, limits: Sequence[Limit]) -> None:
    """Force the rings of one limit after the other; edges carry what the limits so far leave as KEEP."""
    carving.mark_region(mesh.arrays, mesh.triangle_count, mesh.alive, flips.KEEP)
    region = mesh.alive[: mesh.triangle_count].copy()
    is_limited = False
    for limit in limits:
        _force(mesh, [Limit(False, limit.rings)])
        side = _sides(mesh)
        region, within = side & flips.KEEP != 0, side & flips.CUT != 0
        region = _after(limit, region, within, is_limited=is_limited)
        is_limited |= limit.keeps
        carving.mark_region(mesh.arrays, mesh.triangle_count, region, flips.KEEP)
        mesh.alive[: mesh.triangle_count] = side & flips.DATA != 0
        carving.fill_heights(mesh.arrays, mesh.triangle_count)
    mesh.alive[: mesh.triangle_count] &= region


def _sides(mesh: Mesh) -> Ints:
    side = np.empty(mesh.triangle_count, np.int32)
    carving.sides_of_triangles(mesh.arrays, mesh.triangle_count, side)
    return side


def _force(mesh: Mesh, limits: Sequence[Limit]) -> None:
    """Force rings between the edges that are held.

    What is inside is a matter of which edges carry the rings, not of where rounded places lie: a ring that is led
    through a vertex takes its inside along.
    """
    ordered = [*(limit for limit in limits if limit.keeps), *(limit for limit in limits if not limit.keeps)]
    rings = [ring for limit in ordered for ring in limit.rings]
    marks = [flips.KEEP if limit.keeps else flips.CUT for limit in ordered for _ in limit.rings]
    if not rings:
        return
    places = np.concatenate([ring[:, :2] for ring in rings])
    before = mesh.vertex_count
    number = mesh.insert(places, mesh.heights(places))
    sizes = [len(ring) for ring in rings]
    starts = np.cumsum([0, *sizes])
    after = np.arange(1, len(places) + 1)
    after[starts[1:] - 1] = starts[:-1]
    segments = np.column_stack((number, number[after]))
    sides = np.repeat(np.array(marks, np.int32), sizes)
    apart = segments[:, 0] != segments[:, 1]
    mesh.force(
        segments[apart],
        np.zeros(int(apart.sum()), np.bool_),
        sides=sides[apart],
        fresh=np.arange(before, mesh.vertex_count, dtype=np.int32),
    )
