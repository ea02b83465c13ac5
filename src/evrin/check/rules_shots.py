"""Rules about shots: unlike heights, zero heights, spikes, strays, rows that could not be read."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from evrin.base.tolerances import SHOTS_CLOSE
from evrin.base.wording import counted
from evrin.check import fixes
from evrin.check.evidence import LISTED, Evidence, Finding, Severity
from evrin.check.rule_registry import rule
from evrin.kernels import Flags, Floats, Ints
from evrin.making.merged_places import UnlikeHeights
from evrin.surface.components import on_lines
from evrin.surface.provenance import ADDED_BY_HAND
from evrin.surface.surface import Surface

_USED = {
    "mean": "their mean is used",
    "first": "the first is used",
    "last": "the last is used",
    "lowest": "the lowest is used",
    "highest": "the highest is used",
}
_NAMED = 6
_FEWEST, _MOST_UNSET = 3, 50


UNLIKE_HEIGHTS = rule(
    "unlike-heights",
    "shots at one place whose heights differ",
    "warning",
    "note",
    fix="leave out the wrong one, or accept it",
)


@UNLIKE_HEIGHTS.finds
def unlike_heights(evidence: Evidence) -> Iterator[Finding]:
    """Find places that were shot more than once with different results."""
    for unlike in evidence.unlike:
        apart = float(unlike.heights.max() - unlike.heights.min())
        heights = ", ".join(f"{z:.3f}" for z in unlike.heights)
        yield UNLIKE_HEIGHTS.finding(
            evidence.place(int(unlike.rows[0])),
            f"{len(unlike.heights)} heights at one place, {evidence.length(apart)} apart ({heights}); "
            f"{_USED[evidence.duplicate_policy]}",
            tuple(evidence.shots.describe(int(row)) for row in unlike.rows[:LISTED]),
            severity="warning" if apart > evidence.height_tolerance else "note",
            fix='leave out the wrong one by number: leave_out = { numbers = ["…"] }',
            snippet=_without_the_others(evidence, unlike),
        )


def _at(surface: Surface, vertex: int) -> tuple[float, float]:
    return float(surface.vertices[vertex, 0]), float(surface.vertices[vertex, 1])


def _without(surface: Surface, vertex: int, why: str) -> str:
    """Leave out the shot that a vertex came from, or delete a vertex that came from none."""
    origin = surface.provenance
    row = int(origin.shot_of[vertex]) if origin is not None else -1
    if origin is None or row < 0:
        return fixes.edit("delete", why, at=_at(surface, vertex))
    return fixes.leave_out(origin.shots, row, why)


def _without_the_others(evidence: Evidence, unlike: UnlikeHeights) -> str:
    """Every shot left out except the first."""
    first = evidence.shots.describe(int(unlike.rows[0]))
    why = f"{first} is kept; leave that one out instead if it is wrong"
    return "\n\n".join(fixes.leave_out(evidence.shots, row, why) for row in unlike.rows[1:].tolist())


def _is_no_spot(surface: Surface) -> Flags:
    """Return which vertices are on a line, or were added, as on a boundary."""
    out = on_lines(surface)
    if surface.provenance is not None:
        out |= surface.provenance.shot_of < 0
    return out


CLOSE_SHOTS = rule(
    "close-shots",
    "shots within 2 cm of each other, at a place shot twice",
    "warning",
    "note",
    fix="merge them: [duplicates] within = 0.02, or leave the wrong one out",
)


@CLOSE_SHOTS.finds
def close_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find neighbours that are nearly at one place and on no line; a note where their heights agree."""
    surface = evidence.surface
    # The nearest neighbour of a vertex is joined to it, so looking along edges finds every pair, once from each side.
    close_by = SHOTS_CLOSE.in_units(surface.units)
    half = np.flatnonzero(surface.side_lengths.ravel() < close_by)
    half = half[surface.mates[half] < half]
    edges = np.column_stack((surface.triangles[half // 3, half % 3], surface.triangles[half // 3, (half + 1) % 3]))
    edges = edges[~_is_no_spot(surface)[edges].any(axis=1)] if len(half) else edges
    steps = surface.vertices[edges[:, 1]] - surface.vertices[edges[:, 0]]
    apart = np.hypot(steps[:, 0], steps[:, 1])
    close = np.lexsort((apart, -np.abs(steps[:, 2])))
    if len(close) > _MOST_UNSET:
        yield _close_together(evidence, edges[close], apart[close], np.abs(steps[close, 2]))
        return
    for e in close.tolist():
        off = float(abs(steps[e, 2]))
        severity: Severity = "warning" if off > evidence.height_tolerance else "note"
        what = f"two shots {evidence.length(apart[e])} apart in plan, {evidence.length(off)} in height"
        snippet = _without(surface, int(edges[e, 1]), what) if severity == "warning" else ""
        shots, fix = evidence.named(edges[e].astype(np.int64)), _merging(float(apart[e]))
        yield CLOSE_SHOTS.finding(
            _at(surface, int(edges[e, 0])), what, shots, severity=severity, fix=fix, snippet=snippet
        )


def _merging(apart: float) -> str:
    return f"merge them: [duplicates] within = {fixes.rounded_up(apart)}, or leave the wrong one out"


def _close_together(evidence: Evidence, pairs: Ints, apart: Floats, off: Floats) -> Finding:
    """A great many pairs, as of a cloud beside shots, in one finding, the most unlike first."""
    is_unlike = float(off[0]) > evidence.height_tolerance
    what = (
        f"{counted(len(pairs), 'pair')} of shots at most {evidence.length(float(apart.max()))} apart, their heights by "
        f"up to {evidence.length(float(off[0]))}"
    )
    named = evidence.named(pairs[: LISTED // 2].ravel().astype(np.int64), LISTED)
    place = _at(evidence.surface, int(pairs[0, 0]))
    # Points without numbers are those of a cloud, whose noise is no fault of any of them.
    origin = evidence.surface.provenance
    shots = origin.shot_of[pairs.ravel()] if origin is not None else np.empty(0, np.int64)
    is_cloud = origin is not None and not any(origin.shots.take(shots[shots >= 0]).numbers.tolist())
    severity: Severity = "warning" if is_unlike and not is_cloud else "note"
    return CLOSE_SHOTS.finding(place, what, named, severity=severity, fix=_merging(float(apart.max())))


ZERO_HEIGHT = rule(
    "zero-height",
    "shots at or near height zero, far from all the rest",
    "error",
    "warning",
    fix='leave it out: [busts] leave_out = ["zero"]',
)
NO_DATA_HEIGHT = rule(
    "no-data-height",
    "shots at a height that programs write where there is none, such as -9999",
    "error",
    fix='leave it out: [busts] leave_out = ["no-data"]',
)
REPEATED_HEIGHT = rule(
    "repeated-height",
    "two or more shots at one and the same height, far from all the rest",
    "warning",
    fix='leave them out: [busts] leave_out = ["repeated"]; or accept it, if it is a level deck or water',
)
_UNSET = {"zero": ZERO_HEIGHT, "no-data": NO_DATA_HEIGHT, "repeated": REPEATED_HEIGHT}


@ZERO_HEIGHT.finds
def zero_heights(evidence: Evidence) -> Iterator[Finding]:
    """Find shots whose height was left at zero."""
    yield from _unset(evidence, "zero")
    z = evidence.xyz[evidence.is_open_row(), 2]
    if len(z) >= _FEWEST and (z == 0.0).all():
        what = f"all {counted(len(z), 'height')} are exactly 0: none was set"
        fix = "take the heights from texts or an attribute (heights under the source), or accept it on a level site"
        yield ZERO_HEIGHT.finding(None, what, severity="warning", fix=fix)


@NO_DATA_HEIGHT.finds
def no_data_heights(evidence: Evidence) -> Iterator[Finding]:
    """Find shots at a value for no data."""
    return _unset(evidence, "no-data")


@REPEATED_HEIGHT.finds
def repeated_heights(evidence: Evidence) -> Iterator[Finding]:
    """Find heights that were set to one placeholder."""
    return _unset(evidence, "repeated")


def _unset(evidence: Evidence, kind: str) -> Iterator[Finding]:
    """Report each shot by itself; of a great many, or of those at one height, all together."""
    for unset in (each for each in evidence.unset if each.kind == kind):
        rows, explanation = unset.rows.tolist(), _UNSET[kind]
        if kind == "repeated" or len(rows) > _MOST_UNSET:
            several = f"{counted(len(rows), 'shot is', 'shots are')} at height {evidence.length(unset.height)}"
            share = f"{100.0 * len(rows) / int(evidence.is_open_row().sum()):.0f} % of all"
            shots = tuple(evidence.shots.describe(row) for row in rows[:LISTED])
            message = f"{several}, {share}, far from the rest"
            yield explanation.finding(evidence.place(rows[0]), message, shots)
            continue
        for row in rows:
            name = evidence.shots.numbers[row]
            yield explanation.finding(
                evidence.place(row),
                f"height {evidence.length(evidence.xyz[row, 2])}, far from all other heights of the site",
                (evidence.shots.describe(row),),
                fix=f'leave it out: leave_out = {{ numbers = ["{name}"] }}' if name else None,
                snippet=fixes.leave_out(evidence.shots, row, "its height was never set"),
            )


HEIGHT_SPIKE = rule(
    "height-spike",
    "shots far above or below the ground around them",
    "error",
    fix='compare with the field book; leave it out: [busts] leave_out = ["spikes"]',
)


@HEIGHT_SPIKE.finds
def height_spikes(evidence: Evidence) -> Iterator[Finding]:
    """Find vertices far above or below the ground around them; see `surface.busts.find_busts`."""
    surface = evidence.surface
    busts = evidence.busts
    reported = _is_made(surface)
    if evidence.box is not None:
        reported |= ((surface.vertices[:, :2] < evidence.box[0]) | (surface.vertices[:, :2] > evidence.box[1])).any(1)
    for vertex, deviation in zip(busts.vertices.tolist(), busts.heights.tolist(), strict=True):
        if reported[vertex]:
            continue
        away_text = f"{evidence.length(abs(deviation))} {'above' if deviation > 0.0 else 'below'}"
        yield HEIGHT_SPIKE.finding(
            _at(surface, vertex),
            f"height {evidence.length(surface.vertices[vertex, 2])} is {away_text} the ground around it",
            evidence.named([vertex]),
            fix="compare with the field book; leave it out by number if it is a bust, or all such: [busts] leave_out = "
            '["spikes"]',
            snippet=_without(surface, vertex, f"{away_text} the ground around it"),
        )


ROW_OF_SPOTS = rule(
    "row-of-spots",
    "four shots or more in a row that differ from the ground alike, such as the top of a wall",
    "note",
    fix="join them by a code or a line if it is a wall or a kerb; leave them out if a target height was wrong",
)


@ROW_OF_SPOTS.finds
def rows_of_spots(evidence: Evidence) -> Iterator[Finding]:
    """Report rows that were not taken for busts."""
    surface = evidence.surface
    for row in evidence.busts.rows:
        what = f"{counted(len(row), 'shot')} in a row differ from the ground alike, and are taken for a feature"
        yield ROW_OF_SPOTS.finding(_at(surface, int(row[0])), what, evidence.named(row, LISTED))


def _is_made(surface: Surface) -> Flags:
    """Return which vertices a step added: one that is wrong is reported by the step; one added by hand is a shot."""
    origin = surface.provenance
    if origin is None:
        return np.zeros(len(surface.vertices), np.bool_)
    made = origin.shot_of < 0
    made[[vertex for vertex, what in origin.made.items() if what.startswith(ADDED_BY_HAND)]] = False
    return made


FAR_OFF_SITE = rule(
    "far-off-site",
    "shots far away from all the rest",
    "warning",
    "note",
    fix="leave control out by code",
)


@FAR_OFF_SITE.finds
def far_off_site(evidence: Evidence) -> Iterator[Finding]:
    """Find shots, such as control, that lie beyond three times the extent of the middle nine tenths of the shots."""
    if evidence.box is None:
        return
    xy, (low, high) = evidence.xyz[:, :2], evidence.box
    far = (xy[:, 0] < low[0]) | (xy[:, 0] > high[0]) | (xy[:, 1] < low[1]) | (xy[:, 1] > high[1])
    for row in np.flatnonzero(far & evidence.is_open_row()).tolist():
        distance = float(np.hypot(*(xy[row] - (low + high) / 2.0)))
        yield FAR_OFF_SITE.finding(
            evidence.place(row),
            f"{evidence.length(distance, 0)} from the middle of the site",
            (evidence.shots.describe(row),),
            severity="warning" if evidence.surface_vertex_of[row] >= 0 else "note",
            fix='leave control out by code: leave_out = { codes = ["…"] }',
            snippet=fixes.leave_out(evidence.shots, row, "far off the site"),
        )


OUTSIDE_BOUNDARY = rule(
    "outside-boundary",
    "shots beyond the survey limit or inside what is cut out",
    "note",
    fix="widen the boundary if they belong to the ground",
)


@OUTSIDE_BOUNDARY.finds
def outside_boundary(evidence: Evidence) -> Iterator[Finding]:
    """Report, by file, which shots the boundaries leave out."""
    outside = np.flatnonzero(evidence.is_outside & evidence.is_open_row())
    files = evidence.shots.file_of[outside]
    for file in np.unique(files).tolist():
        rows = outside[files == file].tolist()
        yield OUTSIDE_BOUNDARY.finding(
            evidence.place(rows[0]),
            f"{counted(len(rows), 'shot lies', 'shots lie')} outside the boundary ({evidence.shots.files[file]})",
            tuple(evidence.shots.describe(row) for row in rows[:LISTED]),
        )


REPEATED_NUMBER = rule(
    "repeated-number",
    "point numbers that occur more than once in a file",
    "warning",
    fix="correct the numbers in a copy of the file; what a recipe states by number means all of them",
)


@REPEATED_NUMBER.finds
def repeated_numbers(evidence: Evidence) -> Iterator[Finding]:
    """Report point numbers that name several places, one finding for each file; most repeated, they are no numbers."""
    # As bytes once, not again for each file.
    shots = evidence.shots.with_columns()
    for file, name in enumerate(shots.files):
        rows = np.flatnonzero(shots.file_of == file)
        if not shots.has_repeated_numbers(rows):
            continue
        rows = rows[shots.numbers[rows] != ""]
        places_of: dict[str, dict[tuple[float, float], int]] = {}
        for row, number, x, y in zip(
            rows.tolist(), shots.numbers[rows].tolist(), *evidence.xyz[rows, :2].T.tolist(), strict=True
        ):
            places_of.setdefault(number, {}).setdefault((x, y), row)
        again = np.array(
            sorted(row for places in places_of.values() if len(places) > 1 for row in places.values()), int
        )
        if not len(again) or len(places_of) * 2 < sum(map(len, places_of.values())):
            continue
        numbers = list(dict.fromkeys(str(each) for each in shots.numbers[again].tolist()))
        more = f" and {len(numbers) - _NAMED:,} more" if len(numbers) > _NAMED else ""
        named = ", ".join(numbers[:_NAMED])
        several = counted(len(numbers), "point number names", "point numbers name")
        message = f"{several} several places ({name}): {named}{more}"
        shot_texts = tuple(shots.describe(row) for row in again[:LISTED].tolist())
        yield REPEATED_NUMBER.finding(evidence.place(int(again[0])), message, shot_texts)


REFUSED_ROWS = rule(
    "refused-rows",
    "rows and other items of the source files that could not be used",
    "warning",
    fix="correct a copy of the file, or accept the loss",
)


@REFUSED_ROWS.finds
def refused_rows(evidence: Evidence) -> Iterator[Finding]:
    """Report which rows could not be used, one finding for each file."""
    by_file = defaultdict(list)
    for refusal in evidence.refused:
        by_file[refusal.file].append(refusal)
    for file, refusals in by_file.items():
        reasons = "; ".join(f"{r.where}: {r.reason}" for r in refusals[:3])
        count = sum(refusal.count for refusal in refusals)
        more = f"; and {len(refusals) - 3:,} more" if len(refusals) > 3 else ""
        every = tuple(f"{r.where}: {r.reason}" for r in refusals[:LISTED]) if len(refusals) > 3 else ()
        what = f"{counted(count, 'item')} of {file} could not be used: {reasons}{more}"
        yield REFUSED_ROWS.finding(None, what, every)
