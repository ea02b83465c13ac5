"""`weed` of a source: line vertices that the line can do without."""

from __future__ import annotations

import numpy as np

from evrin.recipe.building.fates import fate
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.source import SOURCE
from evrin.survey.lines.weeding import Weed, weeded

WEEDED = fate(20, "weeded", "off a line, which is the same without it")


def weed_lines(work: Work) -> str:
    """Weed the lines of all sources that ask for it, together."""
    rows, sources = work.rows, work.tables.on(SOURCE)
    asked = [sources[strand.source].weed if strand.source >= 0 else None for strand in rows.strands]
    how = [
        None if each is None else Weed(each.spacing or 0.0, each.deflection_deg or 0.0, each.tolerance or 0.0)
        for each in asked
    ]
    # A coded shot is a spot as well: it stays, and so do the lines joined from such.
    done = weeded(rows.strands, how)
    dropped = [np.empty(0, np.int64)]
    for k, kept in enumerate(done.kept):
        if not kept.all():
            strand = rows.strands[k]
            dropped.append(np.setdiff1d(strand.rows, strand.rows[kept]))
            rows.strands[k] = strand.take(np.flatnonzero(kept))
    rows.drop_vertices(np.concatenate(dropped), WEEDED)
    largest = float(done.strays[[k for k, each in enumerate(how) if each is not None]].max(initial=0.0))
    change = f"largest deviation {largest:.3f} {work.frame.units}"
    return f"{done.before:,} line vertices weeded to {done.after:,}, {change}"


def _is_asked(work: Work) -> bool:
    return any(source.weed for source in work.tables.on(SOURCE))


STEP = step(
    Step(
        name="weed",
        place=60,
        phase=Phase.ROWS,
        kind=None,
        act=weed_lines,
        is_asked=_is_asked,
        group="lines weeded and filled",
        keys=("weed",),
    )
)
