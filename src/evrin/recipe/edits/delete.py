"""A vertex deleted."""

from __future__ import annotations

from typing import ClassVar, Literal

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind
from evrin.recipe.tables import Place


@edit_kind
class Delete(Edit):
    """`do = "delete"`: a vertex out of the surface; the triangles close over it."""

    help: ClassVar[str] = "Delete a vertex; the triangles close over it."
    undone: ClassVar[str] = "the vertex is part of the surface again"
    vertex_keys: ClassVar[tuple[str, ...]] = ("at",)
    do: Literal["delete"]
    at: Place
    """The vertex."""

    def apply(self, editor: Editor, number: int) -> str:
        """Delete the vertex."""
        return editor.delete(self.at)
