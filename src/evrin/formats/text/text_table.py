"""Delimited text as a table: where its rows begin, what divides them, what its columns hold, and what was assumed."""

from __future__ import annotations

import csv
import io
import re
import textwrap
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.base.files import read_bytes, read_text
from evrin.base.wording import counted
from evrin.formats.fast.plain_rows import NUMBER, SKIPPED, TEXT, plain_rows
from evrin.formats.text.column_choice import chosen_columns
from evrin.formats.text.column_guesses import guess_columns
from evrin.formats.text.text_layout import (
    DELIMITERS,
    HEADINGS,
    doubt_about_axes,
    guess_delimiter,
    header_row,
    heading_of,
    named_columns,
    unit_in_heading,
)
from evrin.formats.text.text_lines import check_widths, content_lines, split_rows, without_counts
from evrin.formats.text.text_numbers import has_decimal_comma, number, unit_behind
from evrin.kernels import Floats, Ints
from evrin.kernels.text_column import TextColumn, Texts
from evrin.surface.frame import UNSTATED, Stated
from evrin.surface.provenance import repeated

Fields = Texts | TextColumn | Floats
COORDINATES = ("easting", "northing", "height")
_SAMPLE = 200
# Large texts are first tried as rows that are all alike, shown by so many bytes at both ends.
_MANY_BYTES, _SAMPLED, _DEEPEST = 1_000_000, 60_000, 60
_NAMED = 3
_OF_SCANS = ("intensity", "red", "green", "blue")
_UNIT_APART = re.compile(r"(?<=\d)[ \u00a0]+(?=(?:m|ft|mm|cm|usft)\b(?![.\w]))")


@dataclass(frozen=True)
class FieldTable:
    """Columns of fields, the lines they are on, and what was found on the way.

    Attributes
    ----------
    path : Path
        The file.
    line_of : (n,) int32
        Line of the file of each row.
    columns : dict of str to (n,) array
        Fields by heading.
    field_counts : (n,) int32
        How many fields each row has.
    decimal_comma : bool
        Whether numbers have a decimal comma.
    guessed : str
        Columns as guessed, a letter for each.
    notes : tuple of str
        What was guessed.
    stated : Stated
        What the file states of its coordinates.
    distinct : frozenset of str
        Columns that are known to hold another text in each row.
    doubts : tuple of str
        What was chosen where something else could be meant.
    """

    path: Path
    line_of: Ints
    columns: dict[str, Fields]
    field_counts: Ints
    decimal_comma: bool
    guessed: str
    notes: tuple[str, ...]
    stated: Stated = UNSTATED
    distinct: frozenset[str] = frozenset()
    doubts: tuple[str, ...] = ()

    def texts(self, name: str) -> Texts:
        """Return the fields of a column, empty where there is none."""
        late = self.late_texts(name)
        return late.all() if isinstance(late, TextColumn) else late

    def late_texts(self, name: str) -> Texts | TextColumn:
        """Return the fields of a column, which are made when they are looked at where the rows are all alike."""
        column = self.columns.get(name)
        if isinstance(column, TextColumn):
            return column
        return repeated("", len(self.line_of)) if column is None else column.astype(object, copy=False)

    def field(self, name: str, row: int) -> str:
        """Return one field of a column."""
        column = self.columns[name]
        return column.text(row) if isinstance(column, TextColumn) else str(column[row])

    def numbers(self, name: str) -> Floats:
        """Return the numbers of a column, NaN where a field holds none."""
        column = self.columns[name]
        if isinstance(column, TextColumn):
            column = column.all()
        if column.dtype != object:
            return column.astype(np.float64, copy=False)
        return np.array([number(text, self.decimal_comma) for text in column.tolist()], np.float64)


@dataclass
class _TextLayout:
    """The lines that hold rows, and how to divide them."""

    lines: Sequence[int] | Ints
    content: list[str]
    delimiter: str
    header: list[str] | None
    notes: list[str]
    doubts: list[str] = field(default_factory=list)
    is_in_degrees: bool = False
    is_counted: bool = False


