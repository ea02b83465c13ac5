"""`[[leave_out]]`: single shots to leave out, by number or by their line in a file."""

from __future__ import annotations

from pathlib import Path
from typing import Self

import numpy as np
from pydantic import model_validator

from evrin.base.wording import counted
from evrin.check import rule
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Table


class LeaveOut(Table):
    """`[[leave_out]]`: single shots to leave out, by number or by their line in a file."""

    file: str = ""
    """Only shots of this file."""
    numbers: tuple[str, ...] = ()
    """Point numbers."""
    lines: tuple[int, ...] = ()
    """Lines of the file, from 1."""
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _states_which(self) -> Self:
        if bool(self.numbers) == bool(self.lines):
            raise ValueError("give either the numbers of the shots, or their lines in a file")
        if self.lines and not self.file:
            raise ValueError("lines are numbers of lines in a file; name the file")
        return self


LEAVE_OUT = Kind("leave_out", LeaveOut, listed=True)
LEAVE_OUT_UNMET = rule(
    "leave-out-unmet", "single shots to leave out that are not there", "warning", fix="correct its number, or drop it"
)


def leave_shots(work: Work) -> str:
    """Leave out single shots; report those that are not there."""
    rows = work.rows
    count = 0
    for number, table in work.tables.numbered(LEAVE_OUT):
        in_file = np.ones(len(rows.xyz), np.bool_)
        if table.file:
            wanted = Path(table.file).name
            named = np.array([Path(file).name == wanted for file in rows.shots.files] or [False], np.bool_)
            in_file = named[rows.shots.file_of]
        held = rows.shots.numbers.astype(str) if table.numbers else rows.shots.line_of.astype(str)
        asked = [str(each) for each in (table.numbers or table.lines)]
        shot_rows = np.flatnonzero(in_file & np.isin(held, asked) & ~rows.is_taken)
        missing = sorted(set(asked) - set(held[shot_rows].tolist()))
        if missing:
            where = f" in {table.file}" if table.file else ""
            what = f"leave_out {number}: no shot {', '.join(missing)}{where} that could be left out"
            rows.findings.append(LEAVE_OUT_UNMET.finding(None, what))
        rows.leave(shot_rows)
        count += len(shot_rows)
    return f"{counted(count, 'shot')} left out by name"


STEP = step(Step("leave out", 30, Phase.ROWS, LEAVE_OUT, leave_shots, group="single shots left out"))
