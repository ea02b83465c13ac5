"""`[[edit]]`: single changes to triangles and vertices, in order."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np

from evrin.base.errors import EditError
from evrin.check import Unfit
from evrin.kernels import Indices
from evrin.making.editor import Editor
from evrin.making.triangulation import Triangulation
from evrin.recipe.building.fates import fate
from evrin.recipe.building.rows import Gathered
from evrin.recipe.building.work import Work
from evrin.recipe.edits import Edit
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.check import CHECK
from evrin.recipe.tables import Kind
from evrin.tin.mesh import mesh_edits

EDIT = Kind("edit", Edit, listed=True)
EDITED_OUT = fate(60, "edited_out", "in no triangle since an edit")


def editor_of(work: Work) -> Editor:
    """Return an editor of the mesh, which names vertices by their shots."""
    reach = work.tables.settled(CHECK).edit_reach
    return Editor(work.shaped.triangulation, reach, _namer(work.gathered, work.shaped.triangulation))


def apply_edits(work: Work) -> str:
    """Apply all edits that are on; note those that do not fit."""
    editor = editor_of(work)
    asked = work.tables.numbered(EDIT)
    for number, edit in asked:
        editor.count(number)
        try:
            work.edits.append(f"{number}: {edit.apply(editor, number)}")
        except EditError as error:
            work.unfit.append(Unfit(number, edit.verb, edit.place, str(error)))
    editor.let_go()
    return f"{len(work.edits)} of {len(asked)} applied"


def _namer(gathered: Gathered, mesh: Triangulation) -> Callable[[int], str]:
    """Return what describes a mesh vertex as the surveyor knows it."""

    @cache
    def vertex_of() -> Indices:
        return np.where(gathered.input_row_of >= 0, mesh.mesh_vertex_of[gathered.input_row_of], -1)

    def name(vertex: int) -> str:
        rows = np.flatnonzero(vertex_of() == vertex)
        if len(rows):
            return gathered.shots.describe(int(rows[0]))
        x, y = mesh.mesh.xy[vertex]
        return f"the vertex at {x:.2f}, {y:.2f} ({mesh.made.get(vertex, 'added')})"

    return name


def living(mesh: Triangulation) -> np.ndarray:
    """Return which mesh vertices have a triangle of the surface."""
    return mesh_edits.living(mesh.mesh)


STEP = step(Step("edit", 200, Phase.EDITS, EDIT, apply_edits, group="edits applied"))
