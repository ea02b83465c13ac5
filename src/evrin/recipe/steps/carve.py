"""`[carve]`: cutting the surface along its boundaries."""

from __future__ import annotations

from typing import Literal

from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.triangulate import snapped
from evrin.recipe.tables import Kind, Table
from evrin.recipe.work import Work
from evrin.wording import counted


class Carve(Table):
    """`[carve]`: how triangles meet the boundaries."""

    edges: Literal["crisp", "whole"] = "crisp"
    """`crisp` cuts triangles along the boundary; `whole` keeps or removes each as a whole."""


CARVE = Kind("carve", Carve, default=Carve())


def carve(work: Work) -> str:
    """Cut the surface along its boundaries."""
    shaped = work.shaped
    before, moved = shaped.mesh.mesh.vertex_count, shaped.mesh.mesh.snapped
    shaped.mesh.carve(shaped.cutting, crisp=work.tables.settled(CARVE).edges == "crisp")
    added = counted(shaped.mesh.mesh.vertex_count - before, "vertex", "vertices")
    return f"{counted(len(shaped.cutting), 'ring')}, {added} added{snapped(shaped.mesh, moved)}"


def _is_asked(work: Work) -> bool:
    return bool(work.shaped.cutting)


STEP = step(Step("carve", 190, Phase.EXTENT, CARVE, carve, _is_asked, "boundaries cut"))
