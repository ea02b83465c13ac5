"""`[[check_points]]`: points measured independently, compared with the surface."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from evrin.recipe.building.work import Work
from evrin.recipe.sources.measured import Measured, measured_points
from evrin.recipe.sources.source_table import Source
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import FileTable, Kind, Number, Selecting
from evrin.surface.surface import Surface


class CheckPointFile(FileTable):
    """`[[check_points]]`: points measured independently, compared with the surface."""

    keep: Selecting | None = None
    """Only what meets every criterion."""
    leave_out: Selecting | None = None
    """All that meets any criterion is left out."""
    tolerance: Annotated[Number, Field(ge=0.0)] | None = None
    """The largest deviation that passes."""


CHECK_POINTS = Kind("check_points", CheckPointFile, listed=True)
STEP = step(Step("check points", 220, Phase.CHECK, CHECK_POINTS))
_OWN_KEYS = ("tolerance", "why", "on")


def compared(work: Work, surface: Surface) -> list[Measured]:
    """Compare the surface with the check points of each table that is on.

    Raises
    ------
    DataError
        Where a file cannot be read, or holds no usable check point.
    """
    out = []
    for table in work.tables.on(CHECK_POINTS):
        given = {key: getattr(table, key) for key in table.model_fields_set if key not in _OWN_KEYS}
        out.append(measured_points(work.folder, Source(role="points", **given), surface, table.tolerance))
    return out
