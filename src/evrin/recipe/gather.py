"""Joining what a recipe's sources hold, with every row accounted for."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from evrin.check import Finding
from evrin.errors import DataError, MissingPackageError, RecipeError
from evrin.formats.files import read_text
from evrin.formats.reference import units_of
from evrin.recipe import clean, remarks, weave
from evrin.recipe.faults import faults_of
from evrin.recipe.keys import Keys
from evrin.recipe.opened import Opened
from evrin.recipe.opening import open_source
from evrin.recipe.rows import Gathered, Rows, SourceCount, numbered
from evrin.recipe.schema import LINE_ROLES, CodeBook, FieldCodes, Site, Source, Tables
from evrin.recipe.store import Store
from evrin.surface import Shots, SourceLine
from evrin.surface.triangulate import TakenSurface
from evrin.survey import CodeRule, CodeTable, Line, coded_lines
from evrin.survey.mismatch import Extent, mismatches
from evrin.survey.strands import Strand
from evrin.survey.things import Points
from evrin.tin.types import Floats, Indices

Told = Callable[[str, bool], None]


@dataclass(frozen=True, eq=False)
class _Part:
    """What one source gives: its rows and lines, both counted from its first row.

    ``same_as`` has the row that a row repeats, mostly itself.
    """

    count: SourceCount
    xyz: Floats
    shots: Shots
    is_point: bool
    strands: list[Strand]
    same_as: Indices
    opened: Opened
    rings: list[SourceLine] = field(default_factory=list)


def gather(folder: Path, tables: Tables, keys: Keys, store: Store, told: Told) -> Gathered:
    """Read every source that is on, join their lines, and clean both.

    Parameters
    ----------
    folder : Path
    tables : Tables
    keys : Keys
    store : Store
        Where sources that have not changed are found, opened.
    told : callable
        Called with the name of each source and whether it was found in the store.

    Raises
    ------
    DataError
        Where a file cannot be read, or no source that is on holds a point.
    """
    sources = [source for source in tables.source if source.on]
    if not sources:
        raise DataError("every source is switched off; there is nothing to build from")
    codes = _code_table(folder, tables.field_codes)
    parts = []
    for number, source in enumerate(sources):
        key = keys.source(source)
        opened = store.load(key)
        told(source.name or source.file, opened is not None)
        if opened is None:
            opened = open_source(folder, source, tables.site)
            opened.points = replace(opened.points, columns={})
            store.save(key, opened)
        opened.name = source.name or source.file
        if source.role in LINE_ROLES:
            parts.append(_lines_part(opened, source, number))
        else:
            parts.append(_points_part(opened, source, number, codes, tables.field_codes.chord))
    if not sum(len(part.xyz) for part in parts):
        raise DataError("no source that is on holds a usable point or line: " + _what_happened(parts))
    rows = _joined(parts)
    rows.findings += [*_site_units(tables.site), *_mismatched(parts)]
    rows.findings += [finding for part in parts for finding in part.opened.findings]
    _prepare(rows, folder, tables, sources)
    starts = np.cumsum([0] + [len(part.xyz) for part in parts])
    taken = [
        (TakenSurface(part.count.name, part.opened.surface, 0), int(start))
        for part, start in zip(parts, starts, strict=False)
        if part.opened.surface is not None
    ]
    return numbered(rows, [part.count for part in parts], taken, [ring for part in parts for ring in part.rings])


def _prepare(rows: Rows, folder: Path, tables: Tables, sources: list[Source]) -> None:
    """Do to lines and shots what the recipe says, in the one order in which that makes sense."""
    clean.leave_shots(rows, tables.leave_out)
    weave.cut_lines(rows, tables.cut_line)
    weave.level_contours(rows, sources)
    weave.weed_lines(rows, sources)
    weave.lead_through_shots(rows, sources)
    weave.fill_lines(rows, sources)
    weave.part_walls(rows, tables.wall)
    clean.lay_flats(rows, folder, tables.flat)
    clean.leave_busts(rows, tables.busts)
    clean.merge_near(rows, tables.duplicates)


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
        return CodeBook.model_validate(tomllib.loads(text))
    except (tomllib.TOMLDecodeError, RecursionError) as error:
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


def _points_part(opened: Opened, source: Source, number: int, codes: CodeTable, chord: float) -> _Part:
    points: Points = opened.points
    strands: list[Strand] = []
    rings: list[SourceLine] = []
    stays = np.ones(len(points), np.bool_)
    if source.role == "points":
        stays, coded = coded_lines(points, codes, chord)
        kept = np.append(np.cumsum(stays) - 1, -1)
        for each in coded:
            where = points.shots.take(each.rows).span()
            if each.is_boundary:
                rings.append(SourceLine(each.name, each.xyz, True, "keep", where))
            else:
                strands.append(Strand(each.name, each.xyz, kept[each.own_row], each.closed, where, "breakline", number))
    left = int((~stays).sum())
    points = points if left == 0 else points.take(stays)
    count = _counted(opened, len(points), left)
    return _Part(count, points.xyz, points.shots, True, strands, np.arange(len(points)), opened, rings)


def _lines_part(opened: Opened, source: Source, number: int) -> _Part:
    effect = "contour" if source.role == "contours" else "breakline"
    strands: list[Strand] = []
    same_as: list[Indices] = [np.empty(0, np.int64)]
    first = 0
    for line in opened.lines:
        same_as.append(first + np.arange(line.drawn) % len(line.xyz))
        rows = np.arange(first, first + len(line.xyz))
        strands.append(Strand(line.name, line.xyz, rows, line.closed, line.shots.span(), effect, number))
        first += line.drawn
    xyz, shots = _drawn_rows(opened.lines)
    return _Part(_counted(opened, len(xyz)), xyz, shots, False, strands, np.concatenate(same_as), opened)


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


def _joined(parts: list[_Part]) -> Rows:
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
