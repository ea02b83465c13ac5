"""Delimited text: points, and line vertices that share a line name."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from evrin.base.wording import counted
from evrin.formats.door.format_registry import Format, How, register
from evrin.formats.text.table_writing import write_contours, write_lines, write_surface
from evrin.formats.text.text_layout import HEADINGS
from evrin.formats.text.text_table import COORDINATES, FieldTable, read_table
from evrin.kernels import Floats, Indices
from evrin.kernels.text_column import TextColumn, Texts
from evrin.surface.provenance import Shots, repeated
from evrin.survey.contents import POINT, Column, Contents, Line, Points, Refusal

_NAMED = 6


def read(path: Path, how: How) -> Contents:
    """Read rows as points, or as vertices of lines where ``how.as_lines`` is set.

    Raises
    ------
    DataError
        If the file is missing, not text, or nothing names its columns.
    """
    if how.as_lines:
        needed = COORDINATES if how.needs_height else COORDINATES[:2]
        table = read_table(path, how.columns, needed)
        lines, refused = _lines(table, needed)
        return Contents(
            path.name,
            "delimited text",
            lines=lines,
            refused=refused,
            notes=table.notes,
            stated=table.stated,
            doubts=table.doubts,
        )
    table = read_table(path, how.columns, needed=COORDINATES, guess=how.guess)
    points, form = _points(table), "delimited text"
    return Contents(
        path.name,
        form,
        points,
        refused=points.refused,
        notes=points.notes,
        stated=table.stated,
        guessed_columns=table.guessed,
        doubts=table.doubts,
    )


def _points(table: FieldTable) -> Points:
    xyz, refused, good = _coordinates(table, COORDINATES)
    columns_read: dict[str, Column] = {"kind": repeated(POINT, len(good))}
    if "line" in table.columns and not _are_point_names(table):
        columns_read["name"] = _only(table.texts("line"), good)
    for name in (each for each in table.columns if each not in HEADINGS):
        values = _attribute(_only(table.texts(name), good))
        if name.lower() in ("class", "classification"):
            # Words are not numbers of classes; they are kept as an attribute.
            name = "class" if values.dtype.kind == "i" else "class name"
        columns_read[name] = values
    shots = _shots(table, good)
    again = [] if "number" in table.distinct else _repeated_numbers(shots)
    return Points(_only(xyz, good), shots, tuple(refused), (*table.notes, *again), columns_read)


def _only(rows: NDArray[Any], good: Indices) -> NDArray[Any]:
    """Return some of the rows, without a copy where that is all."""
    return rows if len(good) == len(rows) else rows[good]


def _only_texts(texts: Texts | TextColumn, good: Indices) -> Texts | TextColumn:
    if len(good) == len(texts):
        return texts
    return texts.take(good) if isinstance(texts, TextColumn) else texts[good]


def _are_point_names(table: FieldTable) -> bool:
    """Whether a column of names has another in each row, and no other column numbers the points."""
    if "line" not in table.columns or "number" in table.columns:
        return False
    names = table.texts("line").tolist()
    return len(names) > 1 and len(set(names)) == len(names)


def _repeated_numbers(shots: Shots) -> list[str]:
    """Note point numbers that occur more than once; where most do, the column holds something else."""
    numbers = shots.numbers.tolist()
    if len(set(numbers)) == len(numbers):
        return []
    counts = Counter(str(each) for each in numbers if each)
    again = [each for each, count in counts.items() if count > 1]
    if not again or len(counts) * 2 < len(shots):
        return []
    more = f" and {len(again) - _NAMED:,} more" if len(again) > _NAMED else ""
    return [f"point numbers that occur more than once: {', '.join(again[:_NAMED])}{more}"]


def _lines(table: FieldTable, needed: tuple[str, ...]) -> tuple[tuple[Line, ...], tuple[Refusal, ...]]:
    """The lines of a table, a vertex each row; rows of one line name join in order."""
    xyz, refused, good = _coordinates(table, needed)
    xyz = xyz[good]
    names = table.texts("line")[good].tolist() if "line" in table.columns else [table.path.stem] * len(good)
    shots = _shots(table, good, np.array(names, object))
    rows_of: dict[str, list[int]] = {}
    for row, name in enumerate(names):
        rows_of.setdefault(name, []).append(row)
    lines = []
    for name, members in rows_of.items():
        rows = np.array(members)
        closed = len(rows) > 3 and bool((xyz[rows[0], :2] == xyz[rows[-1], :2]).all())
        rows = rows[:-1] if closed else rows
        lines.append(Line(name, xyz[rows], shots.take(rows), closed, {"kind": "line"}))
    return tuple(lines), tuple(refused)


def _attribute(texts: Texts) -> Column:
    """An attribute as whole numbers where all of it is written as such, else as texts."""
    try:
        return np.array([int(text) for text in texts.tolist()], np.int64)
    except (ValueError, OverflowError):
        return texts


def _coordinates(table: FieldTable, needed: tuple[str, ...]) -> tuple[Floats, list[Refusal], Indices]:
    """Numbers (n, 3) of all rows, the refusals, and which rows are used."""
    xyz = np.empty((len(table.line_of), 3))
    reasons: dict[int, str] = {}
    for k, name in enumerate(COORDINATES):
        if name not in table.columns:
            xyz[:, k] = np.nan
            continue
        xyz[:, k] = table.numbers(name)
        is_finite = np.isfinite(xyz[:, k])
        for row in [] if is_finite.all() else np.flatnonzero(~is_finite).tolist():
            text = table.field(name, row)
            if name in needed or text:
                reasons.setdefault(row, _reason(name, text, int(table.field_counts[row])))
    has_large = not np.abs(xyz).max(initial=0.0) <= 1e12
    for row in np.flatnonzero((np.abs(np.nan_to_num(xyz)) > 1e12).any(axis=1)).tolist() if has_large else []:
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


def _shots(table: FieldTable, good: Indices, codes: Texts | None = None) -> Shots:
    number = _only_texts(table.late_texts("line" if _are_point_names(table) else "number"), good)
    code = _only_texts(table.late_texts("code"), good) if codes is None else codes
    return Shots.of_file(table.path.name, _only(table.line_of, good), number, code)


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
