"""The table of vertices beside a frozen surface: the shot behind each."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.base.files import read_text
from evrin.formats.door.intake import Transformation
from evrin.kernels import Floats
from evrin.surface.provenance import Shots
from evrin.surface.surface import Surface

_HEAD = (
    "vertex",
    "easting",
    "northing",
    "height",
    "shot",
    "code",
    "file",
    "counts",
    "line",
    "added",
    "changed",
    "description",
)


def trace_table(surface: Surface) -> str:
    """Return a table, a row a vertex, of the shot behind each vertex of a surface."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_HEAD)
    provenance = surface.provenance
    for vertex, (x, y, z) in enumerate(surface.vertices.tolist()):
        row = int(provenance.shot_of[vertex]) if provenance is not None else -1
        changed = provenance.changed.get(vertex, "") if provenance is not None else ""
        known_of: list[object] = ["", "", "", "", ""]
        description = ""
        made = provenance.made.get(vertex, "added vertex") if provenance is not None and row < 0 else ""
        if provenance is not None and row >= 0:
            shots, file = provenance.shots, int(provenance.shots.file_of[row])
            counts = shots.words[file] if shots.words else "line"
            known_of = [shots.numbers[row], shots.codes[row], shots.files[file], counts, int(shots.line_of[row])]
            description = str(shots.descriptions[row]) if shots.descriptions is not None else ""
        writer.writerow([vertex + 1, repr(x), repr(y), repr(z), *known_of, made, changed, description])
    return stream.getvalue()


def traced_shots(path: Path, vertices: Floats, transformation: Transformation) -> Shots:
    """Return the shots behind the vertices of a frozen surface, from the table beside it.

    Parameters
    ----------
    path : Path
        The table of vertices.
    vertices : (n, 3) float64
        Of the surface, in the site's coordinates.
    transformation : Transformation
        How those of its file became them; the table's are the file's.

    Raises
    ------
    DataError
        Where the table is not of this surface.
    """
    rows = list(csv.reader(io.StringIO(read_text(path)[0])))
    if not rows or tuple(rows[0]) != _HEAD:
        raise DataError(f"{path}: not a table of a frozen surface. Its first row must be {','.join(_HEAD)}")
    if any(len(row) != len(_HEAD) for row in rows[1:]):
        raise DataError(f"{path}: a row does not have {len(_HEAD)} columns")
    try:
        written = np.array([[float(value) for value in row[1:4]] for row in rows[1:]]).reshape(-1, 3)
        places = transformation.places(written).tolist()
        at = {tuple(place): row for place, row in zip(places, rows[1:], strict=True)}
        chosen = [at[x, y, z] for x, y, z in vertices.tolist()]
    except KeyError as error:
        what = f"no row for the vertex at {error}. The table belongs to another surface"
        raise DataError(f"{path}: {what}") from error
    except ValueError as error:
        raise DataError(f"{path}: {error}") from error
    files: dict[tuple[str, str], int] = {}
    for row in chosen:
        files.setdefault((row[6] or (row[9] or "added vertex"), row[7] or "vertex"), len(files))
    file_of = np.array([files[row[6] or (row[9] or "added vertex"), row[7] or "vertex"] for row in chosen], np.int32)
    line_of = np.array([int(row[8] or row[0]) for row in chosen], np.int64)
    numbers, codes = np.empty(len(chosen), object), np.empty(len(chosen), object)
    numbers[:] = [row[4] for row in chosen]
    codes[:] = [f"{row[5]} ({row[10]})".strip() if row[10] else row[5] for row in chosen]
    descriptions = np.array([row[11] for row in chosen], object)
    names, words = tuple(name for name, _ in files), tuple(word for _, word in files)
    return Shots(
        files=names,
        file_of=file_of,
        line_of=line_of,
        numbers=numbers,
        codes=codes,
        words=words,
        descriptions=descriptions if (descriptions != "").any() else None,
    )
