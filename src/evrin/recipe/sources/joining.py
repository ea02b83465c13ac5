"""Joining what the sources of a recipe hold, with every row accounted for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from evrin.base.errors import DataError
from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.kernels import Floats, Indices
from evrin.making.merged_places import TakenSurface
from evrin.recipe.building.rows import Rows, SourceCount
from evrin.recipe.sources.frame_findings import mismatched, site_units
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.sources.source_table import LINE_ROLES, Source
from evrin.surface.frame import Frame
from evrin.surface.line_edges import chains
from evrin.surface.provenance import Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.codes import CodedLine, CodeTable, coded_lines
from evrin.survey.contents import Line, Points
from evrin.survey.lines.strands import Strand
from evrin.survey.mismatch import Extent, Located

_EFFECTS = {"boundary": "keep", "hole": "cut", "water": "flat"}
CODED_RING_SHORT = rule(
    "coded-ring-short",
    "coded boundaries, holes and shores of fewer than three shots",
    "warning",
    fix="check their codes and string numbers",
)


@dataclass(frozen=True, eq=False)
class Part:
    """What one source gives: its rows and lines, both counted from its first row.

    ``same_as`` has the row that a row repeats, mostly itself.
    """

    count: SourceCount
    xyz: Floats
    shots: Shots
    is_point: bool
    strands: list[Strand]
    same_as: Indices
    opened: SourceContents
    rings: list[SourceLine] = field(default_factory=list)
    waters: list[tuple[SourceLine, float]] = field(default_factory=list)


def part_of(opened: SourceContents, source: Source, number: int, codes: CodeTable, chord: float) -> Part:
    """Return the rows and lines of one source.

    Parameters
    ----------
    opened : SourceContents
    source : Source
    number : int
        Of the source among those that are on, from 0.
    codes : CodeTable
    chord : float
        How far a curve through coded shots may be from its chords.
    """
    if source.role in LINE_ROLES:
        return _lines_part(opened, source, number)
    return _points_part(opened, source, number, codes, chord)


def joined(parts: list[Part], frame: Frame) -> Rows:
    """Number all rows, source after source.

    Raises
    ------
    DataError
        Where no source holds a usable row.
    """
    if not sum(len(part.xyz) for part in parts):
        raise DataError("no source that is on holds a usable point or line: " + _what_happened(parts))
    rows = _numbered(parts)
    rows.counts = [part.count for part in parts]
    rows.rings = [
        [ring for ring in part.rings if ring.effect == effect] for effect in ("keep", "cut") for part in parts
    ]
    rows.waters = [water for part in parts for water in part.waters]
    rows.extents = [
        Located(part.count.name, Extent.of(part.xyz), len(part.xyz), part.opened.is_stated)
        for part in parts
        if len(part.xyz)
    ]
    starts = np.cumsum([0] + [len(part.xyz) for part in parts])
    rows.taken = [
        (TakenSurface(part.count.name, part.opened.surface, 0), int(start))
        for part, start in zip(parts, starts, strict=False)
        if part.opened.surface is not None
    ]
    rows.findings += [*site_units(frame), *mismatched(rows.extents)]
    rows.findings += [finding for part in parts for finding in part.opened.findings]
    return rows


def _what_happened(parts: list[Part]) -> str:
    happened = []
    for part in parts:
        refused = part.count.refused
        why = f" (the first: {refused[0].where}: {refused[0].reason})" if refused else ""
        happened.append(f"{part.count.name}: {part.count.left_out} left out, {part.count.refused_count} refused{why}")
    return "; ".join(happened)


def _counted(opened: SourceContents, kept: int, left_out: int = 0) -> SourceCount:
    return SourceCount(
        opened.name,
        kept,
        opened.left_out + left_out,
        tuple(opened.refused),
        tuple(opened.notes),
        opened.thinned,
        opened.merged,
    )


def _points_part(opened: SourceContents, source: Source, number: int, codes: CodeTable, chord: float) -> Part:
    points: Points = opened.points
    strands: list[Strand] = []
    rings: list[SourceLine] = []
    waters: list[tuple[SourceLine, float]] = []
    stays = np.ones(len(points), np.bool_)
    if source.role == "points":
        stays, coded = coded_lines(points, codes, chord)
        kept = np.append(np.cumsum(stays) - 1, -1)
        for each in coded:
            where = points.shots.take(each.rows).span()
            means = each.rule.means
            if means != "line" and len(each.xyz) > 2:
                ring = SourceLine(each.name, each.xyz, True, _EFFECTS[means], where)
                if each.rule.level is not None:
                    waters.append((ring, each.rule.level))
                else:
                    rings.append(ring)
            else:
                if means != "line":
                    opened.findings.append(_short_ring(each))
                strands.append(Strand(each.name, each.xyz, kept[each.own_row], each.closed, where, "breakline", number))
    if opened.surface is not None:
        strands += _lines_of_surface(opened.surface, number)
    left = int((~stays).sum())
    points = points if left == 0 else points.take(stays)
    count = _counted(opened, len(points), left)
    return Part(count, points.xyz, points.shots, True, strands, np.arange(len(points)), opened, rings, waters)


def _short_ring(line: CodedLine) -> Finding:
    what = f"{line.name} means {line.rule.means}, and {counted(len(line.rows), 'shot')} enclose no area"
    x, y = line.xyz[0, :2].tolist()
    return CODED_RING_SHORT.finding((x, y), what, (line.name,))


def _lines_of_surface(surface: Surface, number: int) -> list[Strand]:
    """Return the breaklines of a surface that is kept unchanged, as far as they run along its edges."""
    lines = [line for line in surface.lines if not line.is_ring]
    strands = []
    for line, parts in zip(lines, chains(surface, lines), strict=True):
        for chain in parts:
            closed = len(chain) > 3 and chain[0] == chain[-1]
            rows = chain[:-1] if closed else chain
            effect = line.effect if line.effect in ("contour", "flat") else "breakline"
            xyz = surface.vertices[rows]
            strands.append(Strand(line.name, xyz, rows, closed, line.where, effect, number, line.description))
    return strands


def _lines_part(opened: SourceContents, source: Source, number: int) -> Part:
    effect = "contour" if source.role == "contours" else "breakline"
    strands: list[Strand] = []
    same_as: list[Indices] = [np.empty(0, np.int64)]
    first = 0
    for line in opened.lines:
        same_as.append(first + np.arange(line.drawn) % len(line.xyz))
        rows = np.arange(first, first + len(line.xyz))
        described = str(line.facts.get("description") or line.facts.get("about") or "")
        where = line.shots.span()
        strands.append(Strand(line.name, line.xyz, rows, line.closed, where, effect, number, described))
        first += line.drawn
    xyz, shots = _drawn_rows(opened.lines)
    return Part(_counted(opened, len(xyz)), xyz, shots, False, strands, np.concatenate(same_as), opened)


def _drawn_rows(lines: Sequence[Line]) -> tuple[Floats, Shots]:
    drawn = [np.arange(line.drawn) % len(line.xyz) for line in lines]
    xyz = [line.xyz[rows] for line, rows in zip(lines, drawn, strict=True)]
    shots = [line.shots.take(rows) for line, rows in zip(lines, drawn, strict=True)]
    return np.concatenate([np.empty((0, 3)), *xyz]), Shots.joined(shots)


def _numbered(parts: list[Part]) -> Rows:
    """Number all rows, source after source."""
    starts = np.cumsum([0] + [len(part.xyz) for part in parts])
    counts = np.diff(starts)
    strands = []
    for part, start in zip(parts, starts.tolist(), strict=False):
        strands += [replace(s, rows=np.where(s.rows >= 0, start + s.rows, -1)) for s in part.strands]
    return Rows(
        np.concatenate([part.xyz for part in parts]),
        Shots.joined([part.shots for part in parts]),
        np.repeat([part.is_point for part in parts], counts),
        np.repeat([part.opened.surface is not None for part in parts], counts),
        np.concatenate([start + part.same_as for part, start in zip(parts, starts, strict=False)]),
        strands,
    )
