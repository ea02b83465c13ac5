"""`[[combine]]`: another surface that the built one is combined with."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from evrin.recipe.tables.base import Number, Table
from evrin.recipe.tables.input_files import InputFile

Width = Annotated[Number, Field(ge=0.0, le=1e6)]


class CombineTable(Table):
    """`[[combine]]`: another surface, such as a later survey of a part; in turn, each is newer than all before it."""

    name: str = ""
    """What it is called in the build and its findings; the name of its file if not given."""
    file: InputFile
    """A surface file, or a recipe."""
    rule: Literal["newer", "higher", "lower"] = "newer"
    """Which surface is used where both are."""
    within: InputFile = ""
    """A file of closed lines; the other surface counts only inside them."""
    band: Width = 0.0
    """Ground of the built surface nearer to the join than this is raised or lowered so that there is no step."""
    across: Width = 0.0
    """Gaps between the two are triangulated with edges up to this length."""
    largest_step: Width | None = None
    """Steps larger than this are a finding; three times the height tolerance of `[check]` if not given."""
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _band_needs_newer(self) -> Self:
        if self.band > 0.0 and self.rule != "newer":
            raise ValueError('band goes with rule = "newer"; with the others both surfaces keep their heights')
        return self
