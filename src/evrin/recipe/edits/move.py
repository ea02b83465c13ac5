"""A vertex moved."""

from __future__ import annotations

from typing import ClassVar, Literal

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind
from evrin.recipe.tables import Number, Place


@edit_kind
class Move(Edit):
    """`do = "move"`: a vertex to another place."""

    help: ClassVar[str] = "Move a vertex."
    undone: ClassVar[str] = "the vertex is at its measured place"
    vertex_keys: ClassVar[tuple[str, ...]] = ("at",)
    do: Literal["move"]
    at: Place
    """The vertex."""
    to: Place
    """Its new place."""
    height: Number | None = None
    """Its new height; unchanged if not given."""

    def apply(self, editor: Editor, number: int) -> str:
        """Move the vertex."""
        return editor.move(self.at, self.to, self.height)
