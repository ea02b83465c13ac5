"""Reading, selecting and joining what a recipe's sources hold, with every row accounted for."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from evrin.errors import DataError
from evrin.formats import read_lines, read_points
from evrin.recipe.schema import FieldCodes, Source, Tables
from evrin.surface import Shots, SourceLine
from evrin.survey import CodeTable, Points, Refusal, Selection, coded_lines, heights_from_shots
from evrin.tin.types import Flags, Floats

Rows = NDArray[np.int64]


@dataclass(frozen=True)
class SourceCount:
    """How many items of a source were kept and left out, which were refused, and what its reader guessed."""

    name: str
    kept: int
    left_out: int
    refused: tuple[Refusal, ...]
    notes: tuple[str, ...] = ()


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
    """

    xyz: Floats
    shots: Shots
    sources: list[SourceCount]
    lines: list[SourceLine]
    point_rows: Rows
    triangulated_row: Rows
    counted_row: Rows

    @property
    def count(self) -> int:
        """Items read, whatever became of them."""
        return sum(source.kept + source.left_out + len(source.refused) for source in self.sources)


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
    codes = _code_table(tables.field_codes)
    # Points first: lines that take their heights from shots need them all.
    parts = [_read_points(folder, source, codes) for source in sources if source.role == "points"]
    points = Points(
        np.concatenate([np.empty((0, 3)), *(part.xyz for part in parts)]),
        Shots.joined([part.shots for part in parts]),
    )
    parts += [_read_breaklines(folder, source, points) for source in sources if source.role == "breaklines"]
    if not sum(len(part.xyz) for part in parts):
        raise DataError("no source that is on holds a usable point or line: " + _what_happened(parts))
    return _joined(parts)


def _what_happened(parts: list[_Part]) -> str:
    told = []
    for part in parts:
        refused = part.count.refused
        why = f" (the first: {refused[0].where}: {refused[0].reason})" if refused else ""
        told.append(f"{part.count.name}: {part.count.left_out} left out, {len(refused)} refused{why}")
    return "; ".join(told)


def _code_table(table: FieldCodes) -> CodeTable:
    if not table.on:
        return CodeTable()
    return CodeTable(tuple((row.match, row.means) for row in table.code), table.start, table.end, table.close)


def _chosen(source: Source, shots: Shots) -> Flags:
    chosen = np.ones(len(shots), np.bool_)
    if source.keep is not None:
        chosen &= Selection(source.keep.codes, source.keep.numbers).matches(shots)
    if source.leave_out is not None:
        chosen &= ~Selection(source.leave_out.codes, source.leave_out.numbers).matches(shots)
    return chosen


def _read_points(folder: Path, source: Source, codes: CodeTable) -> _Part:
    read = read_points(folder / source.file, source.columns)
    selected = _chosen(source, read.shots)
    points = Points(read.xyz[selected], read.shots.take(selected))
    stays, coded = coded_lines(points, codes)
    number = np.cumsum(stays) - 1
    xyz = points.xyz[stays]
    lines = []
    for each in coded:
        rows = np.array(each.rows)
        where = points.shots.take(rows).span()
        lines.append(_CountedLine(each.name, points.xyz[rows], each.closed, number[rows], where))
    count = SourceCount(source.name or source.file, len(xyz), len(read.xyz) - len(xyz), read.refused, read.notes)
    return _Part(count, xyz, points.shots.take(stays), True, lines, np.full(len(xyz), -1), np.arange(len(xyz)))


def _read_breaklines(folder: Path, source: Source, points: Points) -> _Part:
    file = folder / source.file
    own = source.heights == "own"
    if not own and not len(points.xyz):
        raise DataError(f'{file}: heights = "shots", but no source of points is on to take them from')
    read = read_lines(file, source.columns, needs_height=own)
    chosen = [line for line in read.lines if _chosen(source, line.shots).any()]
    flat = [line.name for line in chosen if own and np.isnan(line.xyz[:, 2]).any()]
    if flat:
        raise DataError(
            f'{file}: line {flat[0]} has no heights of its own; say heights = "shots" to take them from the shots it '
            "passes"
        )
    lines: list[_CountedLine] = []
    gave_way: list[Rows] = []
    same_as: list[Rows] = []
    first = 0
    for line in chosen:
        same_as.append(first + np.arange(line.drawn) % len(line.xyz))
        rows = np.arange(first, first + len(line.xyz))
        if own:
            lines.append(_CountedLine(line.name, line.xyz, line.closed, rows, line.shots.span()))
            gave_way.append(np.full(line.drawn, -1, np.int64))
        else:
            fitted = heights_from_shots(line, points, source.reach)
            own_row = np.where(fitted.drawn_as >= 0, first + fitted.drawn_as, -1)
            lines.append(_CountedLine(line.name, fitted.xyz, line.closed, own_row, line.shots.span()))
            gave_way.append(fitted.gave_way_to[np.arange(line.drawn) % len(line.xyz)])
        first += line.drawn
    drawn = [np.arange(line.drawn) % len(line.xyz) for line in chosen]
    xyz = np.concatenate([np.empty((0, 3)), *(line.xyz[rows] for line, rows in zip(chosen, drawn, strict=True))])
    shots = Shots.joined([line.shots.take(rows) for line, rows in zip(chosen, drawn, strict=True)])
    total = sum(line.drawn for line in read.lines)
    count = SourceCount(source.name or source.file, len(xyz), total - len(xyz), read.refused, read.notes)
    none = np.empty(0, np.int64)
    return _Part(count, xyz, shots, False, lines, np.concatenate([none, *gave_way]), np.concatenate([none, *same_as]))


def _joined(parts: list[_Part]) -> Gathered:
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
    return Gathered(
        np.concatenate([part.xyz for part in parts]),
        Shots.joined([part.shots for part in parts]),
        [part.count for part in parts],
        lines,
        point_rows,
        triangulated,
        np.concatenate(back),
    )
