"""What one more edit would do, before it is written down."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from evrin.recipe.build import make
from evrin.recipe.edits import apply_edit, namer
from evrin.recipe.schema import Edit, Place, Tables
from evrin.recipe.stages import Stages
from evrin.recipe.store import Store
from evrin.surface.editing import Editor


@dataclass(frozen=True)
class EditPreview:
    """What an edit would do, in words, and for a flip the two vertices that the new edge joins."""

    did: str
    joins: tuple[Place, Place] | None = None


def preview_edit(folder: Path, tables: Tables, edit: Edit, stages: Stages, store: Store | None = None) -> EditPreview:
    """Try one more edit on the mesh that a recipe makes.

    Raises
    ------
    EditError
        Where it does not fit.
    """
    made = make(folder, tables, stages, store)
    mesh = made.work.mesh
    editor = Editor(made.work, tables.check.edit_reach, namer(made.gathered, made.work))
    joins = None
    if edit.do == "flip" and edit.at is not None and edit.joins is None:
        a, b = mesh.flip_ends(mesh.edge_near(*edit.at))
        if min(a, b) >= 0:
            one, other = sorted((float(mesh.xy[v, 0]), float(mesh.xy[v, 1])) for v in (a, b))
            joins = (one, other)
    return EditPreview(apply_edit(editor, edit, len(tables.edit) + 1), joins)
