"""A record of volumes: dated entries added to one file, none of them ever rewritten, each of which can be made again.

A record is JSON Lines (https://jsonlines.org): one entry, one line.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, TYPE_CHECKING, Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, field_validator

from evrin.base.errors import DataError
from evrin.base.file_locks import taken
from evrin.base.named_values import Row
from evrin.recipe.store.digests import file_digest

if TYPE_CHECKING:
    import pandas as pd

_FORM = 1
# Figures made again from the same files on another machine may differ by what rounding leaves.
_AGREE = 1e-9
_FIGURES = ("cut", "fill", "net", "net_95", "no_change_area", "only_base", "only_top", "neither")


@dataclass(frozen=True)
class RecordEntry:
    """One entry of a record.

    Attributes
    ----------
    line : int
        Of the record, from 1.
    date : str
        ISO, in UTC.
    name : str
        What was measured.
    asked : dict
        What was measured: files by the part they play, and every choice, as the command takes them.
    files : dict of str to str
        Digest of each file, by its path from the record's folder.
    units : str
        Unit of lengths.
    rows : list of dict
        Figures by area.

    Examples
    --------
    >>> from evrin.recipe import RecordEntry
    >>> RecordEntry(1, "2026-01-05", "heap", {}, {}, "m", [{"area": "all", "net": 3.0}]).figure("all", "net")
    3.0
    """

    line: int
    date: str
    name: str
    asked: Row
    files: dict[str, str]
    units: str
    rows: list[Row]

    def figure(self, area: str, key: str) -> float:
        """Return a figure of an area, NaN where there is none.

        Parameters
        ----------
        area, key : str
            Which area, and which figure of it.

        Returns
        -------
        float
        """
        values = [row.get(key) for row in self.rows if row.get("area") == area]
        return float(values[0]) if values and values[0] is not None else float("nan")


def append_entry(
    path: Path,
    name: str,
    asked: Mapping[str, object],
    files: Mapping[str, Path],
    units: str,
    rows: list[dict[str, object]],
    date: str = "",
) -> int:
    """Add one entry at the end of a record, which is made where it is not there; return its line.

    Whatever is in the record stays as it is. Two writers wait for one another; an entry cut off by a kill is closed by
    a line of its own before the next is added.

    Parameters
    ----------
    path : Path
        The record (.jsonl).
    name : str
        What was measured.
    asked : mapping
        What was measured, by option.
    files : mapping of str to Path
        What it rests on, by the part that each plays.
    units : str
        Unit of lengths.
    rows : list of dict
        Figures by area, as plain values.
    date : str
        ISO date of the survey; now if not given.

    Returns
    -------
    int

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> from evrin.recipe import append_entry, read_record
    >>> record = Path(tempfile.mkdtemp()) / "heap.jsonl"
    >>> append_entry(record, "heap", {"level": 0.0}, {}, "m", [{"area": "all", "net": 48.0}], "2026-05-12")
    1
    >>> read_record(record)[0][0].figure("all", "net")
    48.0

    Raises
    ------
    DataError
        Where the file cannot be written or holds something else, or the date is none.
    """
    if path.suffix.lower() != ".jsonl":
        raise DataError(f"{path}: a record of volumes is a .jsonl file")
    when = _date(date)
    folder = path.parent.resolve()
    digests = {os.path.relpath(file.resolve(), folder): file_digest(file) for file in files.values()}
    paths = {part: os.path.relpath(file.resolve(), folder) for part, file in files.items()}
    entry = {
        "form": _FORM,
        "date": when,
        "name": name,
        "asked": {**asked, "files": paths},
        "files": digests,
        "units": units,
        "rows": [_plain(row) for row in rows],
    }
    try:
        with path.open("a+b") as stream:
            _wait_for_turn(stream)
            stream.seek(0)
            before = stream.read()
            _checked_first(path, before)
            ending = b"" if not before or before.endswith(b"\n") else b"\n"
            stream.write(ending + json.dumps(entry, ensure_ascii=False, allow_nan=False).encode() + b"\n")
            stream.flush()
            os.fsync(stream.fileno())
    except OSError as error:
        raise DataError(f"{path}: cannot be written: {error.strerror}") from error
    return (before + ending).count(b"\n") + 1


def _wait_for_turn(stream: IO[bytes]) -> None:
    """Let one writer at a time into a record; where the disk has no locks for files, a line is still whole."""
    with suppress(OSError):
        taken(stream.fileno())


def _date(text: str) -> str:
    if not text:
        return datetime.now(UTC).isoformat(timespec="seconds")
    try:
        return (
            datetime.fromisoformat(text).isoformat(timespec="seconds") if "T" in text else str(np.datetime64(text, "D"))
        )
    except ValueError as error:
        raise DataError(f"{text!r} is not a date; write it as in 2026-05-31") from error


def _plain(row: Mapping[str, object]) -> dict[str, object]:
    return {key: (None if isinstance(value, float) and not np.isfinite(value) else value) for key, value in row.items()}


def _checked_first(path: Path, content: bytes) -> None:
    """Refuse to add to a file that is something else."""
    first = content.partition(b"\n")[0]
    if first and not first.startswith(b'{"form":'):
        raise DataError(f"{path}: this file holds something else than a record of volumes; name another")


Figure = FiniteFloat | bool | None
NonEmpty = Annotated[list[dict[str, str | Figure]], Field(min_length=1)]


class _Asked(BaseModel):
    """What was measured, by option; how it was, as far as it is known here."""

    model_config = ConfigDict(extra="allow", strict=True)
    files: dict[str, str] = {}


class _Line(BaseModel):
    """An entry as a line holds it; what else it has is of a later version, and left."""

    model_config = ConfigDict(strict=True)
    date: Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}")]
    name: str
    asked: _Asked
    files: dict[str, str]
    units: str
    rows: NonEmpty

    @field_validator("rows")
    @classmethod
    def _figures_are_numbers(cls, rows: list[dict[str, object]]) -> list[dict[str, object]]:
        if any(isinstance(value, str) for row in rows for key, value in row.items() if key in _FIGURES):
            raise ValueError("a figure is written as text")
        return rows


def read_record(path: Path) -> tuple[list[RecordEntry], list[int]]:
    """Return the entries of a record, and the numbers of invalid lines: cut off by a kill, or changed by hand.

    Parameters
    ----------
    path : Path
        The record (.jsonl).

    Returns
    -------
    entries : list of RecordEntry
    broken : list of int

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> from evrin.recipe import append_entry, read_record
    >>> record = Path(tempfile.mkdtemp()) / "heap.jsonl"
    >>> append_entry(record, "heap", {"level": 0.0}, {}, "m", [{"area": "all", "net": 48.0}], "2026-05-12")
    1
    >>> [entry.name for entry in read_record(record)[0]]
    ['heap']

    Raises
    ------
    DataError
        Where there is no such file, or no entry in it.
    """
    try:
        # Of all signs that end a line for Python, only this one ends an entry.
        lines = path.read_bytes().split(b"\n")
    except OSError as error:
        raise DataError(f"{path}: cannot be read: {error.strerror}") from error
    entries, broken = [], []
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            entries.append(RecordEntry(number, **_Line.model_validate_json(line).model_dump()))
        except ValueError:
            broken.append(number)
    if not entries:
        raise DataError(f"{path}: no entry in it; evrin volume … --append {path} adds one")
    return entries, broken


def changed_files(path: Path, entry: RecordEntry) -> list[str]:
    """Return which files of an entry are missing or have another content now.

    Parameters
    ----------
    path : Path
        Of the record.
    entry : RecordEntry
        The entry to look at.

    Returns
    -------
    list of str
    """
    out = []
    for name, digest in entry.files.items():
        digest_now = file_digest(path.parent / name)
        if not digest_now:
            out.append(f"{name} is missing")
        elif digest_now != digest:
            out.append(f"{name} has changed")
    return out


def disagreements(entry: RecordEntry, rows: list[dict[str, object]]) -> list[str]:
    """Return which figures measured again are not those of an entry.

    Parameters
    ----------
    entry : RecordEntry
        The entry on record.
    rows : list of dict
        The same, measured again.

    Returns
    -------
    list of str
        Such as ``all: net 301.2, now 299.8``.
    """
    now = RecordEntry(line=0, date="", name="", asked={}, files={}, units="", rows=[_plain(row) for row in rows])
    out = []
    for area in sorted({str(row.get("area")) for row in (*entry.rows, *now.rows)}):
        for key in _FIGURES:
            was, made = entry.figure(area, key), now.figure(area, key)
            if np.isnan(was) and np.isnan(made):
                continue
            if not abs(was - made) <= _AGREE * max(abs(was), abs(made), 1.0):
                out.append(f"{area}: {key.replace('_', ' ')} {was:,.3f}, now {made:,.3f}")
    return out


def series_of(entries: list[RecordEntry]) -> pd.DataFrame:
    """Return a row for each entry, by name and date: its volume, ±, and change since the last and the first.

    Parameters
    ----------
    entries : list of RecordEntry
        In the order of the record.

    Returns
    -------
    DataFrame
        Columns ``date``, ``name``, ``method``, ``net``, ``net_95``, ``since_last``, ``since_first``; the first of a
        name has no change.

    Raises
    ------
    DataError
        For entries in more than one unit.
    """
    import pandas as pd

    if len({entry.units for entry in entries}) > 1:
        raise DataError("the entries of the record are in more than one unit; a series needs one")
    ordered = sorted(entries, key=lambda entry: (entry.date, entry.line))
    figures = [(e.figure(_total_of(e), "net"), e.figure(_total_of(e), "net_95")) for e in ordered]
    rows = [
        (entry.date[:10], entry.name, str(entry.rows[-1].get("method", "exact")), *figure)
        for entry, figure in zip(ordered, figures, strict=True)
    ]
    table = pd.DataFrame(rows, columns=["date", "name", "method", "net", "net_95"])
    names = list(dict.fromkeys(table["name"]))
    table = table.sort_values("name", key=lambda column: column.map(names.index), kind="stable", ignore_index=True)
    by_name = table.groupby("name", sort=False)["net"]
    table["since_last"] = by_name.diff()
    table["since_first"] = (table["net"] - by_name.transform("first")).where(by_name.cumcount() > 0)
    return table


def _total_of(entry: RecordEntry) -> str:
    areas = [str(row.get("area")) for row in entry.rows]
    return "all" if "all" in areas else areas[0] if areas else ""
