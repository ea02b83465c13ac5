"""Delimited text: points, and line vertices that share a line name."""

from __future__ import annotations

import csv
import io
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from evrin.errors import DataError
from evrin.formats.files import read_text
from evrin.surface import Shots
from evrin.survey.things import Line, Lines, Points, Refusal
from evrin.tin.types import Floats
from evrin.wording import counted

LETTERS = {
    "P": "number",
    "N": "northing",
    "Y": "northing",
    "E": "easting",
    "X": "easting",
    "Z": "height",
    "D": "code",
    "L": "line",
    "-": "",
}
_HEADINGS = {
    "number": ("number", "point", "pt", "p", "no", "id", "shot", "pointnumber", "pointno"),
    "northing": ("northing", "north", "n", "y"),
    "easting": ("easting", "east", "e", "x"),
    "height": ("height", "elevation", "elev", "z", "h", "level", "rl"),
    "code": ("code", "description", "desc", "d", "feature"),
    "line": ("line", "string", "name", "linename", "l", "ring"),
}
_DELIMITERS = {"\t": "tab", ";": "semicolon", ",": "comma", " ": "spaces"}
_COMMENTS = ("#", "//")
_SAMPLE = 200


@dataclass(frozen=True)
class _Table:
    """Rows of fields with their line numbers, and what was guessed on the way."""

    path: Path
    lines: list[int]
    rows: list[list[str]]
    columns: list[str]
    decimal_comma: bool
    notes: tuple[str, ...]


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
        Rows that hold no point are refused by line, and the rest stands.

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
    table = _read_table(path, columns, needed=("easting", "northing", "height"))
    xyz, refused, good = _coordinates(table, ("easting", "northing", "height"))
    return Points(xyz[good], _shots(table, good), tuple(refused), table.notes)


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
    needed = ("easting", "northing", "height") if needs_height else ("easting", "northing")
    table = _read_table(path, columns, needed=needed)
    xyz, refused, good = _coordinates(table, needed)
    xyz, shots = xyz[good], _shots(table, good)
    at = table.columns.index("line") if "line" in table.columns else None
    names = [path.stem if at is None else table.rows[row][at].strip() for row in good.tolist()]
    rows_of: dict[str, list[int]] = {}
    for row, name in enumerate(names):
        rows_of.setdefault(name, []).append(row)
    shots = Shots(shots.files, shots.file_of, shots.line_of, shots.numbers, np.array(names, object))
    lines = []
    for name, members in rows_of.items():
        rows = np.array(members)
        closed = len(rows) > 3 and bool((xyz[rows[0], :2] == xyz[rows[-1], :2]).all())
        rows = rows[:-1] if closed else rows
        lines.append(Line(name, xyz[rows], shots.take(rows), closed))
    return Lines(tuple(lines), tuple(refused), table.notes)


def _read_table(path: Path, columns: str | None, needed: tuple[str, ...]) -> _Table:
    text, encoding = read_text(path)
    notes = [] if encoding.startswith("utf-8") else [f"read as {encoding}"]
    lines, content = _content_lines(text)
    if not content:
        raise DataError(f"{path}: the file holds nothing but blank lines and comments")
    delimiter = _guess_delimiter(content[:_SAMPLE])
    names = _named_columns(path, columns) if columns is not None else None
    rows = _split(content, delimiter, len(names) if names else None)
    has_header = not any(_is_number(field, True) for field in rows[0])
    if names is not None and has_header:
        # A first row without numbers that names no column we know is a bad row, and told as one.
        has_header = any(_heading(field) for field in rows[0])
    if names is None:
        if not has_header:
            raise DataError(
                f"{path} line {lines[0]}: there is no header row that names the columns; "
                f'say columns = "PNEZD" or the like (this file has {len(rows[0])} columns, separated by '
                f"{_DELIMITERS[delimiter]})"
            )
        names = [_heading(field) for field in rows[0]]
        notes.append("columns from the header: " + ", ".join(name or "-" for name in names))
    missing = [name for name in needed if name not in names]
    if missing:
        told = f"columns {columns!r}" if columns is not None else f"the header ({', '.join(rows[0])})"
        raise DataError(f"{path}: {told} names no {' and no '.join(missing)}")
    if has_header:
        lines, rows = lines[1:], rows[1:]
    if not rows:
        raise DataError(f"{path}: there is a header but no row below it")
    comma = delimiter != "," and _has_decimal_comma(rows[:_SAMPLE], names)
    if comma:
        notes.append("decimal comma")
    return _Table(path, lines, rows, names, comma, tuple(notes))


def _content_lines(text: str) -> tuple[list[int], list[str]]:
    numbers, content = [], []
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip() and not line.lstrip().startswith(_COMMENTS):
            numbers.append(number)
            content.append(line)
    return numbers, content


