"""Triangles removed: at a place, in an area or under a line."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind, exactly_one
from evrin.recipe.tables import Place, Ring


@edit_kind
class Remove(Edit):
    """`do = "remove"`: triangles out of the surface."""

    help: ClassVar[str] = "Remove the triangle at a place, or those in an area or under a line."
    undone: ClassVar[str] = "the triangles are part of the surface again"
    do: Literal["remove"]
    at: Place | None = None
    """A place in the triangle."""
    polygon: Ring | None = None
    """Corners of an area; triangles whose middle is in it."""
    line: Annotated[tuple[Place, ...], Field(min_length=2)] | None = None
    """Places of a line; triangles that it crosses."""
    hole: bool = False
    """Even where that opens a hole."""

    @model_validator(mode="after")
    def _states_where(self) -> Self:
        exactly_one(self, "at", "polygon", "line")
        return self

    def apply(self, editor: Editor, number: int) -> str:
        """Remove the triangles."""
        return editor.remove(at=self.at, polygon=self.polygon, line=self.line, hole=self.hole)
