"""What a recipe does to shots before they are triangulated: flats, near-duplicates, height busts."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import scipy

from evrin.errors import DataError, GeometryError
from evrin.formats import read_rings
from evrin.recipe import remarks
from evrin.recipe.opening import selection_of
from evrin.recipe.rows import Fate, Rows
from evrin.recipe.schema import Duplicates, Flat, LeaveBusts, LeaveOut
from evrin.surface import SourceLine
from evrin.surface.busts import find_busts
from evrin.surface.legs import divided
from evrin.surface.triangulate import Triangulation
from evrin.survey import Line
from evrin.survey.cutting import clipped_outside
from evrin.survey.duplicates import stands_for
from evrin.survey.heights import heights_in
from evrin.survey.inventory import is_on_floor
from evrin.survey.offsets import drawn_in
from evrin.survey.strands import Strand
from evrin.tin.rings import is_inside_rings, ring_sides
from evrin.tin.types import Flags, Floats, Indices
from evrin.wording import counted


@dataclass(frozen=True, eq=False)
class Level:
    """A ring of an area held at one level."""

    name: str
    ring: Floats
    level: float
    is_hole: bool


def lay_flats(rows: Rows, folder: Path, tables: tuple[Flat, ...]) -> None:
    """Hold areas at their level: what lies in them goes, and their shores become lines."""
    gone = count = 0
    for table in tables:
        if not table.on:
            continue
        levels = _levels_of(folder, table)
        rings = [each.ring for each in levels]
        under = rows.is_point & (rows.fate == Fate.OPEN) & ~rows.is_taken & _in_or_near(rows.xyz, rings, table.reach)
        rows.fate[under] = Fate.FLATTENED
        rows.without(np.flatnonzero(under))
        gone += int(under.sum()) + _clip(rows, rings, levels[0].level)
        for each in levels:
            shore = np.column_stack((each.ring, np.full(len(each.ring), each.level)))
            rows.strands.append(_water(each.name, shore, table.file))
            if table.depth is not None:
                inner = drawn_in(each.ring, -table.bank if each.is_hole else table.bank)
                bed = np.column_stack((inner, np.full(len(inner), each.level - table.depth)))
                rows.strands.append(_water(f"{each.name} bed", bed, table.file))
        count += len(levels)
    if count:
        rows.did.append(f"{counted(count, 'shore')} laid, {counted(gone, 'item')} flattened")


def _water(name: str, ring: Floats, file: str) -> Strand:
    return replace(Strand.made(name, ring, closed=True, where=file), effect="flat")


def _clip(rows: Rows, rings: list[Floats], level: float) -> int:
    gone = [np.empty(0, np.int64)]
    strands: list[Strand] = []
    lows, highs = np.array([ring.min(axis=0) for ring in rings]), np.array([ring.max(axis=0) for ring in rings])
    for strand in rows.strands:
        low, high = strand.xyz[:, :2].min(axis=0, initial=np.inf), strand.xyz[:, :2].max(axis=0, initial=-np.inf)
        near = np.flatnonzero(((lows <= high) & (highs >= low)).all(axis=1))
        if len(strand) < 2 or not len(near):
            strands.append(strand)
            continue
        parts, lost = clipped_outside(strand, [rings[k] for k in near], level)
        strands += parts
        gone.append(lost)
    rows.strands = strands
    return rows.drop_vertices(np.concatenate(gone), Fate.FLATTENED)


def _levels_of(folder: Path, table: Flat) -> list[Level]:
    lines = read_rings(folder / table.file, table.columns)
    chosen = selection_of(folder, table.keep).all_met(list(lines))
    kept = [line for line, is_meant in zip(lines, chosen, strict=True) if is_meant]
    if not kept:
        raise DataError(f"{folder / table.file}: no line is left of which a flat could be made")
    out = []
    for line in kept:
        if len(line.xyz) < 3:
            raise DataError(f"{folder / table.file}: {line.name} has {len(line.xyz)} vertices; a flat needs 3")
        others = [other.xyz[:, :2] for other in kept if other is not line]
        is_hole = bool(is_inside_rings(line.xyz[:1, :2], others)[0]) if others else False
        name = table.name if table.name and len(kept) == 1 else line.name
        ring = np.ascontiguousarray(line.xyz[:, :2])
        if table.fill is not None:
            ring = divided(np.vstack((ring, ring[:1])), table.fill.spacing)[0][:-1]
        out.append(Level(name, ring, _level_of(table, line), is_hole))
    return out


def _level_of(table: Flat, line: Line) -> float:
    if table.level is not None:
        return table.level
    if table.attribute is not None:
        if table.attribute not in line.facts:
            known = ", ".join(sorted(line.facts)) or "none"
            raise DataError(f"{table.file}: {line.name} has no attribute {table.attribute!r}; known here: {known}")
        level = float(heights_in(np.array([line.facts[table.attribute]], object))[0])
        if np.isnan(level):
            raise DataError(f"{table.file}: {line.name}: {table.attribute} is no height")
        return level
    heights = np.unique(line.xyz[:, 2])
    if len(heights) != 1 or np.isnan(heights[0]):
        raise DataError(f"{table.file}: {line.name} lies at no single height; say its level, or the attribute with it")
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
        found = np.array(tree.query_ball_point((side[:2] + side[2:]) / 2.0, half + reach), np.int64)
        away = xyz[close[found], :2] - side[:2]
        part = np.clip(away @ leg / max(float(leg @ leg), 1e-300), 0.0, 1.0)
        inside[close[found]] |= np.hypot(*(away - part[:, None] * leg).T) <= reach
    return inside


def merge_near(rows: Rows, table: Duplicates) -> None:
    """Let points give way to others close by."""
    if not table.on or table.policy == "refuse" or table.within == 0.0:
        return
    chosen = np.flatnonzero(rows.is_point & (rows.fate == Fate.OPEN))
    vertices = np.flatnonzero(~rows.is_point & (rows.fate == Fate.OPEN) & rows.on_lines())
    every = np.concatenate((chosen, vertices))
    firm = (rows.on_lines() | rows.is_taken)[every]
    # Shots at the very same place are settled later, under the same policy.
    stands = stands_for(rows.xyz[every], table.within, table.policy, firm)
    moved = np.flatnonzero(stands != np.arange(len(every)))
    keeper, gone = every[stands[moved]], every[moved]
    apart = np.abs(rows.xyz[keeper, 2] - rows.xyz[gone, 2])
    same = (rows.xyz[keeper, :2] == rows.xyz[gone, :2]).all(axis=1)
    keeper, gone, apart = keeper[~same], gone[~same], apart[~same]
    rows.findings += remarks.about_near(rows.xyz, rows.shots, keeper, gone, apart, table)
    if table.policy == "mean":
        _take_means(rows, keeper, gone)
    rows.stands_for[gone] = keeper
    rows.did.append(f"{counted(len(gone), 'point')} within {table.within:g} of another merged")


def _take_means(rows: Rows, keeper: Indices, gone: Indices) -> None:
    """Give each point that stays the mean height of those it stands for; a vertex of a line keeps its own."""
    lone = ~rows.on_lines()[keeper] & ~rows.is_taken[keeper]
    total = np.zeros(len(rows.xyz))
    count = np.zeros(len(rows.xyz))
    np.add.at(total, keeper[lone], rows.xyz[gone[lone], 2])
    np.add.at(count, keeper[lone], 1.0)
    at = np.unique(keeper[lone])
    rows.xyz[at, 2] = (rows.xyz[at, 2] + total[at]) / (count[at] + 1.0)


def leave_shots(rows: Rows, tables: tuple[LeaveOut, ...]) -> None:
    """Leave out single shots by number or by line; tell of those that are not there."""
    gone = 0
    for number, table in enumerate(tables, 1):
        if not table.on:
            continue
        in_file = np.ones(len(rows.xyz), np.bool_)
        if table.file:
            wanted = Path(table.file).name
            named = np.array([Path(file).name == wanted for file in rows.shots.files] or [False], np.bool_)
            in_file = named[rows.shots.file_of]
        held = rows.shots.numbers.astype(str) if table.numbers else rows.shots.line_of.astype(str)
        asked = [str(each) for each in (table.numbers or table.lines)]
        found = np.flatnonzero(in_file & np.isin(held, asked) & ~rows.is_taken)
        missing = sorted(set(asked) - set(held[found].tolist()))
        if missing:
            rows.findings.append(remarks.leave_out_unmet(number, table.file, missing))
        _leave(rows, found)
        gone += len(found)
    if any(table.on for table in tables):
        rows.did.append(f"{counted(gone, 'shot')} left out by name")


def leave_busts(rows: Rows, table: LeaveBusts | None) -> None:
    """Leave out what lies on the floor, and spikes and pits."""
    if table is None or not table.on:
        return
    left: dict[str, Indices] = {}
    if "floor" in table.leave_out:
        chosen = np.flatnonzero((rows.fate == Fate.OPEN) & ~rows.is_taken)
        floor = chosen[is_on_floor(rows.xyz[chosen, 2])]
        left["on the floor"] = floor
        _leave(rows, floor)
    if "spikes" in table.leave_out:
        spikes = _spikes(rows, table)
        left["standing out from the ground round them"] = spikes
        _leave(rows, spikes)
    told = [f"{counted(len(found), 'shot')} {what}" for what, found in left.items()]
    rows.findings += remarks.about_busts(rows.xyz, rows.shots, left)
    rows.did.append("left out: " + ", ".join(told))


def _leave(rows: Rows, chosen: Indices) -> None:
    rows.fate[chosen] = Fate.LEFT_OUT
    rows.without(chosen)


def _spikes(rows: Rows, table: LeaveBusts) -> Indices:
    active = np.flatnonzero(rows.is_active())
    lines = [SourceLine(strand.name, strand.xyz, strand.closed) for strand in rows.strands if len(strand) > 1]
    try:
        work = Triangulation(rows.xyz[active], lines)
        surface, reading = work.surface()
    except GeometryError:
        return np.empty(0, np.int64)
    busts = find_busts(surface, table.scales, table.least)
    is_bust = np.zeros(work.mesh.vertex_count + 1, np.bool_)
    is_bust[reading.vertices[busts.vertices]] = True
    own = [np.empty(0, np.int64), *(strand.rows for strand in rows.strands if len(strand) > 1)]
    every = np.concatenate((active, *own))
    found = every[is_bust[work.vertex_of] & (work.vertex_of >= 0)]
    found = np.unique(found[found >= 0])
    spikes: Indices = found[~rows.is_taken[found]]
    return spikes
