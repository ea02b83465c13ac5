"""Rules about lines, boundaries and edits."""

from __future__ import annotations

from collections.abc import Iterator

from evrin.check import mends
from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule
from evrin.surface.rings import self_crossing

_STANDS = {
    "mean": "the mean stands",
    "first": "the height of the one that comes first in the recipe stands",
    "higher": "the higher stands",
    "lower": "the lower stands",
}


@rule(
    "crossing-breaklines",
    "breaklines that cross at different heights",
    "warning",
    "correct or switch off the wrong line, or accept it where one passes above the other",
)
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
        yield Finding(
            "crossing-breaklines",
            "warning",
            crossing.place,
            f"{first} at {crossing.heights[0]:.3f} crosses {second} at {crossing.heights[1]:.3f}, {apart:.3f} apart; "
            f"{_STANDS[evidence.crossing_policy]}",
            tuple(f"{line.name}: {line.where}" for line in lines),
            "correct or switch off the wrong line, or accept it where one passes above the other",
        )


@rule(
    "line-off-shot",
    "breaklines that pass a shot at another height",
    "warning",
    "make it a vertex of the line, or leave the wrong one out",
)
def lines_off_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find vertices that lie on a line without being of it, where line and vertex do not agree on the height."""
    for miss in evidence.misses:
        along, there = miss.heights
        if abs(along - there) > evidence.height_tolerance:
            line = evidence.surface.lines[miss.line]
            yield Finding(
                "line-off-shot",
                "warning",
                miss.place,
                f"{line.name} passes at {along:.3f} over a shot or vertex at {there:.3f}; the latter stands",
                (f"{line.name}: {line.where}",),
                "make it a vertex of the line, or leave the wrong one out",
                mends.edit("set", f"{line.name} passes here at this height", at=miss.place, height=float(along)),
            )


@rule("lone-line-shot", "lines of a single shot, or without length", "warning", "check its code and string number")
def lone_line_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find lines that join nothing, as after a mistyped string number."""
    for line in evidence.lines:
        if len(line.points) > 1 and (line.points[1:, :2] == line.points[0, :2]).all():
            x, y = line.points[0, :2]
            what = f"line {line.name} has {len(line.points)} vertices at one place, so it joins nothing"
            yield Finding("lone-line-shot", "warning", (float(x), float(y)), what, (line.where,), "check its places")
        if len(line.points) == 1:
            x, y = line.points[0, :2]
            yield Finding(
                "lone-line-shot",
                "warning",
                (float(x), float(y)),
                f"line {line.name} has one shot only, so it joins nothing",
                (line.where,),
                "check its code and string number",
            )


@rule("self-crossing-boundary", "boundaries that cross themselves", "error", "draw the ring again")
def self_crossing_boundaries(evidence: Evidence) -> Iterator[Finding]:
    """Find rings whose inside is in doubt."""
    for ring in evidence.rings:
        found = self_crossing(ring.points)
        if found is not None:
            side, place = found
            yield Finding(
                "self-crossing-boundary",
                "error",
                place,
                f"boundary {ring.name} crosses itself on its side from vertex {side + 1}; inside alternates there",
                (ring.name,),
                "draw the ring again so that its sides meet at vertices only",
            )


@rule("open-boundary", "boundaries that do not end where they began", "warning", "repeat its first vertex at the end")
def open_boundaries(evidence: Evidence) -> Iterator[Finding]:
    """Find rings that had to be closed."""
    for gap in evidence.gaps:
        yield Finding(
            "open-boundary",
            "warning",
            gap.place,
            f"boundary {gap.name} ends {gap.gap:.3f} short of where it began; it was closed straight across",
            (gap.name,),
            "repeat its first vertex at the end",
        )


@rule("edit-does-not-fit", "edits that no longer fit the surface", "error", "move it, or switch it off")
def unfit_edits(evidence: Evidence) -> Iterator[Finding]:
    """Tell each edit that could not be applied."""
    for unfit in evidence.unfit:
        yield Finding(
            "edit-does-not-fit",
            "error",
            unfit.place,
            f"edit {unfit.number} ({unfit.what}) was not applied: {unfit.reason}",
            mend=f"move it, or switch it off: evrin edit RECIPE off edit:{unfit.number}",
        )
