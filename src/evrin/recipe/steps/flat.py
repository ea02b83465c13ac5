"""`[[flat]]`: an area held at one level, such as water, with a bed below it where one is given."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, Self

import numpy as np
import scipy
from pydantic import Field, model_validator

from evrin.base.errors import DataError
from evrin.base.tolerances import FLAT_BANK, FLAT_REACH
from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.formats.door.intake import Transformation
from evrin.kernels import Flags, Floats
from evrin.making.line_division import divided
from evrin.recipe.building.fates import OPEN, fate
from evrin.recipe.building.rows import Rows
from evrin.recipe.building.work import Work
from evrin.recipe.sources.source_table import FillLines
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import FileTable, InputFile, Kind, Number, Positive, Ring, Selecting, default_length
from evrin.surface.surface import SourceLine
from evrin.survey.contents import Line
from evrin.survey.heights import heights_in
from evrin.survey.lines.cutting import clipped_outside
from evrin.survey.lines.offsets import drawn_in
from evrin.survey.lines.shores import shore_doubts
from evrin.survey.lines.strands import Strand
from evrin.tin.query.inside_rings import is_inside_rings, ring_sides


class Flat(FileTable):
    """`[[flat]]`: an area held at one level, such as water, with a bed below it where one is given."""

    file: InputFile = ""
    """The file with its shore, from the folder of the recipe."""
    places: Ring | None = None
    """Corners of its shore, in the site's coordinates, instead of a file; its level is then needed."""
    level: Number | None = None
    """Its level."""
    attribute: str | None = None
    """Attribute of the file that holds the level, if it is not stated."""
    keep: Selecting = Selecting()
    """Which lines of the file."""
    depth: Positive | None = None
    """Depth of the bed below the level."""
    bank: Positive = default_length(FLAT_BANK)
    """Distance of the bed from the shore in plan."""
    fill: FillLines | None = None
    """More vertices along the shore."""
    reach: Annotated[Number, Field(ge=0.0)] = default_length(FLAT_REACH)
    """Shots this near the shore count as inside."""

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if self.level is not None and self.attribute is not None:
            raise ValueError("give either a level or the name of an attribute")
        if bool(self.file) == (self.places is not None):
            raise ValueError("give either a file, or places")
        if self.places is not None and self.level is None:
            raise ValueError("places need a level")
        return self

    @property
    def title(self) -> str:
        """What messages call it."""
        return self.name or self.file or "flat of places"


FLAT = Kind("flat", Flat, listed=True)
FLATTENED = fate(30, "flattened", "inside an area held at one level")


FLAT_OFF_BANKS = rule(
    "flat-off-banks",
    "areas held at a level far above or below their banks",
    "warning",
    fix="check its level and its unit; or accept it, if a wall or a dam holds it",
)
FLAT_SHORE_CLIMBS = rule(
    "flat-shore-climbs",
    "areas held at one level whose measured shore climbs",
    "warning",
    fix="a stream is not level: divide it, or use its edges as breaklines; accept it, if the level is what counts",
)
FLATS_MEET = rule(
    "flats-meet",
    "areas held at unlike levels that share a part of their shores",
    "warning",
    fix="leave a strip between them, such as the crest of the weir that holds the upper one",
)


@dataclass(frozen=True, eq=False)
class Level:
    """A ring of an area held at one level."""

    name: str
    ring: Floats
    level: float
    is_hole: bool
    measured: Floats


def lay_flats(work: Work) -> str:
    """Hold areas at their level: items inside are dropped, shores become lines."""
    rows = work.rows
    dropped = count = 0
    laid: list[Level] = []
    coded = [(Flat(file=ring.where, level=level), [_coded(ring, level)]) for ring, level in rows.waters]
    coded = [(table.with_lengths_in(work.frame.units), levels) for table, levels in coded]
    for table, levels in [*((table, _levels_of(work, table)) for table in work.tables.on(FLAT)), *coded]:
        rings = [each.ring for each in levels]
        rows.findings += _about_shores(rows, levels, rings, work.frame.units)
        laid += levels
        under = rows.is_point & (rows.fate == OPEN) & ~rows.is_taken & _in_or_near(rows.xyz, rings, table.reach)
        rows.fate[under] = FLATTENED
        rows.without(np.flatnonzero(under))
        dropped += int(under.sum()) + _clip(rows, levels)
        for each in levels:
            rows.strands += _shore_and_bed(table, each)
        count += len(levels)
    rows.findings += _about_shared_sides(laid, work.frame.units)
    return f"{counted(count, 'shore')} added, {counted(dropped, 'item')} flattened"


