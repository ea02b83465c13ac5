"""Triangulating the rows and lines that the steps before have left."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from evrin.base.errors import DataError
from evrin.base.wording import counted
from evrin.making.merged_places import UnlikeHeights
from evrin.making.triangulation import Triangulation
from evrin.recipe.building.rows import Gathered
from evrin.recipe.building.work import Shaped, Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.check import CHECK
from evrin.recipe.steps.crossings import CROSSINGS
from evrin.recipe.steps.duplicates import DUPLICATES
from evrin.recipe.tables import Tables

_NAMED = 12


def triangulate(work: Work) -> str:
    """Triangulate, and refuse unlike heights where a policy asks for that."""
    gathered, tables = work.gathered, work.tables
    policies = {
        "at_one_place": tables.settled(DUPLICATES).policy,
        "at_crossings": tables.settled(CROSSINGS).policy,
    }
    wanted: dict[str, str] = {key: "mean" if policy == "refuse" else policy for key, policy in policies.items()}
    points = gathered.xyz[gathered.point_rows]
    at_one, at_crossings = wanted["at_one_place"], wanted["at_crossings"]
    mesh = Triangulation(points, gathered.lines, gathered.taken, at_one_place=at_one, at_crossings=at_crossings)
    _refuse_unlike(gathered, mesh, tables.settled(CHECK).height_tolerance, policies, work.frame.units)
    for row, what in gathered.made.items():
        mesh.made.setdefault(int(mesh.mesh_vertex_of[row]), what)
    work.shaped = Shaped(mesh)
    edges = counted(int((mesh.line_of_segment >= 0).sum()), "breakline edge")
    did = f"{counted(mesh.mesh.vertex_count, 'vertex', 'vertices')}, {edges}{snapped(mesh, 0)}"
    if mesh.near_places:
        did += f", {counted(mesh.near_places, 'place')} merged within {_width(mesh)} of another"
    return did


def snapped(mesh: Triangulation, before: int) -> str:
    """Return in words how many lines run through a vertex that they missed by less than the snap width."""
    count = mesh.mesh.snapped - before
    return f", {counted(count, 'line')} moved to a vertex within {_width(mesh)}" if count else ""


def _width(mesh: Triangulation) -> str:
    return f"{1e6 * mesh.mesh.snap:.2g} micrometres" if mesh.mesh.snap < 1e-3 else f"{mesh.mesh.snap:.2g}"


def _refuse_unlike(
    gathered: Gathered, mesh: Triangulation, limit: float, policies: Mapping[str, str], units: str
) -> None:
    places = []
    if policies["at_one_place"] == "refuse":
        for each in in_counted_rows(mesh.unlike, gathered):
            apart = float(np.ptp(each.heights)) if len(each.heights) else 0.0
            if apart > limit:
                shots = " and ".join(gathered.shots.describe(int(row)) for row in each.rows)
                places.append(f"{apart:.3f} {units} apart: {shots}")
    if policies["at_crossings"] == "refuse":
        for crossing in mesh.crossings:
            apart = abs(crossing.heights[0] - crossing.heights[1])
            if apart > limit:
                names = " and ".join(mesh.line_names[number] for number in crossing.lines)
                x, y = crossing.place
                places.append(f"{apart:.3f} {units} apart: {names} cross at ({x:.3f}, {y:.3f})")
    if places:
        more = f"\n  … and {len(places) - _NAMED:,} more" if len(places) > _NAMED else ""
        raise DataError(
            f'policy "refuse": heights differ at {counted(len(places), "place")}. Correct them, or choose another '
            "policy to report them as findings:\n  " + "\n  ".join(places[:_NAMED]) + more
        )


def in_counted_rows(unlike: list[UnlikeHeights], gathered: Gathered) -> list[UnlikeHeights]:
    """Restate input rows as rows of the files; a line that joins shots adds no rows."""
    out = []
    for each in unlike:
        rows = gathered.row_of_input[each.rows]
        own = rows >= 0
        if own.any():
            # What a step made, such as the shore of a flat, is the other height.
            out.append(UnlikeHeights(rows[own], each.heights[own] if own.sum() > 1 else each.heights))
    return out


def _rests_on(tables: Tables) -> object:
    policies = [tables.settled(DUPLICATES).policy, tables.settled(CROSSINGS).policy]
    # Whether a place is refused depends on what counts as agreement.
    return [policies, tables.settled(CHECK).height_tolerance if "refuse" in policies else None]


STEP = step(Step("triangulate", 140, Phase.MESH, act=triangulate, rests_on=_rests_on))
