"""Which shot each vertex of a frozen surface was, as a table beside it."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np

from evrin.errors import DataError
from evrin.formats.files import read_text
from evrin.surface import Shots, Surface

_HEAD = ("vertex", "easting", "northing", "height", "shot", "code", "file", "counts", "line", "made", "changed")


def trace_table(surface: Surface) -> str:
    """Return a table, a row a vertex, of the shot that each vertex of a surface was."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_HEAD)
    known = surface.provenance
    for vertex, (x, y, z) in enumerate(surface.vertices.tolist()):
        row = int(known.shot_of[vertex]) if known is not None else -1
        changed = known.changed.get(vertex, "") if known is not None else ""
        told: list[object] = ["", "", "", "", ""]
        made = known.made.get(vertex, "made vertex") if known is not None and row < 0 else ""
        if known is not None and row >= 0:
            shots, file = known.shots, int(known.shots.file_of[row])
            counts = shots.words[file] if shots.words else "line"
            told = [shots.numbers[row], shots.codes[row], shots.files[file], counts, int(shots.line_of[row])]
        writer.writerow([vertex + 1, repr(x), repr(y), repr(z), *told, made, changed])
    return stream.getvalue()


def traced_shots(path: Path, vertices: np.ndarray) -> Shots:
    """Return what the vertices of a frozen surface were, from the table beside it.

    Raises
    ------
    DataError
        Where the table is none of such a surface.
    """
    rows = list(csv.reader(io.StringIO(read_text(path)[0])))
    if not rows or tuple(rows[0]) != _HEAD:
        raise DataError(f"{path}: this is no table of a frozen surface; its first row must read {','.join(_HEAD)}")
    if any(len(row) != len(_HEAD) for row in rows[1:]):
        raise DataError(f"{path}: a row does not have {len(_HEAD)} columns")
    try:
        at = {tuple(float(value) for value in row[1:4]): row for row in rows[1:]}
        chosen = [at[x, y, z] for x, y, z in vertices.tolist()]
    except KeyError as error:
        what = f"there is no row for the vertex at {error}; surface and table do not go together"
        raise DataError(f"{path}: {what}") from error
    except ValueError as error:
        raise DataError(f"{path}: {error}") from error
    files: dict[tuple[str, str], int] = {}
    for row in chosen:
        files.setdefault((row[6] or (row[9] or "made vertex"), row[7] or "vertex"), len(files))
    file_of = np.array([files[row[6] or (row[9] or "made vertex"), row[7] or "vertex"] for row in chosen], np.int32)
    line_of = np.array([int(row[8] or row[0]) for row in chosen], np.int64)
    numbers, codes = np.empty(len(chosen), object), np.empty(len(chosen), object)
    numbers[:] = [row[4] for row in chosen]
    codes[:] = [f"{row[5]} ({row[10]})".strip() if row[10] else row[5] for row in chosen]
    return Shots(tuple(name for name, _ in files), file_of, line_of, numbers, codes, tuple(word for _, word in files))