def _about_shores(rows: Rows, levels: list[Level], rings: list[Floats], units: str) -> list[Finding]:
    """Report areas that do not fit what was measured around them."""
    is_open = rows.fate == OPEN
    banks = np.vstack((rows.xyz[is_open], *(strand.xyz for strand in rows.strands)))
    banks = banks[~is_inside_rings(np.ascontiguousarray(banks[:, :2]), rings)]
    out = []
    for each in levels:
        for doubt in shore_doubts(each.measured, each.level, banks, units):
            at = f"{each.name}, held at {each.level:.3f}"
            if doubt.kind == "climbs":
                what = f"{at}: heights measured along its shore differ by {doubt.by:.3f} {units}"
                out.append(FLAT_SHORE_CLIMBS.finding(doubt.place, what, (each.name,)))
            else:
                what = f"{at}, is {doubt.by:.3f} {units} {doubt.kind} the ground at its banks (median)"
                out.append(FLAT_OFF_BANKS.finding(doubt.place, what, (each.name,)))
    return out


def _about_shared_sides(laid: list[Level], units: str) -> list[Finding]:
    """Report areas at two levels that share vertices."""
    if len(laid) < 2:
        return []
    places = np.concatenate([each.ring for each in laid])
    owner = np.repeat(np.arange(len(laid)), [len(each.ring) for each in laid])
    order = np.lexsort((owner, places[:, 1], places[:, 0]))
    same = np.flatnonzero((places[order[1:]] == places[order[:-1]]).all(axis=1))
    sides: dict[tuple[int, int], list[tuple[float, float]]] = {}
    for k in same.tolist():
        one, other = int(owner[order[k]]), int(owner[order[k + 1]])
        if laid[one].level != laid[other].level:
            x, y = places[order[k]].tolist()
            sides.setdefault((one, other), []).append((x, y))
    out = []
    for (one, other), shared in sides.items():
        first, second = laid[one], laid[other]
        what = (
            f"{first.name} at {first.level:.3f} and {second.name} at {second.level:.3f} share "
            f"{counted(len(shared), 'vertex', 'vertices')} of their shores, {abs(first.level - second.level):.3f} "
            f"{units} apart: there can be one height only"
        )
        out.append(FLATS_MEET.finding(shared[0], what, (first.name, second.name)))
    return out


def _coded(ring: SourceLine, level: float) -> Level:
    return Level(ring.name, np.ascontiguousarray(ring.points[:, :2]), level, False, ring.points)


def _shore_and_bed(table: Flat, each: Level) -> list[Strand]:
    shore = np.column_stack((each.ring, np.full(len(each.ring), each.level)))
    out = [_water(each.name, shore, table.file)]
    if table.depth is not None:
        inner = drawn_in(each.ring, -table.bank if each.is_hole else table.bank)
        bed = np.column_stack((inner, np.full(len(inner), each.level - table.depth)))
        out.append(_water(f"{each.name} bed", bed, table.file))
    return out


def _water(name: str, ring: Floats, file: str) -> Strand:
    return replace(Strand.made(name, ring, closed=True, where=file), effect="flat")


