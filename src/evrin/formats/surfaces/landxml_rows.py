"""The rows of a LandXML surface: its points with their labels, and its faces."""

from __future__ import annotations

import string
from collections.abc import Iterator
from xml.sax.saxutils import escape

import numpy as np
from numpy.typing import NDArray

from evrin.base.progress import reached
from evrin.base.wording import one_line
from evrin.formats.fast.decimal_digits import write_faces, write_labels, write_points
from evrin.kernels import Bytes, Indices, Ints
from evrin.kernels.text_column import SEPARATOR, TextColumn, Texts
from evrin.surface.surface import Surface

_CHUNK = 50_000
_WIDEST = 200
# The others have to be escaped in an attribute, or are escaped wherever Evrin writes a text of others.
_USUAL = (string.ascii_letters + string.digits + " !#$%()*+,-./:;=?@[\\]^_`{|}~" + SEPARATOR).encode()


def point_rows(surface: Surface) -> Iterator[bytes]:
    """Return the points as rows of bytes, to the last bit, a chunk at a time."""
    labels, ends = _labels(surface)
    marks, marks_at = _joined('<P id="', '"', ">", " ", "</P>\n")
    for first in range(0, len(surface.vertices), _CHUNK):
        rows = np.ascontiguousarray(surface.vertices[first : first + _CHUNK])
        at = ends[first : first + len(rows) + 1]
        out = np.empty(len(rows) * _WIDEST + int(at[-1] - at[0]), np.uint8)
        size = write_points(rows, first + 1, marks, marks_at, labels, at, out)
        yield out[:size].tobytes() if size >= 0 else _long_rows(rows, first + 1, labels, at)
        reached(first + len(rows), len(surface.vertices), "points")


def _long_rows(rows: NDArray[np.float64], first: int, labels: Bytes, at: Indices) -> bytes:
    """Rows some of whose numbers take more digits than are written quickly."""
    texts = [labels[a:b].tobytes().decode() for a, b in zip(at[:-1].tolist(), at[1:].tolist(), strict=True)]
    return "".join(
        f'<P id="{k}"{label}>{y!r} {x!r} {z!r}</P>\n'
        for k, (label, (x, y, z)) in enumerate(zip(texts, rows.tolist(), strict=True), first)
    ).encode()


def face_rows(surface: Surface) -> Iterator[bytes]:
    """Return the faces as rows of bytes, a chunk at a time, those that are hidden last."""
    for triangles, start in ((surface.triangles, "<F>"), (surface.hidden, '<F i="1">')):
        marks, marks_at = _joined(start, " ", "</F>\n")
        for first in range(0, len(triangles), _CHUNK):
            rows = np.ascontiguousarray(triangles[first : first + _CHUNK], np.int32)
            out = np.empty(len(rows) * _WIDEST, np.uint8)
            yield out[: write_faces(rows, marks, marks_at, out)].tobytes()
            reached(first + len(rows), len(triangles), "triangles")


def _joined(*parts: str) -> tuple[Bytes, Ints]:
    at = np.cumsum([0, *map(len, parts)]).astype(np.int32)
    return np.frombuffer("".join(parts).encode(), np.uint8), at


def _labels(surface: Surface) -> tuple[Bytes, Indices]:
    """Name, code and description of each point as attributes, one behind the other, and where each begins."""
    count = len(surface.vertices)
    if surface.provenance is None:
        return np.empty(0, np.uint8), np.zeros(count + 1, np.int64)
    shots, rows = surface.provenance.shots, surface.provenance.shot_of
    texts = {"name": shots.as_given("numbers"), "code": shots.as_given("codes"), "desc": shots.descriptions}
    columns = {key: _attributes(column) for key, column in texts.items() if column is not None and len(column)}
    spans = np.zeros((len(columns), count, 2), np.int64)
    found_rows, first = np.flatnonzero(rows >= 0), 0
    for k, column in enumerate(columns.values()):
        spans[k, found_rows] = first + column.spans(rows[found_rows])
        first += len(column.kept.data)
    data = np.concatenate([np.empty(0, np.uint8), *(column.kept.data for column in columns.values())])
    marks, marks_at = _joined(*(f' {key}="' for key in columns))
    widest = int((spans[..., 1] - spans[..., 0]).sum()) + 8 * len(columns) * count
    out, label_at = np.empty(widest, np.uint8), np.zeros(count + 1, np.int64)
    return out[: write_labels(data, spans, marks, marks_at, out, label_at)], label_at


def _attributes(texts: Texts | TextColumn) -> TextColumn:
    """Texts as attributes have them."""
    if isinstance(texts, TextColumn):
        column = texts
    elif (given := TextColumn.of(texts)) is not None:
        column = given
    else:
        return _made(texts.tolist())
    if not column.kept.data.tobytes().translate(None, _USUAL):
        return column
    return TextColumn(_made(column.kept.all.tolist()).kept, column.rows)


def _made(texts: list[str]) -> TextColumn:
    escaped = {text: escape(one_line(text), {'"': "&quot;"}) for text in set(texts)}
    column = TextColumn.of(np.array([escaped[text] for text in texts], object))
    if column is None:
        raise ValueError("a text on one line holds no separator")
    return column
