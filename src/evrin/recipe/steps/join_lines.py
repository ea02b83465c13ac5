"""`join` of a source: pieces of lines are joined end to end, and levels pass along them."""

from __future__ import annotations

import numpy as np

from evrin.base.wording import counted
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.source import SOURCE
from evrin.survey.lines.end_to_end import joined_end_to_end


def join_lines(work: Work) -> str:
    """Join the pieces of each source that asks for it."""
    rows = work.rows
    done = []
    for number, source in enumerate(work.tables.on(SOURCE)):
        if source.join is None:
            continue
        pieces = [strand for strand in rows.strands if strand.source == number]
        lines = joined_end_to_end(pieces, source.join)
        for line in lines:
            # A level that came along the line is that of its rows, too.
            own = np.flatnonzero(line.rows >= 0)
            rows.xyz[line.rows[own], 2] = line.xyz[own, 2]
        first = next((k for k, strand in enumerate(rows.strands) if strand.source == number), 0)
        others = [(k, strand) for k, strand in enumerate(rows.strands) if strand.source != number]
        before = [strand for k, strand in others if k < first]
        rows.strands = [*before, *lines, *(strand for k, strand in others if k >= first)]
        done.append(f"{source.title}: {counted(len(pieces), 'piece')} joined to {counted(len(lines), 'line')}")
    return "; ".join(done)


def _is_asked(work: Work) -> bool:
    return any(source.join is not None for source in work.tables.on(SOURCE))


STEP = step(
    Step(
        "lines joined", 45, Phase.ROWS, act=join_lines, is_asked=_is_asked, group="lines cut and parted", keys=("join",)
    )
)