def _clip(rows: Rows, levels: list[Level]) -> int:
    rings = [each.ring for each in levels]
    dropped = [np.empty(0, np.int64)]
    strands: list[Strand] = []
    lows, highs = np.array([ring.min(axis=0) for ring in rings]), np.array([ring.max(axis=0) for ring in rings])
    for strand in rows.strands:
        low, high = strand.xyz[:, :2].min(axis=0, initial=np.inf), strand.xyz[:, :2].max(axis=0, initial=-np.inf)
        near = np.flatnonzero(((lows <= high) & (highs >= low)).all(axis=1))
        if len(strand) < 2 or not len(near):
            strands.append(strand)
            continue
        parts, lost = clipped_outside(strand, [rings[k] for k in near], [levels[k].level for k in near])
        strands += parts
        dropped.append(lost)
    rows.strands = strands
    return rows.drop_vertices(np.concatenate(dropped), FLATTENED)


def _levels_of(work: Work, table: Flat) -> list[Level]:
    if table.places is not None:
        ring = np.array(table.places, np.float64)
        if table.fill is not None:
            ring = divided(np.vstack((ring, ring[:1])), table.fill.spacing)[0][:-1]
        measured = np.column_stack((ring, np.full(len(ring), np.nan)))
        return [Level(table.title, ring, float(table.level or 0.0), False, measured)]
    kept, findings, door = work.lines_of(table, table.keep, "a flat", 3)
    work.rows.findings += findings
    out = []
    for line in kept:
        others = [other.xyz[:, :2] for other in kept if other is not line]
        is_hole = bool(is_inside_rings(line.xyz[:1, :2], others)[0]) if others else False
        name = table.name if table.name and len(kept) == 1 else line.name
        ring = np.ascontiguousarray(line.xyz[:, :2])
        if table.fill is not None:
            ring = divided(np.vstack((ring, ring[:1])), table.fill.spacing)[0][:-1]
        out.append(Level(name, ring, _level_of(table, line, door), is_hole, line.xyz))
    return out


def _level_of(table: Flat, line: Line, door: Transformation) -> float:
    if table.level is not None:
        return table.level
    if table.attribute is not None:
        if table.attribute not in line.facts:
            names = ", ".join(sorted(line.facts)) or "none"
            raise DataError(f"{table.file}: {line.name} has no attribute {table.attribute!r}. Known here: {names}")
        level = float(door.heights(heights_in(np.array([line.facts[table.attribute]], object)))[0])
        if np.isnan(level):
            raise DataError(
                f"{table.file}: {line.name}: {table.attribute} = {line.facts[table.attribute]!r} is not a height"
            )
        return level
    heights = np.unique(line.xyz[:, 2])
    if len(heights) != 1 or np.isnan(heights[0]):
        raise DataError(f"{table.file}: {line.name} has no single height. State its level, or the attribute with it")
    return float(heights[0])


def _in_or_near(xyz: Floats, rings: list[Floats], reach: float) -> Flags:
    inside = is_inside_rings(np.ascontiguousarray(xyz[:, :2]), rings)
    sides = ring_sides(rings)
    low = np.minimum(sides[:, :2], sides[:, 2:]).min(axis=0) - reach
    high = np.maximum(sides[:, :2], sides[:, 2:]).max(axis=0) + reach
    close = np.flatnonzero(~inside & ((xyz[:, :2] >= low) & (xyz[:, :2] <= high)).all(axis=1))
    if not len(close) or reach == 0.0:
        return inside
    tree = scipy.spatial.cKDTree(xyz[close, :2])
    for side in sides:
        leg = side[2:] - side[:2]
        half = float(np.hypot(*leg)) / 2.0
        near = np.array(tree.query_ball_point((side[:2] + side[2:]) / 2.0, half + reach), np.int64)
        offsets = xyz[close[near], :2] - side[:2]
        part = np.clip(offsets @ leg / max(float(leg @ leg), 1e-300), 0.0, 1.0)
        inside[close[near]] |= np.hypot(*(offsets - part[:, None] * leg).T) <= reach
    return inside


def _is_asked(work: Work) -> bool:
    return bool(work.rows.waters) or bool(work.tables.on(FLAT))


STEP = step(
    Step(name="flats", place=100, phase=Phase.ROWS, kind=FLAT, act=lay_flats, is_asked=_is_asked, group="flats laid")
)
