"""Delimited text: points, and line vertices that share a line name."""

from __future__ import annotations

import csv
import io
import textwrap
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pandas as pd

from evrin.errors import DataError
from evrin.formats.columns import guess_columns
from evrin.formats.files import read_text
from evrin.formats.registry import Format, How, register
from evrin.formats.table_writing import write_contours, write_lines, write_surface
from evrin.formats.text_layout import (
    DELIMITERS,
    HEADINGS,
    guess_delimiter,
    header_names,
    heading_of,
    is_number,
    named_columns,
)
from evrin.surface import Shots
from evrin.surface.provenance import Texts, repeated
from evrin.survey.contents import POINT, Column, Contents, Line, Lines, Points, Refusal
from evrin.tin.types import Floats, Indices, Ints
from evrin.wording import counted

_COORDINATES = ("easting", "northing", "height")
_COMMENTS = ("#", "//")
_SAMPLE = 200
_LONGEST_ROW, _MOST_COLUMNS = 100_000, 2000


@dataclass(frozen=True)
class _Table:
    """Columns of fields, the lines they are on, and what was guessed on the way."""

    path: Path
    line_of: Ints
    columns: dict[str, Texts | Floats]
    field_counts: Ints
    decimal_comma: bool
    guessed: str
    notes: tuple[str, ...]

    def texts(self, name: str) -> Texts:
        """Fields of a column, empty where there is none."""
        return self.columns.get(name, np.full(len(self.line_of), "", object)).astype(object)


def read(path: Path, how: How) -> Contents:
    """Read rows as points, or as vertices of lines where ``how.as_lines`` is set.

    Raises
    ------
    DataError
        As `read_points` does.
    """
    if how.as_lines:
        lines = read_lines(path, how.columns, needs_height=how.needs_height)
        return Contents(path.name, "delimited text", lines=lines.lines, refused=lines.refused, notes=lines.notes)
    table = _read_table(path, how.columns, needed=_COORDINATES, guess=how.guess)
    points, form = _points(table), "delimited text"
    return Contents(path.name, form, points, refused=points.refused, notes=points.notes, guessed_columns=table.guessed)


def read_points(path: Path, columns: str | None = None) -> Points:
    r"""Read one point a row.

    Parameters
    ----------
    path : Path
    columns : str, optional
        A letter a column: P number, N (or Y) northing, E (or X) easting, Z height, D code, ``-`` for one to pass
        over, as in ``PNEZD``. The last takes the rest of the row. Otherwise a header row must name the columns.

    Returns
    -------
    Points
        Rows that hold no point are refused by line, and the rest is used.

    Raises
    ------
    DataError
        Where the file is missing, empty or not text, or has no column for easting, northing or height.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = tempfile.TemporaryDirectory()
    >>> file = pathlib.Path(folder.name) / "day1.csv"
    >>> _ = file.write_text("1,2880.10,4120.50,41.2,LAWN\n2,2880.10,4130.50,none,LAWN\n")
    >>> points = read_points(file, "PNEZD")
    >>> points.xyz.tolist(), points.refused[0].reason
    ([[4120.5, 2880.1, 41.2]], "height 'none' is not a number")
    >>> folder.cleanup()
    """
    return _points(_read_table(path, columns, needed=_COORDINATES))


def _points(table: _Table) -> Points:
    xyz, refused, good = _coordinates(table, _COORDINATES)
    known: dict[str, Column] = {"kind": repeated(POINT, len(good))}
    if "line" in table.columns:
        known["name"] = table.texts("line")[good]
    for name in table.columns.keys() - HEADINGS.keys():
        values = _attribute(table.texts(name)[good])
        if name.lower() in ("class", "classification"):
            # Words are not numbers of classes; they are kept as an attribute.
            name = "class" if values.dtype.kind == "i" else "class name"
        known[name] = values
    return Points(xyz[good], _shots(table, good), tuple(refused), table.notes, known)


