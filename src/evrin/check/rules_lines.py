"""Rules about lines, boundaries and edits."""

from __future__ import annotations

from collections.abc import Iterator

from evrin.check import fixes
from evrin.check.evidence import Evidence, Finding
from evrin.check.rule_registry import rule
from evrin.making.limits.cleaned_rings import self_crossing

_USED = {
    "mean": "the mean is used",
    "first": "the height of the line that comes first in the recipe is used",
    "higher": "the higher is used",
    "lower": "the lower is used",
}


CROSSING_BREAKLINES = rule(
    "crossing-breaklines",
    "breaklines that cross at different heights",
    "warning",
    fix="correct or switch off the wrong line, or accept it where one passes above the other",
)


@CROSSING_BREAKLINES.finds
def crossing_breaklines(evidence: Evidence) -> Iterator[Finding]:
    """Find crossings where the two lines do not agree on the height."""
    for crossing in evidence.crossings:
        apart = abs(crossing.heights[0] - crossing.heights[1])
        if not apart > evidence.height_tolerance:
            continue
        lines = [evidence.lines[number] for number in crossing.lines]
        if all(line.effect == "contour" for line in lines):
            continue
        first, second = (line.name for line in lines)
        yield CROSSING_BREAKLINES.finding(
            crossing.place,
            f"{first} at {crossing.heights[0]:.3f} crosses {second} at {crossing.heights[1]:.3f}, "
            f"{evidence.length(apart)} apart; {_USED[evidence.crossing_policy]}",
            tuple(f"{line.name}: {line.where}" for line in lines),
        )


LINE_OFF_SHOT = rule(
    "line-off-shot",
    "breaklines that pass a shot at another height",
    "warning",
    fix="make it a vertex of the line, or leave the wrong one out",
)


@LINE_OFF_SHOT.finds
def lines_off_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find vertices that lie on a line without being of it, where line and vertex do not agree on the height."""
    for miss in evidence.misses:
        along, there = miss.heights
        if abs(along - there) > evidence.height_tolerance:
            line = evidence.surface.lines[miss.line]
            yield LINE_OFF_SHOT.finding(
                miss.place,
                f"{line.name} passes at {along:.3f} over a shot or vertex at {there:.3f}, whose height is used",
                (f"{line.name}: {line.where}",),
                snippet=fixes.edit(
                    "set", f"{line.name} passes here at this height", at=miss.place, height=float(along)
                ),
            )


LONE_LINE_SHOT = rule(
    "lone-line-shot",
    "lines of a single shot, or without length",
    "warning",
    fix="check its code and string number",
)


@LONE_LINE_SHOT.finds
def lone_line_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find lines that join nothing, as after a mistyped string number."""
    for line in evidence.lines:
        if len(line.points) > 1 and (line.points[1:, :2] == line.points[0, :2]).all():
            x, y = line.points[0, :2]
            what = f"line {line.name} has {len(line.points)} vertices at one place, so it joins nothing"
            yield LONE_LINE_SHOT.finding((float(x), float(y)), what, (line.where,), fix="check its places")
        if len(line.points) == 1:
            x, y = line.points[0, :2]
            yield LONE_LINE_SHOT.finding(
                (float(x), float(y)), f"line {line.name} has one shot only, so it joins nothing", (line.where,)
            )


SELF_CROSSING_BOUNDARY = rule(
    "self-crossing-boundary",
    "boundaries that cross themselves",
    "error",
    fix="draw the ring again",
)


@SELF_CROSSING_BOUNDARY.finds
def self_crossing_boundaries(evidence: Evidence) -> Iterator[Finding]:
    """Find rings whose inside is in doubt."""
    for ring in evidence.rings:
        crossings = self_crossing(ring.points)
        if crossings is not None:
            side, place = crossings
            yield SELF_CROSSING_BOUNDARY.finding(
                place,
                f"boundary {ring.name} crosses itself on its side from vertex {side + 1}; inside is in doubt there",
                (ring.name,),
                fix="draw the ring again so that its sides meet at vertices only",
            )


OPEN_BOUNDARY = rule(
    "open-boundary",
    "boundaries that do not end at their first vertex",
    "warning",
    fix="repeat its first vertex at the end",
)


@OPEN_BOUNDARY.finds
def open_boundaries(evidence: Evidence) -> Iterator[Finding]:
    """Find rings that had to be closed."""
    for gap in evidence.gaps:
        yield OPEN_BOUNDARY.finding(
            gap.place,
            f"boundary {gap.name} ends {evidence.length(gap.gap)} from its first vertex; it was closed straight",
            (gap.name,),
        )


EDIT_DOES_NOT_FIT = rule(
    "edit-does-not-fit",
    "edits that no longer fit the surface",
    "error",
    fix="move it, or switch it off",
)


@EDIT_DOES_NOT_FIT.finds
def unfit_edits(evidence: Evidence) -> Iterator[Finding]:
    """Report each edit that could not be applied."""
    for unfit in evidence.unfit:
        yield EDIT_DOES_NOT_FIT.finding(
            unfit.place,
            f"edit {unfit.number} ({unfit.what}) was not applied: {unfit.reason}",
            fix=f"move it, or switch it off: evrin edit RECIPE off edit:{unfit.number}",
        )