def read_table(path: Path, columns: str | None, needed: tuple[str, ...], guess: bool = False) -> FieldTable:
    """Read a text as a table.

    Raises
    ------
    DataError
        Where the file is missing, empty or not text, or lacks a needed column.
    """
    if path.exists() and path.stat().st_size >= _MANY_BYTES:
        table = _read_alike(path, columns, needed, guess)
        if table is not None:
            return table
    text, encoding = read_text(path)
    layout = _laid_out(path, text)
    if not encoding.startswith("utf-8"):
        layout.notes.insert(0, f"read as {encoding}")
    names, guessed = _settled_names(path, layout, columns, guess)
    _check_needed(path, layout, columns, needed, names)
    if not layout.content:
        raise DataError(f"{path}: there is a header but no row below it")
    fields, counts = _columns(layout.content, layout.delimiter, names)
    by_name: dict[str, Fields] = {name: column for name, column in zip(names, fields, strict=True) if name}
    return _table(path, layout, names, guessed, by_name, counts)


def _read_alike(path: Path, columns: str | None, needed: tuple[str, ...], guess: bool) -> FieldTable | None:
    """Read a text whose rows are all alike, as its first and last ones show what they hold; None for another."""
    data = read_bytes(path)
    head, tail = data[: data.find(b"\n", _SAMPLED) + 1], data[data.rfind(b"\n", 0, -_SAMPLED) + 1 :]
    if not data.isascii() or head.count(b"\n") <= _SAMPLE + _DEEPEST or b"\x00" in head:
        return None
    layout = _laid_out(path, (head + tail).decode("ascii"), data.count(b"\n") + (not data.endswith(b"\n")))
    if not layout.lines:
        return None
    names, guessed = _settled_names(path, layout, columns, guess)
    _check_needed(path, layout, columns, needed, names)
    start, first = 0, layout.lines[0]
    for _ in range(first - 1):
        start = data.index(b"\n", start) + 1
    kinds = [NUMBER if name in COORDINATES else TEXT if name else SKIPPED for name in names]
    rows = plain_rows(data, start, layout.delimiter, kinds)
    if rows is None:
        return None
    layout.lines = np.arange(first, first + rows.rows, dtype=np.int32)
    by_name: dict[str, Fields] = {
        name: column for k, name in enumerate(names) if (column := rows.column(k)) is not None
    }
    table = _table(path, layout, names, guessed, by_name, np.full(rows.rows, len(names), np.int32))
    return replace(table, distinct=frozenset(names[place] for place in rows.rising))


def _check_needed(
    path: Path, layout: _TextLayout, columns: str | None, needed: tuple[str, ...], names: list[str]
) -> None:
    missing = [name for name in needed if name not in names]
    if missing:
        head = layout.header or []
        stated = f"columns {columns!r}" if columns is not None else f"the header ({_short(head)})"
        raise DataError(f"{path}: {stated} names no {' and no '.join(missing)}")


def _table(
    path: Path,
    layout: _TextLayout,
    names: list[str],
    guessed: str,
    by_name: dict[str, Fields],
    counts: Ints,
) -> FieldTable:
    coordinates = {name: column for name in COORDINATES if isinstance(column := by_name.get(name), np.ndarray)}
    sample = [str(field) for column in coordinates.values() for field in column[:_SAMPLE]]
    comma = has_decimal_comma(sample)
    if comma:
        layout.notes.append("decimal comma")
    units, height_units = _stated_units(layout, names, coordinates)
    rows = np.array(layout.lines, np.int32)
    crs = ""
    if layout.is_in_degrees:
        units, crs = "degrees", "EPSG:4326"
    return FieldTable(
        path=path,
        line_of=rows,
        columns=by_name,
        field_counts=counts,
        decimal_comma=comma,
        guessed=guessed,
        notes=tuple(layout.notes),
        stated=Stated(units, height_units, crs),
        doubts=tuple(layout.doubts),
    )


