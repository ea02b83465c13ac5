"""`[[wall]]`: lines one above the other, the top moved a little to the side of the high ground."""

from __future__ import annotations

from dataclasses import replace
from fnmatch import fnmatchcase
from typing import Literal

import numpy as np

from evrin.base.tolerances import WALL_OFFSET
from evrin.base.wording import counted
from evrin.recipe.building.rows import Rows
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.cut_line import CUT_DOES_NOT_FIT
from evrin.recipe.tables import Kind, Number, Positive, Table, default_length
from evrin.survey.lines.offsets import moved_left
from evrin.survey.lines.strands import Strand


class Wall(Table):
    """`[[wall]]`: lines one above the other, the top moved a little to the side of the high ground."""

    line: str
    """Name of the line; `*` matches anything."""
    high_side: Literal["left", "right"]
    """Where the high ground is, in the direction of the line."""
    rise: Number | None = None
    """Height of the wall, where the line is its foot; a line without it is the top."""
    offset: Positive = default_length(WALL_OFFSET)
    """Distance between foot and top in plan."""
    why: str = ""
    on: bool = True


WALL = Kind("wall", Wall, listed=True)


def part_walls(work: Work) -> str:
    """Move the tops of walls to the side of the high ground, or add them above their feet."""
    rows = work.rows
    parted = 0
    for number, table in work.tables.numbered(WALL):
        named = [k for k, strand in enumerate(rows.strands) if fnmatchcase(strand.name, table.line) and len(strand) > 1]
        if not named:
            what = f"wall {number} was not applied: no line {table.line}"
            fix = f"correct its name, or switch it off: wall:{number}"
            rows.findings.append(CUT_DOES_NOT_FIT.finding(None, what, fix=fix))
        distance = table.offset if table.high_side == "left" else -table.offset
        for k in named:
            strand = rows.strands[k]
            moved = moved_left(strand.xyz, distance, closed=strand.closed)
            top = np.column_stack((moved, strand.xyz[:, 2] + (table.rise or 0.0)))
            if table.rise is None:
                rows.strands[k] = replace(strand, xyz=top)
                rows.xyz[strand.rows[strand.rows >= 0]] = top[strand.rows >= 0]
            else:
                rows.strands.append(Strand.made(f"{strand.name} top", top, closed=strand.closed, where=strand.where))
            parted += 1
        if table.rise is None:
            _follow(rows)
    return f"{counted(parted, 'wall')} parted into top and foot"


def _follow(rows: Rows) -> None:
    """Move every line to where the shots that it joins have moved."""
    for k, strand in enumerate(rows.strands):
        own = strand.rows >= 0
        if own.any() and not np.array_equal(strand.xyz[own], rows.xyz[strand.rows[own]], equal_nan=True):
            xyz = strand.xyz.copy()
            xyz[own] = np.where(np.isnan(xyz[own]), np.nan, rows.xyz[strand.rows[own]])
            rows.strands[k] = replace(strand, xyz=xyz)


STEP = step(Step("walls", 90, Phase.ROWS, WALL, part_walls, group="lines cut and parted"))
