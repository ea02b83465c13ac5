"""`heights = "shots"` of a source: lines take their heights from the shots they pass, and run through them."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import scipy

from evrin.base.errors import DataError
from evrin.base.tolerances import METRES, SHOT_REACH, ZIGZAG, ZIGZAG_LEG
from evrin.base.wording import counted
from evrin.check import LISTED, Finding, rule
from evrin.check.fixes import rounded_up
from evrin.kernels import Floats, Indices
from evrin.recipe.building.rows import Rows
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.source import SOURCE
from evrin.survey.codes import bare_code
from evrin.survey.lines.line_heights import heights_from_shots
from evrin.survey.lines.shots_of_lines import PlanLine, ShotsOfLines, shots_of_lines
from evrin.survey.lines.zigzags import zigzag

_TELL_APART = "give lines and shots the same codes, or choose the shots of each line by keep in sources of their own"
SHARED_SHOTS = rule(
    "shots-of-two-lines",
    "several shots through which two lines pass that are apart",
    "warning",
    fix=_TELL_APART,
)
SHOTS_BESIDE = rule(
    "shots-beside-line",
    "shots near a line that takes its heights from shots, which do not fit the heights of the nearer ones",
    "note",
    fix="state the reach of the source, as in reach = 0.1, if they belong to the line",
)
ZIGZAG_LINE = rule(
    "zigzag-line",
    "lines whose heights, taken from shots, rise and fall by turns like those of two edges",
    "warning",
    fix=f"state a smaller reach for the source, or {_TELL_APART}",
)


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
    shots, codes = rows.xyz[points], _codes(rows, points)
    tree = scipy.spatial.cKDTree(shots[:, :2])
    units = work.frame.units
    lines = [_plan_line(work, k) for k in strands]
    reach = SHOT_REACH.in_units(units)
    own = shots_of_lines(lines, shots, codes, reach=reach, metre=1.0 / METRES[units], tree=tree)
    for k, line, rows_of, offsets in zip(strands, lines, own.of_line, own.offsets, strict=True):
        # What is within reach of a line drawn through its shots to the millimetre must not be lost to rounding.
        within = 1.001 * (line.reach or reach)
        _fit(rows, k, points[rows_of], within)
        _report_zigzag(rows, k, dict(zip(points[rows_of].tolist(), offsets.tolist(), strict=True)), units)
    rows.findings += _about_shots(rows, strands, points, own, units)
    return f"{counted(len(strands), 'line')} fitted to the shots along them{_how_near(own, units)}"


def _codes(rows: Rows, points: Indices) -> list[str]:
    bare = cache(lambda text: bare_code(str(text)).casefold())
    return [bare(text) for text in rows.shots.take(points).codes.tolist()]


def _plan_line(work: Work, number: int) -> PlanLine:
    strand = work.rows.strands[number]
    source = work.tables.on(SOURCE)[strand.source]
    return PlanLine(strand.xyz[:, :2], strand.closed, strand.codes, strand.source, source.reach)


def _fit(rows: Rows, number: int, shot_rows: Indices, reach: float) -> None:
    strand = rows.strands[number]
    fitted = heights_from_shots(strand.xyz, strand.closed, rows.xyz[shot_rows], reach)
    own = np.where(fitted.drawn_as >= 0, strand.rows[fitted.drawn_as], -1)
    own[fitted.shot_of >= 0] = shot_rows[fitted.shot_of[fitted.shot_of >= 0]]
    rows.strands[number] = replace(strand, xyz=fitted.xyz, rows=own)
    # The heights they had are those of no ground.
    drawn = np.flatnonzero((fitted.drawn_as >= 0) & (own >= 0))
    rows.xyz[own[drawn], 2] = fitted.xyz[drawn, 2]
    moved = np.flatnonzero((fitted.replaced_by >= 0) & (strand.rows >= 0))
    replaced_by = shot_rows[fitted.replaced_by[moved]]
    rows.replaced_by[strand.rows[moved]] = replaced_by
    rows.xyz[strand.rows[moved], 2] = rows.xyz[replaced_by, 2]


def _report_zigzag(rows: Rows, number: int, offset_of: dict[int, float], units: str) -> None:
    strand = rows.strands[number]
    at = [k for k, row in enumerate(strand.rows.tolist()) if row in offset_of]
    through: list[int] = strand.rows[at].tolist()
    offsets = np.array([offset_of[row] for row in through])
    codes = [bare_code(str(code)).casefold() for code in rows.shots.take(np.array(through, np.int64)).codes]
    first = zigzag(strand.xyz[at], offsets, codes, least=ZIGZAG.in_units(units), leg=ZIGZAG_LEG.in_units(units))
    if first is None:
        return
    some = through[first : first + 4]
    heights = ", ".join(f"{rows.xyz[row, 2]:.3f}" for row in some)
    what = f"the heights of {strand.name} rise and fall by turns ({heights} …): its shots are those of two edges"
    rows.findings.append(ZIGZAG_LINE.finding(_place(rows.xyz[some[0]]), what, tuple(map(rows.shots.describe, some))))


def _about_shots(rows: Rows, strands: list[int], points: Indices, own: ShotsOfLines, units: str) -> list[Finding]:
    out = []
    pairs: dict[tuple[int, int], list[int]] = {}
    for shot, one, other in own.shared:
        pairs.setdefault((one, other), []).append(int(points[shot]))
    for (one, other), both in sorted(pairs.items()):
        names = " and ".join(rows.strands[strands[k]].name for k in (one, other))
        what = f"{names} both pass through {counted(len(both), 'shot')}: neither is clearly nearer to them"
        who = tuple(map(rows.shots.describe, both[:LISTED]))
        out.append(SHARED_SHOTS.finding(_place(rows.xyz[both[0]]), what, who))
    by_line: dict[int, list[tuple[int, float, float]]] = {}
    for shot, line, distance, off in own.beside:
        by_line.setdefault(line, []).append((int(points[shot]), distance, off))
    for line, shots in sorted(by_line.items()):
        farthest = max(abs(off) for _, _, off in shots)
        reach = rounded_up(max(distance for _, distance, _ in shots))
        what = (
            f"{counted(len(shots), 'shot')} near {rows.strands[strands[line]].name} "
            f"{'is' if len(shots) == 1 else 'are'} up to {farthest:.3f} {units} off its heights, and left beside it"
        )
        who = tuple(rows.shots.describe(row) for row, _, _ in shots[:LISTED])
        fix = f"state reach = {reach} for the source, if they belong to the line; accept it if they are of another edge"
        out.append(SHOTS_BESIDE.finding(_place(rows.xyz[shots[0][0]]), what, who, fix=fix))
    return out


def _how_near(own: ShotsOfLines, units: str) -> str:
    farthest = max(own.farthest.values(), default=0.0)
    if farthest <= 0.0:
        return ""
    accuracy = max(own.accuracy.values())
    return f"; shots up to {farthest:.3f} {units} from a line taken, by both of two lines within {accuracy:.3f} {units}"


def _place(xyz: Floats) -> tuple[float, float]:
    return float(xyz[0]), float(xyz[1])


def _is_asked(work: Work) -> bool:
    return any(source.heights == "shots" for source in work.tables.on(SOURCE))


STEP = step(Step("heights from shots", 70, Phase.ROWS, act=take_heights, is_asked=_is_asked))
