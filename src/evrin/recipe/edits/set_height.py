"""Heights set."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

from pydantic import model_validator

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind, exactly_one
from evrin.recipe.tables import Number, Place, Ring


@edit_kind
class SetHeights(Edit):
    """`do = "set"`: heights set."""

    help: ClassVar[str] = "Set the height of a vertex, or of all in an area."
    undone: ClassVar[str] = "the heights are as measured"
    vertex_keys: ClassVar[tuple[str, ...]] = ("at",)
    do: Literal["set"]
    at: Place | None = None
    """The vertex."""
    polygon: Ring | None = None
    """Corners of an area, for all vertices in it."""
    height: Number
    """The height."""

    @model_validator(mode="after")
    def _states_where(self) -> Self:
        exactly_one(self, "at", "polygon")
        return self

    def apply(self, editor: Editor, number: int) -> str:
        """Set the heights."""
        return editor.set(self.height, at=self.at, polygon=self.polygon)
