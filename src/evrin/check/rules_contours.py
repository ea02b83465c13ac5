"""Rules about contours that came in: crossings, odd levels, missing ones, and the flat ground between their loops."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.base.wording import counted
from evrin.check.contour_neighbours import ContourNeighbours
from evrin.check.evidence import LISTED, Evidence, Finding
from evrin.check.rule_registry import rule
from evrin.surface.components import triangle_parts
from evrin.survey.doubts.level_triangles import find_flats

CROSSING_CONTOURS = rule(
    "crossing-contours",
    "contours that cross themselves or another",
    "error",
    fix="draw one of them again, or cut it short: [[cut_line]]",
)


@CROSSING_CONTOURS.finds
def crossing_contours(evidence: Evidence) -> Iterator[Finding]:
    """Find crossings between contours, which no ground has."""
    for crossing in evidence.crossings:
        first, second = (evidence.lines[number] for number in crossing.lines)
        if first.effect == second.effect == "contour":
            what = f"{first.name} crosses itself" if first is second else f"{first.name} crosses {second.name}"
            yield CROSSING_CONTOURS.finding(
                crossing.place,
                f"contour {what}, at heights {crossing.heights[0]:.3f} and {crossing.heights[1]:.3f}",
                tuple(dict.fromkeys(f"{line.name}: {line.where}" for line in (first, second))),
            )


ODD_CONTOUR = rule(
    "odd-contour",
    "contours whose level does not fit their neighbours, and gaps where contours seem to be missing",
    "error",
    "warning",
    fix="correct its level or leave it out by name; accept a gap where the ground drops steeply",
)


@ODD_CONTOUR.finds
def odd_contours(evidence: Evidence) -> Iterator[Finding]:
    """Find contours that fit none of their neighbours, and gaps wider than those around; see `ContourNeighbours`."""
    if sum(line.effect == "contour" for line in evidence.lines) < 3:
        return
    neighbours = ContourNeighbours(evidence.surface)
    odd = neighbours.odd_ones()
    for number in odd:
        yield _odd_finding(evidence, neighbours, number)
    between, step = neighbours.off_interval()
    for number in (each for each in between if each not in odd):
        line = evidence.surface.lines[number]
        x, y = line.points[len(line.points) // 2, :2].tolist()
        yield ODD_CONTOUR.finding(
            (x, y),
            f"contour {line.name} is at {neighbours.levels[number]:g}, alone between the levels of all others, which "
            f"are {step:g} apart",
            (f"{line.name}: {line.where}",),
            severity="warning",
            fix="correct its level, or accept it if it is a supplementary contour",
        )
    for gap in neighbours.wide_gaps():
        one, other = gap.between
        if one in odd or other in odd:
            continue
        lines = [evidence.surface.lines[j] for j in (one, other)]
        apart = abs(float(neighbours.levels[one] - neighbours.levels[other]))
        missing = counted(max(round(apart / gap.step) - 1, 1), "contour seems", "contours seem")
        yield ODD_CONTOUR.finding(
            gap.place,
            f"{missing} to be missing between {lines[0].name} at {neighbours.levels[one]:g} and {lines[1].name} at "
            f"{neighbours.levels[other]:g}, where others around are {gap.step:g} apart",
            tuple(f"{line.name}: {line.where}" for line in lines),
            severity="warning",
            fix="look for it in the source, or accept it where the ground drops steeply",
        )


def _odd_finding(evidence: Evidence, neighbours: ContourNeighbours, number: int) -> Finding:
    line = evidence.surface.lines[number]
    place = line.points[len(line.points) // 2, :2]
    beside = " and ".join(f"{level:g}" for level in neighbours.levels_beside(number)[:4])
    return ODD_CONTOUR.finding(
        (float(place[0]), float(place[1])),
        f"contour {line.name} at {neighbours.levels[number]:g} does not fit its neighbours, which are at {beside}",
        (f"{line.name}: {line.where}",),
        fix="correct its level, or leave it out by name",
    )


FLAT_GROUND = rule(
    "flat-ground",
    "triangles all of whose corners lie on one contour",
    "note",
    fix='[flat_triangles] fix = "points"; or add spot heights there',
)


@FLAT_GROUND.finds
def flat_ground(evidence: Evidence) -> Iterator[Finding]:
    """Find flat areas on summits, ridges and in valleys that contours alone leave, the largest first."""
    surface = evidence.surface
    flats = find_flats(surface)
    if not len(flats):
        return
    parts = triangle_parts(surface, flats)
    areas = np.array([surface.triangle_areas[part].sum() for part in parts])
    for group in np.argsort(-areas, kind="stable")[:LISTED].tolist():
        members = parts[group]
        widest = int(members[np.argmax(surface.triangle_areas[members])])
        x, y = surface.vertices[surface.triangles[widest], :2].mean(axis=0)
        level = surface.vertices[surface.triangles[widest, 0], 2]
        several = counted(len(members), "triangle lies", "triangles lie")
        what = f"{several} flat at {level:g} between loops of one contour, {evidence.length(areas[group], 1)}² in area"
        yield FLAT_GROUND.finding((float(x), float(y)), what)
    if len(parts) > LISTED:
        left = np.sort(areas)[::-1][LISTED:].sum()
        more = counted(len(parts) - LISTED, "more area")
        what = f"{more} flat between loops of one contour, {evidence.length(left, 1)}² in all"
        yield FLAT_GROUND.finding(None, what)