def _short(fields: list[str]) -> str:
    return textwrap.shorten(", ".join(fields), 120)


def _laid_out(path: Path, text: str, rows: int | None = None) -> _TextLayout:
    """Find the rows: comments, lines above the header, and repeated headers are none."""
    lines, content = content_lines(text)
    counted_rows = without_counts(lines, content, len(content) if rows is None else rows)
    lines, content = counted_rows or (lines, content)
    check_widths(path, lines, content)
    if not content:
        raise DataError(f"{path}: the file holds nothing but blank lines and comments")
    notes: list[str] = []
    delimiter = guess_delimiter(content[-_SAMPLE:])
    if delimiter == " ":
        content = [_UNIT_APART.sub("", line) for line in content]
    head = split_rows(content[:_SAMPLE], delimiter, None)
    at = header_row(head)
    if at < 0 or delimiter == " ":
        # A header may be divided by another sign than the rows.
        for other in (each for each in DELIMITERS if each != delimiter):
            tried = split_rows(content[:_SAMPLE], other, None)
            heading = header_row(tried)
            meant = {heading_of(field) for field in tried[heading]} if heading >= 0 else set()
            if {"easting", "northing"} <= meant and at < 0:
                # Lines above the rows hold other signs than they do.
                at, head, delimiter = (
                    heading,
                    tried,
                    guess_delimiter(content[heading + 1 :][:_SAMPLE] or content[heading:]),
                )
    header = head[at] if at >= 0 else None
    if at > 0:
        notes.append(f"{counted(at, 'line')} above the header ignored, the first: {content[0].strip()[:60]!r}")
    if header is not None:
        above = content[at].strip()
        kept = [k for k in range(at + 1, len(content)) if content[k].strip() != above]
        if len(kept) < len(content) - at - 1:
            again = len(content) - at - 1 - len(kept)
            notes.append(f"{counted(again, 'repeated header', 'repeated headers')} ignored")
        lines, content = [lines[k] for k in kept], [content[k] for k in kept]
    return _TextLayout(lines, content, delimiter, header, notes, is_counted=counted_rows is not None)


def _settled_names(path: Path, layout: _TextLayout, columns: str | None, guess: bool) -> tuple[list[str], str]:
    """What each column holds: as stated, as the header names it, or, only to look at the file, as guessed."""
    if columns is not None:
        if layout.header is not None:
            layout.notes.append(f"header ignored, since columns are stated: {_short(layout.header)}")
        return named_columns(path, columns), ""
    if layout.header is not None and any(heading_of(field) for field in layout.header):
        choice = chosen_columns(layout.header, split_rows(layout.content[:_SAMPLE], layout.delimiter, None))
        names, layout.is_in_degrees, layout.doubts = choice.names, choice.is_in_degrees, choice.doubts
        meant = ", ".join(name for name in names if name in HEADINGS)
        others = [name for name in names if name and name not in HEADINGS]
        layout.notes.append(
            f"columns from the header: {meant}" + (f"; attributes: {', '.join(others)}" if others else "")
        )
        layout.notes += choice.notes
        if doubt := doubt_about_axes(layout.header):
            layout.notes.append(doubt)
        if guess and not set(COORDINATES[:2]) <= set(names):
            return _guessed_names(path, layout) or (names, "")
        return names, ""
    if layout.is_counted and (names := _counted_names(layout)):
        return names, ""
    if guess and (guessed := _guessed_names(path, layout)):
        return guessed
    (first,) = split_rows(layout.content[:1], layout.delimiter, None) if layout.content else ([],)
    at = layout.lines[0] if layout.lines else 1
    raise DataError(
        f"{path} line {at}: no header row that names the columns; "
        f'state columns = "PNEZD" or the like (this file has {len(first)} columns, separated by '
        f"{DELIMITERS[layout.delimiter]})"
    )


