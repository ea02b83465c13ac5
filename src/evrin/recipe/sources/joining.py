"""Joining what the sources of a recipe hold, with every row accounted for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

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
from evrin.survey.codes import CodedLine, CodeTable, bare_code, coded_lines
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


def rows_of(opened: SourceContents, source: Source, number: int, codes: CodeTable, chord: float) -> Rows:
    """Return the rows and lines of one source, numbered from its first row.

    Parameters
    ----------
    opened : SourceContents
        What the source gives.
    source : Source
        Its table.
    number : int
        Its place among the sources that are on, from 0.
    codes : CodeTable
        What codes mean.
    chord : float
        How far a curve through coded shots may be from its chords.
    """
    if source.role in LINE_ROLES:
        return _line_rows(opened, source, number)
    return _point_rows(opened, source, number, codes, chord)


def joined(sources: list[Rows], frame: Frame) -> Rows:
    """Return the rows of all sources, numbered source after source.

    Raises
    ------
    DataError
        If no source holds a usable row.
    """
    starts = np.cumsum([0, *(len(each.xyz) for each in sources)]).tolist()
    if not starts[-1]:
        raise DataError("no source that is on holds a usable point or line: " + _what_happened(sources))
    numbered = list(zip(sources, starts, strict=False))
    rows = Rows(
        xyz=np.concatenate([each.xyz for each in sources]),
        shots=Shots.joined([each.shots for each in sources]),
        is_point=np.concatenate([each.is_point for each in sources]),
        is_taken=np.concatenate([each.is_taken for each in sources]),
        replaced_by=np.concatenate([start + each.replaced_by for each, start in numbered]),
        strands=[
            replace(strand, rows=np.where(strand.rows >= 0, start + strand.rows, -1))
            for each, start in numbered
            for strand in each.strands
        ],
        counts=[count for each in sources for count in each.counts],
        # Those that cut come last, so that what they cut stays cut.
        rings=[
            [ring for ring in group if ring.effect == effect]
            for effect in ("keep", "cut")
            for each in sources
            for group in each.rings
        ],
        waters=[water for each in sources for water in each.waters],
        extents=[extent for each in sources for extent in each.extents],
        taken=[(surface, start + first) for each, start in numbered for surface, first in each.taken],
    )
    rows.findings += [*site_units(frame), *mismatched(rows.extents)]
    rows.findings += [finding for each in sources for finding in each.findings]
    return rows


def _what_happened(sources: list[Rows]) -> str:
    happened = []
    for count in (count for each in sources for count in each.counts):
        why = f" (the first: {count.refused[0].where}: {count.refused[0].reason})" if count.refused else ""
        happened.append(f"{count.name}: {count.left_out} left out, {count.refused_count} refused{why}")
    return "; ".join(happened)


def _counted(opened: SourceContents, kept: int, left_out: int = 0) -> SourceCount:
    return SourceCount(
        name=opened.name,
        kept=kept,
        left_out=opened.left_out + left_out,
        refused=tuple(opened.refused),
        notes=tuple(opened.notes),
        thinned=opened.thinned,
        merged=opened.merged,
    )


def _point_rows(opened: SourceContents, source: Source, number: int, codes: CodeTable, chord: float) -> Rows:
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
                strands.append(
                    Strand(
                        name=each.name,
                        xyz=each.xyz,
                        rows=kept[each.own_row],
                        closed=each.closed,
                        where=where,
                        effect="breakline",
                        source=number,
                    )
                )
    if opened.surface is not None:
        strands += _lines_of_surface(opened.surface, number)
    left = int((~stays).sum())
    points = points if left == 0 else points.take(stays)
    rows = _rows(opened, points.xyz, points.shots, strands, _counted(opened, len(points), left))
    rows.rings, rows.waters = [rings], waters
    return rows


def _rows(
    opened: SourceContents,
    xyz: Floats,
    shots: Shots,
    strands: list[Strand],
    count: SourceCount,
    *,
    are_points: bool = True,
) -> Rows:
    """Rows of one source, none of which repeats another."""
    taken = [] if opened.surface is None else [(TakenSurface(opened.name, opened.surface, 0), 0)]
    return Rows(
        xyz=xyz,
        shots=shots,
        is_point=np.full(len(xyz), are_points),
        is_taken=np.full(len(xyz), bool(taken)),
        replaced_by=np.arange(len(xyz)),
        strands=strands,
        findings=opened.findings,
        counts=[count],
        rings=[[]],
        extents=[Located(opened.name, Extent.of(xyz), len(xyz), opened.is_stated)] if len(xyz) else [],
        taken=taken,
    )


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
            strands.append(
                Strand(
                    name=line.name,
                    xyz=xyz,
                    rows=rows,
                    closed=closed,
                    where=line.where,
                    effect=effect,
                    source=number,
                    description=line.description,
                )
            )
    return strands


def _line_rows(opened: SourceContents, source: Source, number: int) -> Rows:
    effect = "contour" if source.role == "contours" else "breakline"
    strands: list[Strand] = []
    same_as: list[Indices] = [np.empty(0, np.int64)]
    first = 0
    for line in opened.lines:
        same_as.append(first + np.arange(line.drawn) % len(line.xyz))
        rows = np.arange(first, first + len(line.xyz))
        description = str(line.facts.get("description") or line.facts.get("about") or "")
        where = line.shots.span()
        strands.append(
            Strand(
                name=line.name,
                xyz=line.xyz,
                rows=rows,
                closed=line.closed,
                where=where,
                effect=effect,
                source=number,
                description=description,
                codes=_codes_of(line),
            )
        )
        first += line.drawn
    xyz, shots = _drawn_rows(opened.lines)
    drawn = _rows(opened, xyz, shots, strands, _counted(opened, len(xyz)), are_points=False)
    drawn.replaced_by = np.concatenate(same_as)
    return drawn


def _codes_of(line: Line) -> frozenset[str]:
    words = (line.name, line.facts.get("layer", ""), line.facts.get("code", ""))
    return frozenset(code for word in words if (code := bare_code(str(word)).casefold()))


def _drawn_rows(lines: Sequence[Line]) -> tuple[Floats, Shots]:
    drawn = [np.arange(line.drawn) % len(line.xyz) for line in lines]
    xyz = [line.xyz[rows] for line, rows in zip(lines, drawn, strict=True)]
    shots = [line.shots.take(rows) for line, rows in zip(lines, drawn, strict=True)]
    return np.concatenate([np.empty((0, 3)), *xyz]), Shots.joined(shots)
