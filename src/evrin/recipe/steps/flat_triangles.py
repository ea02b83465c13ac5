"""`[flat_triangles]`: fixing triangles all of whose corners are on one contour."""

from __future__ import annotations

from typing import Literal

from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Table
from evrin.survey.doubts.level_triangles import fix_flats


class FlatTriangles(Table):
    """`[flat_triangles]`: fixing triangles all of whose corners are on one contour."""

    fix: Literal["flips", "points"] = "points"
    """`flips` flips edges only; `points` also adds vertices, at heights interpolated from the ground around."""
    why: str = ""
    on: bool = True


FLAT_TRIANGLES = Kind("flat_triangles", FlatTriangles)


def fix_flat_triangles(work: Work) -> str:
    """Fix flat triangles by flips, and by added vertices where that is asked for."""
    with_points = work.tables.on(FLAT_TRIANGLES)[0].fix == "points"
    return fix_flats(work.shaped.triangulation, with_points=with_points).described()


STEP = step(Step("flat triangles", 160, Phase.MESH, FLAT_TRIANGLES, fix_flat_triangles, group="flat triangles fixed"))
