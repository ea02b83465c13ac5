"""`[trim]`: triangles removed from the rim inwards, and inside as well where that is asked for."""

from __future__ import annotations

from typing import Annotated, Self

import numpy as np
from pydantic import Field, model_validator

from evrin.base.wording import counted
from evrin.recipe.building.fates import fate
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Number, Positive, Table


class Trim(Table):
    """`[trim]`: triangles removed from the rim inwards, and inside as well where that is asked for."""

    longest_edge: Positive | None = None
    """Triangles with a longer free edge are removed."""
    smallest_angle_deg: Annotated[Number, Field(gt=0.0, lt=60.0)] | None = None
    """Triangles with a smaller angle are removed."""
    inside: bool = False
    """Whether triangles inside are removed as well; holes can open."""
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _states_how(self) -> Self:
        if self.longest_edge is None and self.smallest_angle_deg is None:
            raise ValueError("give a longest_edge, a smallest_angle_deg, or both")
        return self


TRIM = Kind("trim", Trim)
TRIMMED = fate(50, "trimmed", "in no triangle since the rim was trimmed")


def trim_rim(work: Work) -> str:
    """Remove long and thin triangles."""
    trim = work.tables.on(TRIM)[0]
    longest = trim.longest_edge if trim.longest_edge is not None else np.inf
    removed = work.shaped.triangulation.mesh.trim(longest, trim.smallest_angle_deg or 0.0, inside=trim.inside)
    return f"{counted(removed, 'triangle' if trim.inside else 'rim triangle')} removed"


STEP = step(Step("trim", 180, Phase.EXTENT, TRIM, trim_rim, group="rim trimmed"))
