"""A record of volumes: dated entries added to one file, none of them ever rewritten, each of which can be made again.

A record is JSON Lines (https://jsonlines.org): one entry, one line.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import numpy as np

from evrin.errors import DataError
from evrin.recipe.keeping.digests import file_digest

if TYPE_CHECKING:
    import pandas as pd

_FORM = 1
# Figures made again from the same files on another machine may differ by what rounding leaves.
_AGREE = 1e-9
_FIGURES = ("cut", "fill", "net", "net_95", "no_change_area", "only_base", "only_top", "neither")


@dataclass(frozen=True)
class Entry:
    """One entry of a record.

    Attributes
    ----------
    line : int
        Of the record, from 1.
    date : str
        ISO, in UTC.
    name : str
    asked : dict
        What was measured: files by the part they play, and every choice, as the command takes them.
    files : dict of str to str
        Digest of each file, by its path from the record's folder.
    units : str
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
    asked: dict[str, Any]
    files: dict[str, str]
    units: str
    rows: list[dict[str, Any]]

    def figure(self, area: str, key: str) -> float:
        """Return a figure of an area, NaN where there is none.

        Parameters
        ----------
        area, key : str

        Returns
        -------
        float
        """
        found = [row.get(key) for row in self.rows if row.get("area") == area]
        return float(found[0]) if found and found[0] is not None else float("nan")


@contextmanager
def _locked(stream: IO[bytes]) -> Any:
    """Let one writer at a time into a record; where the system has no locks for files, a line is still whole."""
    try:
        import fcntl
    except ImportError:
        yield
        return
    fcntl.flock(stream, fcntl.LOCK_EX)
    try:
        yield
    finally:
        fcntl.flock(stream, fcntl.LOCK_UN)


def append_entry(
    path: Path,
    name: str,
    asked: Mapping[str, Any],
    files: Mapping[str, Path],
    units: str,
    rows: list[dict[str, Any]],
    date: str = "",
) -> int:
    """Add one entry at the end of a record, which is made where it is not there; return its line.

    Whatever is in the record stays as it is. Two writers wait for one another; an entry cut off by a kill is closed by
    a line of its own before the next is added.

    Parameters
    ----------
    path : Path
    name : str
    asked : mapping
        What was measured, by option.
    files : mapping of str to Path
        What it rests on, by the part that each plays.
    units : str
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
        with path.open("a+b") as stream, _locked(stream):
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


def _date(text: str) -> str:
    if not text:
        return datetime.now(UTC).isoformat(timespec="seconds")
    try:
        return (
            datetime.fromisoformat(text).isoformat(timespec="seconds") if "T" in text else str(np.datetime64(text, "D"))
        )
    except ValueError as error:
        raise DataError(f"{text!r} is not a date; write it as in 2026-05-31") from error


def _plain(row: Mapping[str, Any]) -> dict[str, Any]:
    return {key: (None if isinstance(value, float) and not np.isfinite(value) else value) for key, value in row.items()}


def _checked_first(path: Path, content: bytes) -> None:
    """Refuse to add to a file that is something else."""
    first = content.partition(b"\n")[0]
    if first and not first.startswith(b'{"form":'):
        raise DataError(f"{path}: this file holds something else than a record of volumes; name another")


def read_record(path: Path) -> tuple[list[Entry], list[int]]:
    """Return the entries of a record, and the lines that are none: cut off by a kill, or changed by hand.

    Parameters
    ----------
    path : Path

    Returns
    -------
    entries : list of Entry
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
        lines = path.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError as error:
        raise DataError(f"{path}: cannot be read: {error.strerror}") from error
    entries, broken = [], []
    for number, text in enumerate(lines, 1):
        if not text.strip():
            continue
        try:
            raw = json.loads(text)
            values = [raw[key] for key in ("date", "name", "asked", "files", "units", "rows")]
        except (ValueError, KeyError, TypeError):
            broken.append(number)
            continue
        entries.append(Entry(number, *values))
    if not entries:
        raise DataError(f"{path}: no entry in it; evrin volume … --append {path} adds one")
    return entries, broken


def changed_files(path: Path, entry: Entry) -> list[str]:
    """Return which files of an entry are missing or have another content now.

    Parameters
    ----------
    path : Path
        Of the record.
    entry : Entry

    Returns
    -------
    list of str
    """
    out = []
    for name, digest in entry.files.items():
        file = path.parent / name
        if not file.is_file():
            out.append(f"{name} is missing")
        elif file_digest(file) != digest:
            out.append(f"{name} has changed")
    return out


def disagreements(entry: Entry, rows: list[dict[str, Any]]) -> list[str]:
    """Return which figures made anew are not those of an entry.

    Parameters
    ----------
    entry : Entry
    rows : list of dict

    Returns
    -------
    list of str
        Such as ``all: net 301.2, now 299.8``.
    """
    now = Entry(0, "", "", {}, {}, "", [_plain(row) for row in rows])
    out = []
    for area in sorted({str(row.get("area")) for row in (*entry.rows, *now.rows)}):
        for key in _FIGURES:
            was, made = entry.figure(area, key), now.figure(area, key)
            if np.isnan(was) and np.isnan(made):
                continue
            if not abs(was - made) <= _AGREE * max(abs(was), abs(made), 1.0):
                out.append(f"{area}: {key.replace('_', ' ')} {was:,.3f}, now {made:,.3f}")
    return out


def series_of(entries: list[Entry]) -> pd.DataFrame:
    """Return a row for each entry, by name and date: its volume, ±, and change since the last and the first.

    Parameters
    ----------
    entries : list of Entry

    Returns
    -------
    DataFrame
        Columns ``date``, ``name``, ``net``, ``net_95``, ``since_last``, ``since_first``; the first of a name has no
        change.

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
    rows = [(entry.date[:10], entry.name, *figure) for entry, figure in zip(ordered, figures, strict=True)]
    table = pd.DataFrame(rows, columns=["date", "name", "net", "net_95"])
    names = list(dict.fromkeys(table["name"]))
    table = table.sort_values("name", key=lambda column: column.map(names.index), kind="stable", ignore_index=True)
    by_name = table.groupby("name", sort=False)["net"]
    table["since_last"] = by_name.diff()
    table["since_first"] = (table["net"] - by_name.transform("first")).where(by_name.cumcount() > 0)
    return table


def _total_of(entry: Entry) -> str:
    areas = [str(row.get("area")) for row in entry.rows]
    return "all" if "all" in areas else areas[0] if areas else ""
