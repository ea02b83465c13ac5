"""Joining what a recipe's sources hold, with every row accounted for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import tomlkit
from numpy.typing import NDArray
from pydantic import ValidationError
from tomlkit.exceptions import TOMLKitError

from evrin.check import Finding
from evrin.errors import DataError, MissingPackageError, RecipeError
from evrin.formats.files import read_text
from evrin.formats.reference import units_of
from evrin.recipe import remarks
from evrin.recipe.faults import faults_of
from evrin.recipe.opened import Opened
from evrin.recipe.opening import open_source
from evrin.recipe.schema import LINE_ROLES, CodeBook, FieldCodes, Site, Source, Tables
from evrin.surface import Shots, SourceLine
from evrin.surface.triangulate import TakenSurface
from evrin.survey import CodeRule, CodeTable, Line, Points, Refusal, coded_lines, heights_from_shots
from evrin.survey.mismatch import Extent, mismatches
from evrin.tin.types import Floats

Rows = NDArray[np.int64]
_REACH = 0.1


@dataclass(frozen=True)
class SourceCount:
    """How many items of a source were kept and what became of the others, and what its reader guessed."""

    name: str
    kept: int
    left_out: int
    refused: tuple[Refusal, ...]
    notes: tuple[str, ...] = ()
    thinned: int = 0
    merged: int = 0

    @property
    def refused_count(self) -> int:
        """Items that could not be used."""
        return sum(refusal.count for refusal in self.refused)

    @property
    def read(self) -> int:
        """Items read, whatever became of them."""
        return self.kept + self.left_out + self.thinned + self.merged + self.refused_count


@dataclass(frozen=True, eq=False)
class Gathered:
    """All rows to triangulate.

    Attributes
    ----------
    xyz : (n, 3) float64
    shots : Shots
        Rows kept, source after source.
    sources : list of SourceCount
    lines : list of SourceLine
        Breaklines, with their vertices as coordinates.
    point_rows : (p,) int64
        Rows that are points.
    triangulated_row, counted_row : int64
        From a kept row to its row in a triangulation of the points and lines, and back, -1 where a line's vertex is a
        shot counted already.
    taken : list of TakenSurface
        Surfaces to be taken as they are.
    rings : list of SourceLine
        Boundaries joined from coded shots.
    findings : list of Finding
        What came up on the way.
    """

    xyz: Floats
    shots: Shots
    sources: list[SourceCount]
    lines: list[SourceLine]
    point_rows: Rows
    triangulated_row: Rows
    counted_row: Rows
    taken: list[TakenSurface] = field(default_factory=list)
    rings: list[SourceLine] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    @property
    def count(self) -> int:
        """Items read, whatever became of them."""
        return sum(source.read for source in self.sources)


@dataclass(frozen=True, eq=False)
class _CountedLine:
    """A line whose vertices stand for rows: of this part, or of the points of all sources; -1 where for none."""

    name: str
    xyz: Floats
    closed: bool
    own_row: Rows
    where: str


@dataclass(frozen=True, eq=False)
class _Part:
    """What one source gives: its rows and lines.

    ``gave_way_to`` has the shot that a row gave way to, or -1; ``same_as`` the row that a row repeats, mostly itself.
    """

    count: SourceCount
    xyz: Floats
    shots: Shots
    is_point: bool
    lines: list[_CountedLine]
    gave_way_to: Rows
    same_as: Rows
    opened: Opened
    rings: list[SourceLine] = field(default_factory=list)


def gather(folder: Path, tables: Tables) -> Gathered:
    """Read every source that is on.

    Raises
    ------
    DataError
        Where a file cannot be read, or no source that is on holds a point.
    """
    sources = [source for source in tables.source if source.on]
    if not sources:
        raise DataError("every source is switched off; there is nothing to build from")
    codes = _code_table(folder, tables.field_codes)
    chord = tables.field_codes.chord
    # Points first: lines that take their heights from shots need them all.
    parts = [
        _points_part(open_source(folder, source, tables.site), source, codes, chord)
        for source in sources
        if source.role not in LINE_ROLES
    ]
    points = Points(
        np.concatenate([np.empty((0, 3)), *(part.xyz for part in parts)]),
        Shots.joined([part.shots for part in parts]),
    )
    parts += [
        _lines_part(open_source(folder, source, tables.site), source, points)
        for source in sources
        if source.role in LINE_ROLES
    ]
    if not sum(len(part.xyz) for part in parts):
        raise DataError("no source that is on holds a usable point or line: " + _what_happened(parts))
    return _joined(parts, [*_site_units(tables.site), *_mismatched(parts)])


def _site_units(site: Site) -> list[Finding]:
    try:
        measured = units_of(site.crs)
    except MissingPackageError:
        return []
    return [remarks.site_in_other_units(measured, site.units, site.crs)] if measured not in ("", site.units) else []


def _what_happened(parts: list[_Part]) -> str:
    told = []
    for part in parts:
        refused = part.count.refused
        why = f" (the first: {refused[0].where}: {refused[0].reason})" if refused else ""
        told.append(f"{part.count.name}: {part.count.left_out} left out, {part.count.refused_count} refused{why}")
    return "; ".join(told)


def _code_table(folder: Path, table: FieldCodes) -> CodeTable:
    if not table.on:
        return CodeTable()
    book: CodeBook = _code_book(folder / table.file) if table.file else table
    # What the recipe itself says comes first, so that one site can differ from the practice.
    codes = (*table.code, *book.code) if book is not table else table.code
    marks = {name: getattr(table, name) or getattr(book, name) for name in ("start", "end", "close", "arc", "smooth")}
    return CodeTable(tuple(CodeRule(row.match, row.means, row.join) for row in codes), **marks)


def _code_book(path: Path) -> CodeBook:
    text, _ = read_text(path)
    try:
        return CodeBook.model_validate(tomlkit.parse(text).unwrap())
    except TOMLKitError as error:
        raise RecipeError(str(path), [f"this is not TOML: {error}"]) from error
    except ValidationError as error:
        raise RecipeError(str(path), faults_of(text, error, CodeBook)) from error


def _counted(opened: Opened, kept: int, left_out: int = 0) -> SourceCount:
    return SourceCount(
        opened.name,
        kept,
        opened.left_out + left_out,
        tuple(opened.refused),
        tuple(opened.notes),
        opened.thinned,
        opened.merged,
    )


def _points_part(opened: Opened, source: Source, codes: CodeTable, chord: float) -> _Part:
    points = opened.points
    lines: list[_CountedLine] = []
    rings: list[SourceLine] = []
    stays = np.ones(len(points), np.bool_)
    if source.role == "points":
        stays, coded = coded_lines(points, codes, chord)
        number = np.append(np.cumsum(stays) - 1, -1)
        for each in coded:
            where = points.shots.take(each.rows).span()
            if each.is_boundary:
                rings.append(SourceLine(each.name, each.xyz, True, "keep", where))
            else:
                lines.append(_CountedLine(each.name, each.xyz, each.closed, number[each.own_row], where))
    left = int((~stays).sum())
    points = points if left == 0 else points.take(stays)
    count = _counted(opened, len(points), left)
    none = np.full(len(points), -1, np.int64)
    return _Part(count, points.xyz, points.shots, True, lines, none, np.arange(len(points)), opened, rings)


def _lines_part(opened: Opened, source: Source, points: Points) -> _Part:
    if source.heights == "shots" and not len(points):
        raise DataError(f'{source.file}: heights = "shots", but no source of points is on to take them from')
    lines: list[_CountedLine] = []
    gave_way: list[Rows] = []
    same_as: list[Rows] = []
    first = 0
    for line in opened.lines:
        same_as.append(first + np.arange(line.drawn) % len(line.xyz))
        rows = np.arange(first, first + len(line.xyz))
        if source.heights != "shots":
            lines.append(_CountedLine(line.name, line.xyz, line.closed, rows, line.shots.span()))
            gave_way.append(np.full(line.drawn, -1, np.int64))
        else:
            fitted = heights_from_shots(line, points, source.reach or _REACH)
            own_row = np.where(fitted.drawn_as >= 0, first + fitted.drawn_as, -1)
            lines.append(_CountedLine(line.name, fitted.xyz, line.closed, own_row, line.shots.span()))
            gave_way.append(fitted.gave_way_to[np.arange(line.drawn) % len(line.xyz)])
        first += line.drawn
    xyz, shots = _drawn_rows(opened.lines)
    none = np.empty(0, np.int64)
    count = _counted(opened, len(xyz))
    gave, same = np.concatenate([none, *gave_way]), np.concatenate([none, *same_as])
    return _Part(count, xyz, shots, False, lines, gave, same, opened)


def _drawn_rows(lines: Sequence[Line]) -> tuple[Floats, Shots]:
    drawn = [np.arange(line.drawn) % len(line.xyz) for line in lines]
    xyz = [line.xyz[rows] for line, rows in zip(lines, drawn, strict=True)]
    shots = [line.shots.take(rows) for line, rows in zip(lines, drawn, strict=True)]
    return np.concatenate([np.empty((0, 3)), *xyz]), Shots.joined(shots)


def _mismatched(parts: list[_Part]) -> list[Finding]:
    """Tell of sources whose coordinates do not go with those of the rest."""
    told = [part for part in parts if len(part.xyz)]
    extents = [Extent.of(part.xyz) for part in told]
    names = [part.count.name for part in told]
    return [
        remarks.about_mismatch(each, names, (float(extents[each.source].low[0]), float(extents[each.source].low[1])))
        for each in mismatches(extents, [len(part.xyz) for part in told])
    ]


def _joined(parts: list[_Part], findings: list[Finding]) -> Gathered:
    """Number all rows, and find each one's place in a triangulation of the points first and the lines after them."""
    starts = np.cumsum([0] + [len(part.xyz) for part in parts])
    is_point = np.concatenate([np.full(len(part.xyz), part.is_point) for part in parts])
    point_rows = np.flatnonzero(is_point)
    triangulated = np.where(is_point, np.cumsum(is_point) - 1, -1)
    back = [point_rows]
    lines = []
    row = len(point_rows)
    for part, start in zip(parts, starts, strict=False):
        for line in part.lines:
            own = np.where(line.own_row >= 0, start + line.own_row, -1)
            if not part.is_point:
                new = np.flatnonzero(own >= 0)
                triangulated[own[new]] = row + new
                back.append(own)
            else:
                back.append(np.full(len(own), -1, np.int64))
            row += len(line.xyz)
            lines.append(SourceLine(line.name, line.xyz, line.closed, where=line.where))
        moved = np.flatnonzero(part.gave_way_to >= 0)
        triangulated[start + moved] = part.gave_way_to[moved]
        triangulated[start + np.arange(len(part.xyz))] = triangulated[start + part.same_as]
    point_number = np.cumsum(is_point) - 1
    taken = [
        TakenSurface(part.count.name, part.opened.surface, int(point_number[start]))
        for part, start in zip(parts, starts, strict=False)
        if part.opened.surface is not None
    ]
    return Gathered(
        np.concatenate([part.xyz for part in parts]),
        Shots.joined([part.shots for part in parts]),
        [part.count for part in parts],
        lines,
        point_rows,
        triangulated,
        np.concatenate(back),
        taken,
        [ring for part in parts for ring in part.rings],
        [*findings, *(finding for part in parts for finding in part.opened.findings)],
    )
