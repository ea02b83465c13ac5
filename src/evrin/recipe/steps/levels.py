"""`heights = "levels"` of a source: contours without levels get theirs from ladders."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.base.tolerances import EDIT_REACH
from evrin.base.wording import counted
from evrin.check import LISTED, Finding, rule
from evrin.recipe.building.fates import REFUSED
from evrin.recipe.building.rows import Rows
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.source import SOURCE
from evrin.survey.lines.contour_levels import Ladder, Levelled, levels_along
from evrin.survey.lines.strands import Strand

CONTOUR_WITHOUT_LEVEL = rule(
    "contour-without-level",
    "contours without a level, or with two",
    "warning",
    "error",
    fix="draw a ladder across it, or give its level with set_level",
)


LEVEL_UNMET = rule(
    "level-unmet",
    "ladders and single levels to set that meet no contour",
    "warning",
    fix="move it onto the contours, or drop it",
)


def level_contours(work: Work) -> str:
    """Give contours their levels, and refuse those that get none."""
    rows = work.rows
    done = []
    reach = EDIT_REACH.in_units(work.frame.units)
    for number, source in enumerate(work.tables.on(SOURCE)):
        if source.heights != "levels":
            continue
        contours = [k for k, strand in enumerate(rows.strands) if strand.source == number]
        strands = [rows.strands[k] for k in contours]
        ladders = [Ladder(row.along, row.start, row.step) for row in source.ladder]
        levelled = levels_along(strands, ladders, [(row.at, row.to) for row in source.set_level], reach)
        rows.findings += _about_levels(source.title, strands, levelled)
        count = _set_levels(rows, contours, levelled, number)
        done.append(f"{source.title}: {counted(count, 'contour')} of {len(contours):,} levelled")
    return "; ".join(done)


def _set_levels(rows: Rows, contours: list[int], levelled: Levelled, number: int) -> int:
    bare = [rows.strands[contours[k]].rows for k in np.flatnonzero(np.isnan(levelled.levels))]
    rows.drop_vertices(np.concatenate([np.empty(0, np.int64), *bare]), REFUSED)
    for k, level in zip(contours, levelled.levels.tolist(), strict=True):
        strand = rows.strands[k]
        xyz = np.column_stack((strand.xyz[:, :2], np.full(len(strand), level)))
        rows.strands[k] = replace(strand, xyz=xyz)
        rows.xyz[strand.rows[strand.rows >= 0], 2] = level
    has_level = {k for k, level in zip(contours, levelled.levels.tolist(), strict=True) if not np.isnan(level)}
    rows.strands = [s for k, s in enumerate(rows.strands) if s.source != number or k in has_level]
    return len(has_level)


def _about_levels(name: str, strands: list[Strand], levelled: Levelled) -> list[Finding]:
    """Report contours without a level, and those that were to have two."""
    out = [LEVEL_UNMET.finding(at, f"{what} ({name})") for at, what in levelled.unmet]
    for clash in levelled.clashes[:LISTED]:
        line = strands[clash.line]
        levels = f"level {clash.levels[1]:g} here, {clash.levels[0]:g} before"
        what = f"contour {line.name} is crossed again and would get {levels}"
        fix = "end the ladder before it turns back, or set the level with set_level"
        out.append(CONTOUR_WITHOUT_LEVEL.finding(clash.place, what, (line.where,), severity="error", fix=fix))
    bare = [strand for strand, level in zip(strands, levelled.levels.tolist(), strict=True) if np.isnan(level)]
    for strand in bare[:LISTED]:
        x, y = strand.xyz[len(strand) // 2, :2]
        what = f"no ladder crosses contour {strand.name}, so it has no level and was not used"
        out.append(CONTOUR_WITHOUT_LEVEL.finding((float(x), float(y)), what, (strand.where,)))
    if len(bare) > LISTED:
        what = f"{counted(len(bare) - LISTED, 'more contour')} of {name} without a level"
        out.append(CONTOUR_WITHOUT_LEVEL.finding(None, what, fix="draw ladders across them"))
    return out


def _is_asked(work: Work) -> bool:
    return any(source.heights == "levels" for source in work.tables.on(SOURCE))


STEP = step(Step("levels", 50, Phase.ROWS, act=level_contours, is_asked=_is_asked))