def _counted_names(layout: _TextLayout) -> list[str]:
    """What the columns of a counted list of points are: places, then intensity and colours."""
    widths = Counter(len(row) for row in split_rows(layout.content[:_SAMPLE], layout.delimiter, None))
    width = widths.most_common(1)[0][0]
    if width < len(COORDINATES):
        return []
    names = [*COORDINATES, *(_OF_SCANS[:1] if width in (4, 7) else ()), *(_OF_SCANS[1:] if width in (6, 7) else ())]
    names += [f"column {k + 1}" for k in range(len(names), width)]
    layout.notes.append(f"a list that states how many points follow; columns: {', '.join(names)}")
    return names


def _guessed_names(path: Path, layout: _TextLayout) -> tuple[list[str], str] | None:
    guessed, why = guess_columns(split_rows(layout.content[:_SAMPLE], layout.delimiter, None))
    if not guessed:
        return None
    what = f'columns = "{guessed}" is a guess: {why}'
    # What proves itself needs no question.
    (layout.doubts if "nothing in the file proves it" in why else layout.notes).append(what)
    return named_columns(path, guessed), guessed


def _stated_units(layout: _TextLayout, names: list[str], coordinates: dict[str, Texts | Floats]) -> tuple[str, str]:
    """Units of plan and of heights, as headings or fields state them."""
    unit_of: dict[str, str] = {}
    if layout.header is not None:
        unit_of = {name: unit_in_heading(each) for name, each in zip(names, layout.header, strict=False)}
    behind: dict[str, str] = {}
    for name, column in coordinates.items():
        if column.dtype == object:
            units = Counter(unit_behind(str(text)) for text in column[:_SAMPLE].tolist())
            unit, count = units.most_common(1)[0] if units else ("", 0)
            if unit and count * 2 > min(len(column), _SAMPLE):
                behind[name] = unit
    if behind:
        layout.notes.append(f"units behind numbers: {', '.join(f'{name} {unit}' for name, unit in behind.items())}")
    unit_of = {**{name: unit for name, unit in unit_of.items() if unit}, **behind}
    plan = {unit_of.get(name, "") for name in COORDINATES[:2] if name in names}
    return (plan.pop() if len(plan) == 1 else ""), unit_of.get("height", "")


def _columns(content: list[str], delimiter: str, names: list[str]) -> tuple[list[Texts | Floats], Ints]:
    """Split lines into a column a name, empty where a line is short, and count each line's fields."""
    if delimiter != " " and not any('"' in line for line in content):
        counts = np.array([line.count(delimiter) + 1 for line in content], np.int32)
        if (counts == len(names)).all():
            try:
                return _plain_columns(content, delimiter, names), counts
            except ValueError:
                pass  # A field is not a valid number; each is read by itself to find out which.
    rows = split_rows(content, delimiter, len(names))
    columns: list[Texts | Floats] = []
    for k in range(len(names)):
        column = np.empty(len(rows), object)
        column[:] = [row[k].strip() if k < len(row) else "" for row in rows]
        columns.append(column)
    return columns, np.array([len(row) for row in rows], np.int32)


def _plain_columns(content: list[str], delimiter: str, names: list[str]) -> list[Texts | Floats]:
    """Split lines that are all alike, numbers read as such, making no list for each line."""
    import pandas as pd

    frame = pd.read_csv(
        io.StringIO("\n".join(content)),
        sep=delimiter,
        header=None,
        names=range(len(names)),
        dtype=object,
        na_filter=False,
        quoting=csv.QUOTE_NONE,
    )
    columns: list[Texts | Floats] = []
    for k, name in enumerate(names):
        texts = frame[k].tolist()
        if name in COORDINATES:
            if any("_" in text for text in texts):
                raise ValueError("an underscore is not a digit")
            # Not the table reader's own numbers: those may be off in the last bit.
            columns.append(np.array(texts, dtype=np.float64))
        else:
            column = np.empty(len(texts), object)
            column[:] = [text.strip() for text in texts]
            columns.append(column)
    return columns
