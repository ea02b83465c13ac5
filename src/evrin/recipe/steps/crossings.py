"""`[crossings]`: which height is used where breaklines cross at different heights."""

from __future__ import annotations

from typing import Literal

from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Table


class CrossingsTable(Table):
    """`[crossings]`: which height is used where breaklines cross at different heights."""

    policy: Literal["mean", "first", "higher", "lower", "refuse"] = "mean"
    """Which height is used; `refuse` stops the build where heights differ."""
    why: str = ""
    on: bool = True


CROSSINGS = Kind("crossings", CrossingsTable, default=CrossingsTable())
STEP = step(Step("crossings", 130, Phase.MESH, CROSSINGS, group="crossings settled"))