def read_lines(path: Path, columns: str | None = None, *, needs_height: bool = True) -> Lines:
    """Read line vertices, one a row; rows of one line name join in order.

    Parameters
    ----------
    path : Path
    columns : str, optional
        As in `read_points`, with L for the line's name.
    needs_height : bool
        Whether a row without a height is refused, or is a vertex in plan.

    Returns
    -------
    Lines

    Raises
    ------
    DataError
        As in `read_points`.
    """
    needed = _COORDINATES if needs_height else ("easting", "northing")
    table = _read_table(path, columns, needed=needed)
    xyz, refused, good = _coordinates(table, needed)
    xyz, shots = xyz[good], _shots(table, good)
    names = table.texts("line")[good].tolist() if "line" in table.columns else [path.stem] * len(good)
    rows_of: dict[str, list[int]] = {}
    for row, name in enumerate(names):
        rows_of.setdefault(name, []).append(row)
    shots = replace(shots, codes=np.array(names, object))
    lines = []
    for name, members in rows_of.items():
        rows = np.array(members)
        closed = len(rows) > 3 and bool((xyz[rows[0], :2] == xyz[rows[-1], :2]).all())
        rows = rows[:-1] if closed else rows
        lines.append(Line(name, xyz[rows], shots.take(rows), closed, {"kind": "line"}))
    return Lines(tuple(lines), tuple(refused), table.notes)


def _attribute(texts: Texts) -> Column:
    """An attribute as whole numbers where all of it is written as such, else as texts."""
    try:
        return np.array([int(text) for text in texts.tolist()], np.int64)
    except (ValueError, OverflowError):
        return texts


def _read_table(path: Path, columns: str | None, needed: tuple[str, ...], guess: bool = False) -> _Table:
    text, encoding = read_text(path)
    notes = [] if encoding.startswith("utf-8") else [f"read as {encoding}"]
    guessed = ""
    lines, content = _content_lines(text)
    _check_widths(path, lines, content)
    if not content:
        raise DataError(f"{path}: the file holds nothing but blank lines and comments")
    delimiter = guess_delimiter(content[:_SAMPLE])
    names = named_columns(path, columns) if columns is not None else None
    (first,) = _rows(content[:1], delimiter, len(names) if names else None)
    has_header = not any(is_number(field, True) for field in first)
    if names is not None and has_header:
        # A first row without numbers that names no column we know is a bad row, and reported as one.
        has_header = any(heading_of(field) for field in first)
    if names is None and not has_header and guess:
        guessed = guess_columns(_rows(content[:_SAMPLE], delimiter, None))
        names = named_columns(path, guessed) if guessed else None
        notes.append(f'columns = "{guessed}" is a guess; easting and northing may be exchanged')
    if names is None:
        if not has_header:
            raise DataError(
                f"{path} line {lines[0]}: no header row that names the columns; "
                f'state columns = "PNEZD" or the like (this file has {len(first)} columns, separated by '
                f"{DELIMITERS[delimiter]})"
            )
        names = header_names(first)
        known = ", ".join(name for name in names if name in HEADINGS)
        others = [name for name in names if name and name not in HEADINGS]
        notes.append(f"columns from the header: {known}" + (f"; attributes: {', '.join(others)}" if others else ""))
    missing = [name for name in needed if name not in names]
    if missing:
        described = (
            f"columns {columns!r}" if columns is not None else f"the header ({textwrap.shorten(', '.join(first), 120)})"
        )
        raise DataError(f"{path}: {described} names no {' and no '.join(missing)}")
    if has_header:
        lines, content = lines[1:], content[1:]
    if not content:
        raise DataError(f"{path}: there is a header but no row below it")
    fields, counts = _columns(content, delimiter, names)
    by_name = {name: column for name, column in zip(names, fields, strict=True) if name}
    comma = delimiter != "," and _has_decimal_comma(by_name)
    if comma:
        notes.append("decimal comma")
    return _Table(path, np.array(lines, np.int32), by_name, counts, comma, guessed, tuple(notes))


def _content_lines(text: str) -> tuple[list[int], list[str]]:
    # Only line ends end a line, as in any editor: not form feeds, nor separators within a text.
    rows = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    lines = [(number, line) for number, line in enumerate(rows, 1) if line.strip()]
    lines = [(number, line) for number, line in lines if not line.lstrip().startswith(_COMMENTS)]
    return [number for number, _ in lines], [line for _, line in lines]


def _check_widths(path: Path, lines: list[int], content: list[str]) -> None:
    """Refuse rows that no survey has before they are taken apart."""
    longest = max(range(len(content)), key=lambda k: len(content[k]), default=0)
    if content and len(content[longest]) > _LONGEST_ROW:
        raise DataError(
            f"{path} line {lines[longest]}: the row is {len(content[longest]):,} characters long; at most "
            f"{_LONGEST_ROW:,} are read. Is this a table of points?"
        )
    if content and (fields := max(content[0].count(each) for each in "\t;,")) > _MOST_COLUMNS:
        raise DataError(f"{path} line {lines[0]}: it has {fields + 1:,} columns; at most {_MOST_COLUMNS:,} are read")


