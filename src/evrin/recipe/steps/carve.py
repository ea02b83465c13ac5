"""`[carve]`: cutting the surface along its boundaries."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np

from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.kernels import Flags
from evrin.making.limits.limit_effects import LimitEffects, limit_effects, limits_of
from evrin.recipe.building.work import Shaped, Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.triangulate import snapped
from evrin.recipe.tables import Kind, Table
from evrin.tin.mesh.mesh_edits import living


class Carve(Table):
    """`[carve]`: how triangles meet the boundaries."""

    edges: Literal["crisp", "whole"] = "crisp"
    """`crisp` cuts triangles along the boundary; `whole` keeps or removes each as a whole."""


CARVE = Kind("carve", Carve, default=Carve())


BOUNDARY_IDLE = rule(
    "boundary-idle",
    "boundaries without which the surface would be the same",
    "warning",
    fix="check its place and its effect, and the order of the tables; or drop it",
)
BOUNDARY_TAKES_MOST = rule(
    "boundary-takes-most",
    "boundaries that take away more than half of the points",
    "warning",
    fix="check its effect (keep or cut), its units and its place; or accept it",
)


def carve(work: Work) -> str:
    """Cut the surface along its boundaries."""
    shaped, gathered = work.shaped, work.gathered
    mesh = shaped.triangulation
    count, moved = mesh.mesh.vertex_count, mesh.mesh.snapped
    places = np.ascontiguousarray(gathered.xyz[gathered.point_rows, :2])
    effects = limit_effects(mesh.mesh, limits_of(shaped.limits), places)
    before = living(mesh.mesh)
    mesh.carve(shaped.cutting, crisp=work.tables.settled(CARVE).edges == "crisp")
    lost = np.append(before & ~living(mesh.mesh)[:count], False)
    points = mesh.mesh_vertex_of[gathered.input_row_of[gathered.point_rows]]
    shaped.findings += [*_about_idle(shaped, effects), *_about_taken(shaped, effects, lost[points])]
    added = counted(mesh.mesh.vertex_count - count, "vertex", "vertices")
    return f"{counted(len(shaped.rings), 'ring')}, {added} added{snapped(mesh, moved)}"


def _about_idle(shaped: Shaped, effects: LimitEffects) -> Iterator[Finding]:
    """Report rings that change nothing."""
    for rings, cutting, idle in zip(shaped.limits, shaped.cutting, effects.idle, strict=True):
        for ring, cut, is_idle in zip(rings, cutting, idle, strict=True):
            # One that the ground was extrapolated to does change something.
            if is_idle and cut is ring:
                x, y = ring.points[0, :2].tolist()
                done = "keeps nothing more" if ring.effect == "keep" else "cuts nothing out"
                what = f"boundary {ring.name} {done}: the surface is the same without it"
                yield BOUNDARY_IDLE.finding((x, y), what, (ring.name,))


def _about_taken(shaped: Shaped, effects: LimitEffects, lost: Flags) -> Iterator[Finding]:
    """Report where boundaries leave less than half of the points."""
    if 2 * np.count_nonzero(lost) <= len(lost):
        return
    rings = shaped.limits[int(np.argmax(effects.taken))]
    x, y = rings[0].points[0, :2].tolist()
    who = f"boundary {rings[0].name} takes" if len(shaped.limits) == 1 else "the boundaries take"
    most = "" if len(shaped.limits) == 1 else f", most of them by {rings[0].name}"
    share = f"{np.count_nonzero(lost):,} of {counted(len(lost), 'point')} ({100.0 * np.mean(lost):.1f} %)"
    yield BOUNDARY_TAKES_MOST.finding((x, y), f"{who} away {share}{most}", tuple(ring.name for ring in rings))


def _is_asked(work: Work) -> bool:
    return bool(work.shaped.rings)


STEP = step(
    Step(name="carve", place=190, phase=Phase.EXTENT, kind=CARVE, act=carve, is_asked=_is_asked, group="boundaries cut")
)
