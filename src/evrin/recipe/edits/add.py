"""A vertex added."""

from __future__ import annotations

from typing import ClassVar, Literal

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind
from evrin.recipe.tables import Number, Place


@edit_kind
class Add(Edit):
    """`do = "add"`: a vertex at a place."""

    help: ClassVar[str] = "Add a vertex."
    undone: ClassVar[str] = "the vertex is not part of the surface"
    do: Literal["add"]
    at: Place
    """Where."""
    height: Number | None = None
    """Its height; that of the surface there if not given."""

    def apply(self, editor: Editor, number: int) -> str:
        """Add the vertex."""
        return editor.add(self.at, self.height)