def _rows(content: list[str], delimiter: str, width: int | None) -> list[list[str]]:
    """Split lines into fields, of which the last of *width* takes the rest of its line."""
    most = width - 1 if width else -1
    if delimiter == " ":
        return [line.split(None, most) for line in content]
    if any('"' in line for line in content):
        rows = list(csv.reader(io.StringIO("\n".join(content)), delimiter=delimiter))
        # A stray quotation mark would swallow lines, so every line is then taken literally.
        if len(rows) == len(content):
            return [[*row[:most], delimiter.join(row[most:])] if 0 <= most < len(row) else row for row in rows]
    return [line.split(delimiter, most) for line in content]


def _columns(content: list[str], delimiter: str, names: list[str]) -> tuple[list[Texts | Floats], Ints]:
    """Split lines into a column a name, empty where a line is short, and count each line's fields."""
    if delimiter != " " and not any('"' in line for line in content):
        counts = np.array([line.count(delimiter) + 1 for line in content], np.int32)
        if (counts == len(names)).all():
            try:
                return _plain_columns(content, delimiter, names), counts
            except ValueError:
                pass  # some number is none: field by field it is found out which
    rows = _rows(content, delimiter, len(names))
    columns: list[Texts | Floats] = []
    for k in range(len(names)):
        column = np.empty(len(rows), object)
        column[:] = [row[k].strip() if k < len(row) else "" for row in rows]
        columns.append(column)
    return columns, np.array([len(row) for row in rows], np.int32)


def _plain_columns(content: list[str], delimiter: str, names: list[str]) -> list[Texts | Floats]:
    """Split lines that are all alike, numbers read as such, making no list for each line."""
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
        if name in _COORDINATES:
            if any("_" in text for text in texts):
                raise ValueError("an underscore is not a digit")
            # Not the table reader's own numbers: those may be off in the last bit.
            columns.append(np.array(texts, dtype=np.float64))
        else:
            column = np.empty(len(texts), object)
            column[:] = [text.strip() for text in texts]
            columns.append(column)
    return columns


def _has_decimal_comma(columns: dict[str, Texts | Floats]) -> bool:
    named = [columns[name] for name in _COORDINATES if name in columns]
    fields = [str(field) for column in named for field in column[:_SAMPLE]]
    with_comma = [field for field in fields if field.count(",") == 1 and is_number(field, True)]
    return len(with_comma) * 2 > len(fields)


def _number(text: str) -> float:
    try:
        return np.nan if "_" in text else float(text)
    except ValueError:
        return np.nan


def _coordinates(table: _Table, needed: tuple[str, ...]) -> tuple[Floats, list[Refusal], Indices]:
    """Numbers (n, 3) of all rows, the refusals, and which rows are used."""
    xyz = np.full((len(table.line_of), 3), np.nan)
    reasons: dict[int, str] = {}
    for k, name in enumerate(_COORDINATES):
        if name not in table.columns:
            continue
        column = table.columns[name]
        if column.dtype == object:
            comma = table.decimal_comma
            xyz[:, k] = [_number(text.replace(",", ".") if comma else text) for text in column.tolist()]
        else:
            xyz[:, k] = column
        for row in np.flatnonzero(~np.isfinite(xyz[:, k])).tolist():
            if name in needed or column[row]:
                reasons.setdefault(row, _reason(name, str(column[row]), int(table.field_counts[row])))
    for row in np.flatnonzero((np.abs(np.nan_to_num(xyz)) > 1e12).any(axis=1)).tolist():
        reasons.setdefault(row, "a number is far too large to be a coordinate")
    refused = [Refusal(f"{table.path.name} line {table.line_of[row]}", reasons[row]) for row in sorted(reasons)]
    good = np.ones(len(xyz), np.bool_)
    good[list(reasons)] = False
    return xyz, refused, np.flatnonzero(good)


def _reason(name: str, text: str, fields: int) -> str:
    if not text:
        return f"no {name} among its {counted(fields, 'field')}"
    if text.lower().lstrip("+-") in ("nan", "inf", "infinity"):
        return f"{name} {text!r} is not a finite number"
    return f"{name} {text!r} is not a number"


def _shots(table: _Table, good: Indices) -> Shots:
    number, code = table.texts("number")[good], table.texts("code")[good]
    return Shots.of_file(table.path.name, table.line_of[good], number, code)


register(
    Format(
        "delimited text",
        (".csv", ".txt", ".xyz", ".pts", ".tsv", ".dat"),
        lambda head, size: False,
        read,
        write_surface,
        write_contours=write_contours,
        write_lines=write_lines,
    )
)