def _guess_delimiter(sample: list[str]) -> str:
    for delimiter in ("\t", ";", ","):
        counts = Counter(line.count(delimiter) for line in sample)
        count, lines = counts.most_common(1)[0]
        if count >= 1 and lines * 2 > len(sample):
            return delimiter
    return max(("\t", ";", ","), key=lambda d: sum(d in line for line in sample)) if _separated(sample) else " "


def _separated(sample: list[str]) -> bool:
    return sum(any(d in line for d in "\t;,") for line in sample) * 2 > len(sample)


def _split(content: list[str], delimiter: str, width: int | None) -> list[list[str]]:
    if delimiter == " ":
        return [line.split(None, width - 1 if width else -1) for line in content]
    rows = list(csv.reader(io.StringIO("\n".join(content)), delimiter=delimiter, quoting=csv.QUOTE_MINIMAL))
    if len(rows) != len(content):
        # A stray quotation mark would swallow lines, so every line is then taken as it stands.
        rows = [line.split(delimiter) for line in content]
    if width:
        return [row if len(row) <= width else [*row[: width - 1], delimiter.join(row[width - 1 :])] for row in rows]
    return rows


def _named_columns(path: Path, columns: str) -> list[str]:
    unknown = sorted({letter for letter in columns.upper() if letter not in LETTERS})
    if unknown:
        raise DataError(
            f"{path}: columns {columns!r}: {', '.join(unknown)} means nothing; the letters are "
            + ", ".join(f"{letter} {name or 'pass over'}" for letter, name in LETTERS.items())
        )
    names = [LETTERS[letter] for letter in columns.upper()]
    twice = sorted({name for name in names if name and names.count(name) > 1})
    if twice:
        raise DataError(f"{path}: columns {columns!r} name {' and '.join(twice)} more than once")
    return names


def _heading(field: str) -> str:
    plain = "".join(ch for ch in field.lower() if ch.isalpha())
    return next((name for name, words in _HEADINGS.items() if plain in words), "")


def _is_number(field: str, decimal_comma: bool) -> bool:
    try:
        float(field.replace(",", ".") if decimal_comma else field)
    except ValueError:
        return False
    return True


def _has_decimal_comma(rows: list[list[str]], names: list[str]) -> bool:
    at = [k for k, name in enumerate(names) if name in ("easting", "northing", "height")]
    fields = [row[k] for row in rows for k in at if k < len(row)]
    with_comma = [field for field in fields if field.count(",") == 1 and _is_number(field, True)]
    return len(with_comma) * 2 > len(fields)


def _coordinates(table: _Table, needed: tuple[str, ...]) -> tuple[Floats, list[Refusal], np.ndarray]:
    """Numbers (n, 3) of all rows, the refusals, and which rows stand."""
    xyz = np.full((len(table.rows), 3), np.nan)
    reasons: dict[int, str] = {}
    for k, name in enumerate(("easting", "northing", "height")):
        if name not in table.columns:
            continue
        at = table.columns.index(name)
        texts = [row[at].strip() if at < len(row) else "" for row in table.rows]
        if table.decimal_comma:
            texts = [text.replace(",", ".") for text in texts]
        values = pd.to_numeric(pd.Series(texts, dtype=object), errors="coerce").to_numpy(np.float64)
        xyz[:, k] = values
        for row in np.flatnonzero(~np.isfinite(values)).tolist():
            if name in needed or texts[row]:
                reasons.setdefault(row, _reason(name, texts[row], len(table.rows[row])))
    for row in np.flatnonzero((np.abs(np.nan_to_num(xyz)) > 1e12).any(axis=1)).tolist():
        reasons.setdefault(row, "a number is far too large to be a coordinate")
    refused = [Refusal(f"{table.path.name} line {table.lines[row]}", reasons[row]) for row in sorted(reasons)]
    good = np.ones(len(xyz), np.bool_)
    good[list(reasons)] = False
    return xyz, refused, np.flatnonzero(good)


def _reason(name: str, text: str, fields: int) -> str:
    if not text:
        return f"there is no {name} among its {counted(fields, 'field')}"
    if text.lower().lstrip("+-") in ("nan", "inf", "infinity"):
        return f"{name} {text!r} is not a finite number"
    return f"{name} {text!r} is not a number"


def _shots(table: _Table, good: np.ndarray) -> Shots:
    def texts(name: str) -> np.ndarray:
        out = np.empty(len(good), object)
        at = table.columns.index(name) if name in table.columns else -1
        out[:] = ["" if at < 0 or at >= len(table.rows[row]) else table.rows[row][at].strip() for row in good.tolist()]
        return out

    line_of = np.array(table.lines, np.int32)[good]
    return Shots((table.path.name,), np.zeros(len(good), np.int32), line_of, texts("number"), texts("code"))
