"""`[[along]]`: triangles that run across an alignment."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from evrin.base.wording import counted
from evrin.check import rule
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import FileTable, Kind, Number, Positive, Selecting


class AlongTable(FileTable):
    """`[[along]]`: triangles that run across an alignment."""

    within: Positive
    """Distance from the alignment, on either side."""
    stretch: Annotated[Number, Field(gt=1.0)] = 4.0
    """How many times lengths along the alignment count."""
    keep: Selecting = Selecting()
    """Which lines of the file."""


ALONG = Kind("along", AlongTable, listed=True)
ALONG_NO_EFFECT = rule(
    "along-no-effect", "alignments along which no edge was flipped", "note", fix="widen within, or switch it off"
)


def flip_along(work: Work) -> str:
    """Flip edges near alignments to run across them."""
    flipped = 0
    for number, table in work.tables.numbered(ALONG):
        here = 0
        lines, findings, _ = work.lines_of(table, table.keep, "an alignment", 2)
        work.shaped.findings += findings
        for line in lines:
            here += work.shaped.triangulation.turn_along(np.ascontiguousarray(line.xyz), table.within, table.stretch)
        if not here:
            what = f"along {number} ({table.file}) flipped no edge: none within reach was free"
            work.shaped.findings.append(ALONG_NO_EFFECT.finding(None, what))
        flipped += here
    return f"{counted(flipped, 'edge')} flipped to run across the alignment"


STEP = step(Step("along", 150, Phase.MESH, ALONG, flip_along, group="flipped across alignments"))
