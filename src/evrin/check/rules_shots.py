"""Rules about shots: unlike heights, things on the floor, spikes, strays, rows that could not be read."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from evrin.check import mends
from evrin.check.evidence import Evidence, Finding, Severity
from evrin.check.registry import rule
from evrin.surface import Surface
from evrin.surface.busts import find_busts
from evrin.surface.parts import on_lines
from evrin.surface.triangulate import UnlikeHeights
from evrin.survey.inventory import is_on_floor
from evrin.tin.types import Flags
from evrin.wording import counted

_STANDS = {
    "mean": "their mean stands",
    "first": "the first stands",
    "last": "the last stands",
    "lowest": "the lowest stands",
    "highest": "the highest stands",
}
_NAMES = 6
_CLOSE, _MOST_CLOSE = 0.02, 12


@rule("unlike-heights", "shots at one place whose heights differ", "warning", "leave out the wrong one, or accept it")
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
            _first_stands(evidence, unlike),
        )


def _at(surface: Surface, vertex: int) -> tuple[float, float]:
    return float(surface.vertices[vertex, 0]), float(surface.vertices[vertex, 1])


def _without(surface: Surface, vertex: int, why: str) -> str:
    """Leave out the shot that a vertex came from, or delete a vertex that came from none."""
    origin = surface.provenance
    row = int(origin.shot_of[vertex]) if origin is not None else -1
    if origin is None or row < 0:
        return mends.edit("delete", why, at=_at(surface, vertex))
    return mends.leave_out(origin.shots, row, why)


def _first_stands(evidence: Evidence, unlike: UnlikeHeights) -> str:
    """All but the first shot left out."""
    first = evidence.shots.describe(int(unlike.rows[0]))
    why = f"{first} stands; leave that one out instead if it is wrong"
    return "\n\n".join(mends.leave_out(evidence.shots, row, why) for row in unlike.rows[1:].tolist())


def _is_no_spot(surface: Surface) -> Flags:
    """Tell which vertices are on a line, or were made, as on a boundary."""
    out = on_lines(surface)
    if surface.provenance is not None:
        out |= surface.provenance.shot_of < 0
    return out


@rule(
    "close-shots",
    "shots within 2 cm of each other, at a place shot twice",
    "warning",
    "merge them: [duplicates] within = 0.02, or leave the wrong one out",
)
def close_shots(evidence: Evidence) -> Iterator[Finding]:
    """Find neighbours that are all but at one place and on no line; a note where their heights agree."""
    surface = evidence.surface
    # The nearest neighbour of a vertex is joined to it, so looking along edges finds every pair, once from each side.
    half = np.flatnonzero(surface.side_lengths.ravel() < _CLOSE)
    half = half[surface.mates[half] < half]
    edges = np.column_stack((surface.triangles[half // 3, half % 3], surface.triangles[half // 3, (half + 1) % 3]))
    edges = edges[~_is_no_spot(surface)[edges].any(axis=1)] if len(half) else edges
    steps = surface.vertices[edges[:, 1]] - surface.vertices[edges[:, 0]]
    apart = np.hypot(steps[:, 0], steps[:, 1])
    close = np.lexsort((apart, -np.abs(steps[:, 2])))
    mend = "merge them: [duplicates] within = 0.02, or leave the wrong one out"
    for e in close[:_MOST_CLOSE].tolist():
        off = float(abs(steps[e, 2]))
        severity: Severity = "warning" if off > evidence.height_tolerance else "note"
        what = f"two shots {apart[e]:.3f} from each other, {off:.3f} apart in height"
        snippet = _without(surface, int(edges[e, 1]), what) if severity == "warning" else ""
        shots = evidence.named(edges[e].astype(np.int64))
        yield Finding("close-shots", severity, _at(surface, int(edges[e, 0])), what, shots, mend, snippet)
    if len(close) > _MOST_CLOSE:
        more = f"{counted(len(close) - _MOST_CLOSE, 'more pair')} of shots within {_CLOSE:g} of each other"
        yield Finding("close-shots", "note", None, more, (), mend)


@rule(
    "on-the-floor",
    "shots at or near height zero, far below all the rest",
    "error",
    'leave it out: [busts] leave_out = ["floor"]',
)
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
            mends.leave_out(evidence.shots, row, "its height was never set"),
        )


@rule(
    "height-spike",
    "shots that stand out from the ground round them",
    "error",
    'compare with the field book; leave it out: [busts] leave_out = ["spikes"]',
)
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
            _at(surface, vertex),
            f"height {surface.vertices[vertex, 2]:.3f} is {abs(away):.3f} {side} the ground round it",
            evidence.named([vertex]),
            "compare with the field book; leave it out by number if it is a bust, or all such: [busts] leave_out = "
            '["spikes"]',
            _without(surface, vertex, f"{abs(away):.3f} {side} the ground round it"),
        )


@rule("far-off-site", "shots far away from all the rest", "warning", "leave control out by code")
def far_off_site(evidence: Evidence) -> Iterator[Finding]:
    """Find shots, such as control, that lie beyond three times the extent of the middle nine tenths of the shots."""
    if evidence.box is None:
        return
    xy, (low, high) = evidence.xyz[:, :2], evidence.box
    far = (xy[:, 0] < low[0]) | (xy[:, 0] > high[0]) | (xy[:, 1] < low[1]) | (xy[:, 1] > high[1])
    for row in np.flatnonzero(far & evidence.is_open_row()).tolist():
        away = float(np.hypot(*(xy[row] - (low + high) / 2.0)))
        yield Finding(
            "far-off-site",
            "warning" if evidence.vertex_of[row] >= 0 else "note",
            evidence.place(row),
            f"{away:,.0f} from the middle of the site",
            (evidence.shots.describe(row),),
            'leave control out by code: leave_out = { codes = ["…"] }',
            mends.leave_out(evidence.shots, row, "far off the site"),
        )


@rule(
    "outside-boundary",
    "shots beyond the survey limit or inside what is cut out",
    "note",
    "widen the boundary if they belong to the ground",
)
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


@rule(
    "refused-rows",
    "rows and other items of the source files that could not be used",
    "warning",
    "correct a copy of the file, or accept the loss",
)
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
