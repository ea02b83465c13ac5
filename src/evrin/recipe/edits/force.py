"""An edge forced between two vertices."""

from __future__ import annotations

from typing import ClassVar, Literal

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind
from evrin.recipe.tables import Place


@edit_kind
class Force(Edit):
    """`do = "force"`: an edge between two vertices, along which no triangle is crossed."""

    help: ClassVar[str] = "Force an edge between two vertices."
    undone: ClassVar[str] = "triangles cross the line between the two vertices again"
    vertex_keys: ClassVar[tuple[str, ...]] = ("joins",)
    do: Literal["force"]
    joins: tuple[Place, Place]
    """The two vertices."""

    def apply(self, editor: Editor, number: int) -> str:
        """Force the edge."""
        return editor.force(self.joins, f"edit {number}")
