"""`[duplicates]`: which height is used where shots are at one place, or within a distance of each other."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from evrin.base.tolerances import HEIGHTS_AGREE
from evrin.base.wording import counted
from evrin.check import LISTED, Finding, rule
from evrin.check.fixes import leave_out
from evrin.kernels import Floats, Indices
from evrin.recipe.building.fates import OPEN
from evrin.recipe.building.rows import Rows
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Number, Table
from evrin.survey.close_points import kept_instead


class Duplicates(Table):
    """`[duplicates]`: which height is used where shots are at one place, or within a distance of each other."""

    policy: Literal["mean", "first", "last", "lowest", "highest", "refuse"] = "mean"
    """Which height is used; `refuse` stops the build where heights differ."""
    within: Annotated[Number, Field(ge=0.0)] = 0.0
    """Points no farther apart than this are merged."""
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _merges_or_refuses(self) -> Self:
        if self.policy == "refuse" and self.within > 0.0:
            raise ValueError("within merges points, which policy = 'refuse' does not; leave one of the two out")
        return self


DUPLICATES = Kind("duplicates", Duplicates, default=Duplicates())
NEAR_DUPLICATES = rule(
    "near-duplicates",
    "points merged because they are within a distance of another",
    "warning",
    "note",
    fix="leave the wrong one out by number",
)


def merge_near(work: Work) -> str:
    """Merge points with others close by."""
    rows, table = work.rows, work.tables.settled(DUPLICATES)
    point_rows = np.flatnonzero(rows.is_point & (rows.fate == OPEN))
    vertices = np.flatnonzero(~rows.is_point & (rows.fate == OPEN) & rows.on_lines())
    every = np.concatenate((point_rows, vertices))
    firm = (rows.on_lines() | rows.is_taken)[every]
    # Shots at the very same place are settled later, under the same policy.
    kept = kept_instead(rows.xyz[every], table.within, table.policy, firm)  # type: ignore[arg-type]
    moved = np.flatnonzero(kept != np.arange(len(every)))
    keeper, merged = every[kept[moved]], every[moved]
    apart = np.abs(rows.xyz[keeper, 2] - rows.xyz[merged, 2])
    same = (rows.xyz[keeper, :2] == rows.xyz[merged, :2]).all(axis=1)
    keeper, merged, apart = keeper[~same], merged[~same], apart[~same]
    rows.findings += _about_near(rows, keeper, merged, apart, table, work.frame.units)
    if table.policy == "mean":
        _take_means(rows, keeper, merged)
    rows.replaced_by[merged] = keeper
    return f"{counted(len(merged), 'point')} within {table.within:g} {work.frame.units} of another merged"


def _take_means(rows: Rows, keeper: Indices, merged: Indices) -> None:
    """Give each point that stays the mean height of those it replaces; a vertex of a line keeps its own."""
    lone = ~rows.on_lines()[keeper] & ~rows.is_taken[keeper]
    total = np.zeros(len(rows.xyz))
    count = np.zeros(len(rows.xyz))
    np.add.at(total, keeper[lone], rows.xyz[merged[lone], 2])
    np.add.at(count, keeper[lone], 1.0)
    at = np.unique(keeper[lone])
    rows.xyz[at, 2] = (rows.xyz[at, 2] + total[at]) / (count[at] + 1.0)


def _about_near(
    rows: Rows, keeper: Indices, merged: Indices, apart: Floats, table: Duplicates, units: str
) -> list[Finding]:
    """Report merged points: those of unlike height one by one, the rest together."""
    out = []
    xyz = rows.xyz
    # Points without numbers are those of a cloud: their noise is summed up, and none of them is wrong by itself.
    numbers = rows.shots.take(np.concatenate((keeper, merged))).numbers.astype(bool).reshape(2, -1)
    on_lines = rows.on_lines()
    unlike = np.flatnonzero((apart > HEIGHTS_AGREE.in_units(units)) & numbers.any(axis=0))
    for k in unlike[np.argsort(-apart[unlike], kind="stable")][:LISTED].tolist():
        one, other = int(keeper[k]), int(merged[k])
        distance = float(np.hypot(*(xyz[one, :2] - xyz[other, :2])))
        what = f"two shots {distance:.3f} {units} apart in plan, {apart[k]:.3f} {units} in height; "
        is_held = bool(on_lines[one] or rows.is_taken[one])
        what += "the vertex of the line keeps its height" if is_held else f"merged by {table.policy}"
        who = (rows.shots.describe(one), rows.shots.describe(other))
        wrong = other if rows.shots.numbers[other] else one
        out.append(
            NEAR_DUPLICATES.finding(
                (float(xyz[other, 0]), float(xyz[other, 1])),
                what,
                who,
                snippet=leave_out(rows.shots, wrong, f"{what}; leave the other out instead if that is wrong"),
            )
        )
    if len(merged):
        most = f"heights differ by at most {apart.max():.3f} {units}"
        what = f"{counted(len(merged), 'point')} within {table.within:g} {units} of another merged; {most}"
        x, y = xyz[int(merged[0]), :2]
        out.append(NEAR_DUPLICATES.finding((float(x), float(y)), what, severity="note", fix=""))
    return out


def _is_asked(work: Work) -> bool:
    table = work.tables.settled(DUPLICATES)
    return table.policy != "refuse" and table.within > 0.0


STEP = step(
    Step(
        name="duplicates",
        place=120,
        phase=Phase.ROWS,
        kind=DUPLICATES,
        act=merge_near,
        is_asked=_is_asked,
        group="duplicates settled",
    )
)
