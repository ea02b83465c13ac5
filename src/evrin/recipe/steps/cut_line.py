"""`[[cut_line]]`: a line that stops short at a place, or has a stretch taken out."""

from __future__ import annotations

from dataclasses import replace
from fnmatch import fnmatchcase
from typing import Literal, Self

import numpy as np
from pydantic import model_validator

from evrin.base.tolerances import CUT_REACH
from evrin.base.wording import counted
from evrin.check import rule
from evrin.recipe.building.fates import LEFT_OUT
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Place, Positive, Table, default_length
from evrin.survey.lines.cutting import cut_at, cut_between, nearest_on


class CutLine(Table):
    """`[[cut_line]]`: a line that stops short at a place, or has a stretch taken out."""

    line: str
    """Name of the line; `*` matches anything."""
    at: Place
    """Where it is cut."""
    keep: Literal["before", "after"] | None = None
    """Which part is kept."""
    to: Place | None = None
    """End of the stretch that is taken out."""
    reach: Positive = default_length(CUT_REACH)
    """Largest distance of the line from the place."""
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if (self.keep is None) == (self.to is None):
            raise ValueError("give keep (before or after), or to, the end of the stretch to take out")
        return self


CUT_LINE = Kind("cut_line", CutLine, listed=True)
CUT_DOES_NOT_FIT = rule("cut-does-not-fit", "cuts and walls whose line is not there", "error")


def cut_lines(work: Work) -> str:
    """Cut lines short, or take stretches out of them."""
    rows = work.rows
    cuts = dropped = 0
    for number, table in work.tables.numbered(CUT_LINE):
        named = [k for k, strand in enumerate(rows.strands) if fnmatchcase(strand.name, table.line) and len(strand) > 1]
        distances = [nearest_on(rows.strands[k], table.at)[1] for k in named]
        if not named or min(distances) > table.reach:
            unit = work.frame.units
            why = (
                f"the nearest line {table.line} is {min(distances):.3f} {unit} away"
                if named
                else f"no line {table.line}"
            )
            what = f"cut_line {number} was not applied: {why}; it must be within {table.reach:g} {unit}"
            fix = f"move it, or switch it off: cut_line:{number}"
            rows.findings.append(CUT_DOES_NOT_FIT.finding(table.at, what, fix=fix))
            continue
        k = named[int(np.argmin(distances))]
        strand = rows.strands[k]
        if table.to is not None:
            parts = cut_between(strand, table.at, table.to)
        else:
            parts = [cut_at(strand, table.at, table.keep or "before")]
        rows.strands[k : k + 1] = [
            replace(part, name=strand.name if not j else f"{strand.name} ({j + 1})") for j, part in enumerate(parts)
        ]
        left = np.concatenate([np.empty(0, np.int64), *(part.rows for part in parts)])
        dropped += rows.drop_vertices(np.setdiff1d(strand.rows, left), LEFT_OUT)
        cuts += 1
    return f"{counted(cuts, 'line')} cut, {counted(dropped, 'vertex', 'vertices')} left out"


STEP = step(Step("cut lines", 40, Phase.ROWS, CUT_LINE, cut_lines, group="lines cut and parted"))
