"""Vertices raised or lowered."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

from pydantic import model_validator

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind, exactly_one
from evrin.recipe.tables import Number, Place, Ring


@edit_kind
class Raise(Edit):
    """`do = "raise"`: vertices raised or lowered."""

    help: ClassVar[str] = "Raise a vertex, or all in an area; lower them by a negative height."
    undone: ClassVar[str] = "the heights are as measured"
    vertex_keys: ClassVar[tuple[str, ...]] = ("at",)
    do: Literal["raise"]
    at: Place | None = None
    """The vertex."""
    polygon: Ring | None = None
    """Corners of an area, for all vertices in it."""
    by: Number
    """By how much; negative lowers."""

    @model_validator(mode="after")
    def _states_where(self) -> Self:
        exactly_one(self, "at", "polygon")
        return self

    def apply(self, editor: Editor, number: int) -> str:
        """Raise the heights."""
        return editor.raise_by(self.by, at=self.at, polygon=self.polygon)
