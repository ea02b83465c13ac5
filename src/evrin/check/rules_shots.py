"""Rules about shots: unlike heights, things on the floor, spikes, strays, rows that could not be read."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule
from evrin.surface.busts import find_busts
from evrin.survey.inventory import is_on_floor
from evrin.wording import counted

_STANDS = {
    "mean": "their mean stands",
    "first": "the first stands",
    "last": "the last stands",
    "lowest": "the lowest stands",
    "highest": "the highest stands",
}
_NAMES = 6


@rule("unlike-heights", "shots at one place whose heights differ")
def unlike_heights(evidence: Evidence) -> Iterator[Finding]:
    """Find places that were shot more than once with different results."""
    for unlike in evidence.unlike:
        apart = float(unlike.heights.max() - unlike.heights.min())
        heights = ", ".join(f"{z:.3f}" for z in unlike.heights)
        yield Finding(
            "unlike-heights",
            "warning" if apart > evidence.height_tolerance else "note",
            evidence.place(int(unlike.rows[0])),
            f"{len(unlike.rows)} heights at one place, {apart:.3f} apart ({heights}); "
            f"{_STANDS[evidence.duplicate_policy]}",
            tuple(evidence.shots.describe(int(row)) for row in unlike.rows[:_NAMES]),
            'leave out the wrong one by number: leave_out = { numbers = ["…"] }',
        )


@rule("on-the-floor", "shots at or near height zero, far below all the rest")
def on_the_floor(evidence: Evidence) -> Iterator[Finding]:
    """Find shots whose height was never set."""
    for row in np.flatnonzero(is_on_floor(evidence.xyz[:, 2]) & evidence.is_open_row()).tolist():
        name = evidence.shots.numbers[row]
        yield Finding(
            "on-the-floor",
            "error",
            evidence.place(row),
            f"height {evidence.xyz[row, 2]:.3f}, while the rest of the site lies far above it",
            (evidence.shots.describe(row),),
            f'leave it out: leave_out = {{ numbers = ["{name}"] }}' if name else "leave it out",
        )


@rule("height-spike", "shots that stand out from the ground round them")
def height_spikes(evidence: Evidence) -> Iterator[Finding]:
    """Find vertices far above or below the ground round them, walls and heaps apart; see `surface.busts.find_busts`."""
    surface = evidence.surface
    found = find_busts(surface)
    told_already = is_on_floor(surface.vertices[:, 2])
    if evidence.box is not None:
        told_already |= ((surface.vertices[:, :2] < evidence.box[0]) | (surface.vertices[:, :2] > evidence.box[1])).any(
            1
        )
    for vertex, away in zip(found.vertices.tolist(), found.heights.tolist(), strict=True):
        if told_already[vertex]:
            continue
        side = "above" if away > 0.0 else "below"
        yield Finding(
            "height-spike",
            "error",
            (float(surface.vertices[vertex, 0]), float(surface.vertices[vertex, 1])),
            f"height {surface.vertices[vertex, 2]:.3f} is {abs(away):.3f} {side} the ground round it",
            evidence.named([vertex]),
            "compare with the field book; leave it out by number if it is a bust, or all such: [busts] leave_out = "
            '["spikes"]',
        )


@rule("far-off-site", "shots far away from all the rest")
def far_off_site(evidence: Evidence) -> Iterator[Finding]:
    """Find shots, such as control, that lie beyond three times the extent of the middle nine tenths of the shots."""
    if evidence.box is None:
        return
    xy, (low, high) = evidence.xyz[:, :2], evidence.box
    far = ((xy < low) | (xy > high)).any(axis=1)
    for row in np.flatnonzero(far & evidence.is_open_row()).tolist():
        away = float(np.hypot(*(xy[row] - (low + high) / 2.0)))
        yield Finding(
            "far-off-site",
            "warning" if evidence.vertex_of[row] >= 0 else "note",
            evidence.place(row),
            f"{away:,.0f} from the middle of the site",
            (evidence.shots.describe(row),),
            'leave control out by code: leave_out = { codes = ["…"] }',
        )


@rule("outside-boundary", "shots beyond the survey limit or inside what is cut out")
def outside_boundary(evidence: Evidence) -> Iterator[Finding]:
    """Tell, file by file, which shots the boundaries leave out."""
    outside = np.flatnonzero(evidence.is_outside & evidence.is_open_row())
    files = evidence.shots.file_of[outside]
    for file in np.unique(files).tolist():
        rows = outside[files == file].tolist()
        yield Finding(
            "outside-boundary",
            "note",
            evidence.place(rows[0]),
            f"{counted(len(rows), 'shot lies', 'shots lie')} outside the boundary ({evidence.shots.files[file]})",
            tuple(evidence.shots.describe(row) for row in rows[:_NAMES]),
            "widen the boundary if they belong to the ground",
        )


@rule("refused-rows", "rows and other items of the source files that could not be used")
def refused_rows(evidence: Evidence) -> Iterator[Finding]:
    """Tell which rows could not be used, a finding a file."""
    by_file = defaultdict(list)
    for refusal in evidence.refused:
        by_file[refusal.file].append(refusal)
    for file, refusals in by_file.items():
        told = "; ".join(f"{r.where}: {r.reason}" for r in refusals[:3])
        count = sum(refusal.count for refusal in refusals)
        more = f"; and {len(refusals) - 3:,} more" if len(refusals) > 3 else ""
        yield Finding(
            "refused-rows",
            "warning",
            None,
            f"{counted(count, 'item')} of {file} could not be used: {told}{more}",
            mend="correct a copy of the file, or accept the loss",
        )
