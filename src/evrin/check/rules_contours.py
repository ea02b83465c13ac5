"""Rules about contours that came in: crossings, odd levels, missing ones, and the flat ground between their loops."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule
from evrin.surface.components import triangle_parts
from evrin.surface.flat_triangles import find_flats
from evrin.tin.types import Floats, Indices
from evrin.wording import counted

_MOST = 12
_FEWEST_EDGES = 3
_OUT_OF_STEP = 1.5


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


class _Neighbours:
    """Which contours are neighbours, through how many edges of the surface, and where."""

    def __init__(self, evidence: Evidence) -> None:
        surface = evidence.surface
        self.levels = np.array(
            [_level(line.points) if line.effect == "contour" else np.nan for line in surface.lines] or [np.nan]
        )
        line_of = np.full(len(surface.vertices), -1, np.int64)
        for k in range(3):
            owner = surface.edge_lines[:, k]
            chosen = (owner >= 0) & np.isfinite(self.levels)[owner]
            line_of[surface.triangles[chosen, k]] = line_of[surface.triangles[chosen, (k + 1) % 3]] = owner[chosen]
        half = np.flatnonzero((surface.mates >= 0) & (np.arange(len(surface.mates)) < surface.mates))
        tails, heads = surface.triangles[half // 3, half % 3], surface.triangles[half // 3, (half + 1) % 3]
        one, other = line_of[tails], line_of[heads]
        between = (one >= 0) & (other >= 0) & (one != other)
        self.pairs = np.sort(np.column_stack((one, other))[between], axis=1)
        self.middles = (surface.vertices[tails[between], :2] + surface.vertices[heads[between], :2]) / 2.0

    def step(self) -> float:
        """The difference of levels that is most common among neighbours."""
        apart = np.abs(self.levels[self.pairs[:, 0]] - self.levels[self.pairs[:, 1]]).round(6)
        values, counts = np.unique(apart[apart > 0.0], return_counts=True)
        return float(values[np.argmax(counts)]) if len(values) else 0.0

    def grouped(self) -> tuple[Indices, Indices, Indices]:
        """Pairs, how many edges join each, and which pair each edge belongs to."""
        pairs, inverse, counts = np.unique(self.pairs, axis=0, return_inverse=True, return_counts=True)
        return pairs, counts, inverse.ravel()


def _level(points: Floats) -> float:
    known = points[np.isfinite(points[:, 2]), 2]
    return float(known[0]) if len(known) and (known == known[0]).all() else np.nan


ODD_CONTOUR = rule(
    "odd-contour",
    "contours whose level does not fit their neighbours, and gaps where contours seem to be missing",
    "error",
    "warning",
    fix="correct its level or leave it out by name; accept a gap where the ground drops steeply",
)


@ODD_CONTOUR.finds
def odd_contours(evidence: Evidence) -> Iterator[Finding]:
    """Find contours that fit none of their neighbours, and pairs of neighbours with a gap between their levels."""
    if sum(line.effect == "contour" for line in evidence.lines) < 3:
        return
    neighbours = _Neighbours(evidence)
    step = neighbours.step() if len(neighbours.pairs) else 0.0
    if step == 0.0:
        return
    pairs, counts, edge_pair = neighbours.grouped()
    apart = np.abs(neighbours.levels[pairs[:, 0]] - neighbours.levels[pairs[:, 1]])
    weight: dict[int, list[tuple[float, int, bool]]] = defaultdict(list)
    for (one, other), count, gap in zip(pairs.tolist(), counts.tolist(), apart.tolist(), strict=True):
        weight[one].append((float(neighbours.levels[other]), count, gap > _OUT_OF_STEP * step))
        weight[other].append((float(neighbours.levels[one]), count, gap > _OUT_OF_STEP * step))
    odd = set()
    for number, beside in sorted(weight.items()):
        out = sum(count for _, count, is_out in beside if is_out)
        levels = sorted({level for level, _, _ in beside})
        if out > 0.5 * sum(count for _, count, _ in beside) and levels[-1] - levels[0] <= 2.0 * _OUT_OF_STEP * step:
            odd.add(number)
    # Of an odd one and its neighbours only the odd one is out of step.
    odd = {k for k in odd if not any(_is_worse(j, k, weight) for j in odd if j != k)}
    for number in sorted(odd):
        yield _odd_finding(evidence, neighbours, number, [level for level, _, _ in weight[number]])
    for k in np.flatnonzero((apart > _OUT_OF_STEP * step) & (counts >= _FEWEST_EDGES)).tolist():
        one, other = pairs[k].tolist()
        if one in odd or other in odd:
            continue
        place = neighbours.middles[edge_pair == k][int(counts[k]) // 2]
        lines = [evidence.surface.lines[j] for j in (one, other)]
        missing = counted(max(round(float(apart[k]) / step) - 1, 1), "contour seems", "contours seem")
        yield ODD_CONTOUR.finding(
            (float(place[0]), float(place[1])),
            f"{missing} to be missing between {lines[0].name} at {neighbours.levels[one]:g} and {lines[1].name} at "
            f"{neighbours.levels[other]:g}, where others are {step:g} apart",
            tuple(f"{line.name}: {line.where}" for line in lines),
            severity="warning",
            fix="look for it in the source, or accept it where the ground drops steeply",
        )


def _is_worse(one: int, other: int, weight: dict[int, list[tuple[float, int, bool]]]) -> bool:
    def share(number: int) -> float:
        beside = weight[number]
        return sum(count for _, count, is_out in beside if is_out) / sum(count for _, count, _ in beside)

    return (share(one), -one) > (share(other), -other)


def _odd_finding(evidence: Evidence, neighbours: _Neighbours, number: int, levels: list[float]) -> Finding:
    line = evidence.surface.lines[number]
    place = line.points[len(line.points) // 2, :2]
    beside = " and ".join(f"{level:g}" for level in sorted(set(levels))[:4])
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
    for group in np.argsort(-areas, kind="stable")[:_MOST].tolist():
        members = parts[group]
        widest = int(members[np.argmax(surface.triangle_areas[members])])
        x, y = surface.vertices[surface.triangles[widest], :2].mean(axis=0)
        level = surface.vertices[surface.triangles[widest, 0], 2]
        several = counted(len(members), "triangle lies", "triangles lie")
        what = f"{several} flat at {level:g} between loops of one contour, {evidence.length(areas[group], 1)}² in area"
        yield FLAT_GROUND.finding((float(x), float(y)), what)
    if len(parts) > _MOST:
        left = np.sort(areas)[::-1][_MOST:].sum()
        more = counted(len(parts) - _MOST, "more area")
        what = f"{more} flat between loops of one contour, {evidence.length(left, 1)}² in all"
        yield FLAT_GROUND.finding(None, what)
