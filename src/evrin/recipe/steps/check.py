"""`[check]`: what counts as agreement, and how near a place must be to what it means."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from evrin.base.tolerances import ACCEPTANCE_REACH, EDIT_REACH, HEIGHTS_AGREE
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Number, Positive, Table, default_length


class Check(Table):
    """`[check]`: what counts as agreement, and how near a place must be to what it means."""

    height_tolerance: Annotated[Number, Field(ge=0.0)] = default_length(HEIGHTS_AGREE)
    """Heights that differ by no more than this agree."""
    accept_reach: Positive = default_length(ACCEPTANCE_REACH)
    """Largest distance of a finding from the place of its acceptance."""
    edit_reach: Positive = default_length(EDIT_REACH)
    """Largest distance of a vertex or an edge from the place of an edit."""


CHECK = Kind("check", Check, default=Check())
STEP = step(Step("check", 210, Phase.CHECK, CHECK))
