"""Rules about lines, boundaries and edits."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule
from evrin.tin.predicates import orientation
from evrin.tin.types import Floats, kernel


@rule("crossing-breaklines", "breaklines that cross at different heights")
def crossing_breaklines(evidence: Evidence) -> Iterator[Finding]:
    """Find crossings where the two lines do not agree on the height."""
    for crossing in evidence.crossings:
        apart = abs(crossing.heights[0] - crossing.heights[1])
        if not apart > evidence.height_tolerance:
            continue
        lines = [evidence.lines[number] for number in crossing.lines]
        first, second = (line.name for line in lines)
        yield Finding(
            "crossing-breaklines",
            "warning",
            crossing.place,
            f"{first} at {crossing.heights[0]:.3f} crosses {second} at {crossing.heights[1]:.3f}, {apart:.3f} apart; "
            "the mean stands",
            tuple(f"{line.name}: {line.where}" for line in lines),
            "correct or switch off the wrong line, or accept it where one passes above the other",
        )


@rule("lone-line-shot", "lines of a single shot")
def lone_line_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find lines that join nothing, as after a mistyped string number."""
    for line in evidence.lines:
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


@kernel
def _first_self_crossing(ring: Floats) -> int:
    """The first side of a closed ring that crosses a later one, or -1."""
    n = ring.shape[0]
    for i in range(n):
        ax, ay = ring[i, 0], ring[i, 1]
        bx, by = ring[(i + 1) % n, 0], ring[(i + 1) % n, 1]
        for j in range(i + 2, n):
            if i == 0 and j == n - 1:
                continue
            cx, cy = ring[j, 0], ring[j, 1]
            dx, dy = ring[(j + 1) % n, 0], ring[(j + 1) % n, 1]
            if max(ax, bx) < min(cx, dx) or max(cx, dx) < min(ax, bx):
                continue
            c_side, d_side = orientation(ax, ay, bx, by, cx, cy), orientation(ax, ay, bx, by, dx, dy)
            a_side, b_side = orientation(cx, cy, dx, dy, ax, ay), orientation(cx, cy, dx, dy, bx, by)
            if (c_side > 0.0) != (d_side > 0.0) and (a_side > 0.0) != (b_side > 0.0):
                return i
    return -1


@rule("self-crossing-boundary", "boundaries that cross themselves")
def self_crossing_boundaries(evidence: Evidence) -> Iterator[Finding]:
    """Find rings whose inside is in doubt."""
    for ring in evidence.rings:
        side = _first_self_crossing(np.ascontiguousarray(ring.points[:, :2]))
        if side >= 0:
            x, y = ring.points[side, :2]
            yield Finding(
                "self-crossing-boundary",
                "error",
                (float(x), float(y)),
                f"boundary {ring.name} crosses itself on its side from vertex {side + 1}; inside alternates there",
                (ring.name,),
                "draw the ring again so that its sides meet at vertices only",
            )


@rule("open-boundary", "boundaries that do not end where they began")
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


@rule("edit-does-not-fit", "edits that no longer fit the surface")
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
