"""`heights = "shots"` of a source: lines take their heights from the shots they pass, and run through them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy

from evrin.base.errors import DataError
from evrin.base.tolerances import SHOT_REACH
from evrin.base.wording import counted
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.source import SOURCE
from evrin.survey.lines.line_heights import heights_from_shots


def take_heights(work: Work) -> str:
    """Fit lines to the shots they pass."""
    rows, sources = work.rows, work.tables.on(SOURCE)
    strands = [
        k for k, strand in enumerate(rows.strands) if strand.source >= 0 and sources[strand.source].heights == "shots"
    ]
    points = np.flatnonzero(rows.is_point)
    if strands and not len(points):
        file = sources[rows.strands[strands[0]].source].file
        raise DataError(f'{file}: heights = "shots", and no source of points is on. Switch one on')
    shots = rows.xyz[points]
    tree = scipy.spatial.cKDTree(shots[:, :2])
    reach = SHOT_REACH.in_units(work.frame.units)
    for k in strands:
        strand = rows.strands[k]
        fitted = heights_from_shots(strand.xyz, strand.closed, shots, sources[strand.source].reach or reach, tree)
        own = np.where(fitted.drawn_as >= 0, strand.rows[fitted.drawn_as], -1)
        own = np.where(fitted.shot_of >= 0, points[fitted.shot_of], own)
        rows.strands[k] = replace(strand, xyz=fitted.xyz, rows=own)
        # The heights they had are those of no ground.
        drawn = np.flatnonzero((fitted.drawn_as >= 0) & (own >= 0))
        rows.xyz[own[drawn], 2] = fitted.xyz[drawn, 2]
        moved = np.flatnonzero((fitted.replaced_by >= 0) & (strand.rows >= 0))
        rows.replaced_by[strand.rows[moved]] = points[fitted.replaced_by[moved]]
        rows.xyz[strand.rows[moved], 2] = rows.xyz[points[fitted.replaced_by[moved]], 2]
    return f"{counted(len(strands), 'line')} fitted to the shots along them"


def _is_asked(work: Work) -> bool:
    return any(source.heights == "shots" for source in work.tables.on(SOURCE))


STEP = step(Step("heights from shots", 70, Phase.ROWS, act=take_heights, is_asked=_is_asked))
