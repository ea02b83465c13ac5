"""Applying the edits of a recipe, in order, to one mesh."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np

from evrin.check import Unfit
from evrin.errors import EditError
from evrin.recipe.rows import Gathered
from evrin.recipe.schema import Edit, Tables
from evrin.surface.editing import Editor
from evrin.surface.triangulate import Triangulation
from evrin.tin import mesh_edits
from evrin.tin.types import Flags, Indices


def namer(gathered: Gathered, work: Triangulation) -> Callable[[int], str]:
    """Return what describes a mesh vertex as the surveyor knows it."""

    @cache
    def vertex_of() -> Indices:
        return np.where(gathered.stands_at >= 0, work.vertex_of[gathered.stands_at], -1)

    def name(vertex: int) -> str:
        rows = np.flatnonzero(vertex_of() == vertex)
        if len(rows):
            return gathered.shots.describe(int(rows[0]))
        x, y = work.mesh.xy[vertex]
        return f"the vertex at {x:.2f}, {y:.2f} ({work.made.get(vertex, 'made')})"

    return name


def apply_edits(gathered: Gathered, work: Triangulation, tables: Tables) -> tuple[list[Unfit], list[str]]:
    """Apply all edits that are on; return those that do not fit, and in words what the others did."""
    unfit, did = [], []
    editor = Editor(work, tables.check.edit_reach, namer(gathered, work))
    for number, edit in enumerate(tables.edit, 1):
        if not edit.on:
            continue
        editor.count(number)
        try:
            did.append(f"{number}: {apply_edit(editor, edit, number)}")
        except EditError as error:
            unfit.append(Unfit(number, edit.do, edit.place, str(error)))
    editor.let_go()
    return unfit, did


def apply_edit(editor: Editor, edit: Edit, number: int = 0) -> str:
    """Apply one edit and return in words what it did.

    Raises
    ------
    EditError
        Where it does not fit.
    """
    at = edit.at or (0.0, 0.0)
    height = edit.height if edit.height is not None else 0.0
    act: dict[str, Callable[[], str]] = {
        "flip": lambda: editor.flip(at, edit.joins or ()),
        "force": lambda: editor.force(edit.joins or (), f"edit {number}"),
        "remove": lambda: editor.remove(at=edit.at, polygon=edit.polygon, line=edit.line, hole=edit.hole),
        "add": lambda: editor.add(at, edit.height),
        "move": lambda: editor.move(at, edit.to or at, edit.height),
        "raise": lambda: editor.raise_by(edit.by or 0.0, at=edit.at, polygon=edit.polygon),
        "set": lambda: editor.set(height, at=edit.at, polygon=edit.polygon),
        "delete": lambda: editor.delete(at),
    }
    return act[edit.do]()


def living(work: Triangulation) -> Flags:
    """Tell which mesh vertices have a triangle of the surface."""
    return mesh_edits.living(work.mesh)
