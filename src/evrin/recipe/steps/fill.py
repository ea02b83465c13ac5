"""`fill` of a source: further vertices in its lines, none farther apart than asked."""

from __future__ import annotations

from evrin.base.wording import counted
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.source import SOURCE
from evrin.survey.lines.filling import filled


def fill_lines(work: Work) -> str:
    """Add vertices to the lines of all sources that ask for it."""
    rows, sources = work.rows, work.tables.on(SOURCE)
    before = sum(len(strand) for strand in rows.strands)
    for k, strand in enumerate(rows.strands):
        fill = sources[strand.source].fill if strand.source >= 0 else None
        if fill is not None and len(strand) > 1:
            rows.strands[k] = filled(strand, fill.spacing)
    added = sum(len(strand) for strand in rows.strands) - before
    return f"{counted(added, 'vertex', 'vertices')} added to lines"


def _is_asked(work: Work) -> bool:
    return any(source.fill for source in work.tables.on(SOURCE))


STEP = step(
    Step(
        name="fill",
        place=80,
        phase=Phase.ROWS,
        kind=None,
        act=fill_lines,
        is_asked=_is_asked,
        group="lines weeded and filled",
        keys=("fill",),
    )
)
