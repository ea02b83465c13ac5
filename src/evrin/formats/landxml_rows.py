"""The rows of a LandXML surface: its points with their labels, and its faces."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any
from xml.sax.saxutils import escape

import numpy as np
from numpy.typing import NDArray

from evrin.formats.digits import Bytes, write_faces, write_labels, write_points
from evrin.surface import Surface
from evrin.surface.provenance import Texts
from evrin.tin.types import Indices, Ints
from evrin.wording import one_line

_CHUNK = 50_000
_WIDEST = 200
_SEPARATOR = "\x1f"
# What has to be spelt otherwise in an attribute, or is spelt out wherever Evrin writes a text of others.
_UNUSUAL = re.compile(r"[^ !#$%()*+,\-./0-9:;=?@A-Z\[\\\]^_`a-z{|}~\x1f]")


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


def _joined(*parts: str) -> tuple[Bytes, Ints]:
    at = np.cumsum([0, *map(len, parts)]).astype(np.int32)
    return np.frombuffer("".join(parts).encode(), np.uint8), at


def _labels(surface: Surface) -> tuple[Bytes, Indices]:
    """Name, code and description of each point as attributes, one behind the other, and where each begins."""
    count = len(surface.vertices)
    if surface.provenance is None:
        return np.empty(0, np.uint8), np.zeros(count + 1, np.int64)
    shots, rows = surface.provenance.shots, surface.provenance.shot_of
    columns = {"name": shots.numbers, "code": shots.codes, "desc": shots.descriptions}
    texts = {key: _attributes(column, rows) for key, column in columns.items() if column is not None and len(column)}
    wholes = ["".join(found) for found in texts.values()]
    ends = np.zeros((len(texts), count + 1), np.int64)
    for row, (whole, found) in enumerate(zip(wholes, texts.values(), strict=True)):
        sizes = map(len, found) if whole.isascii() else (len(text.encode()) for text in found)
        np.cumsum(np.fromiter(sizes, np.int64, count), out=ends[row, 1:])
    ends += np.cumsum([0, *(each[-1] for each in ends)])[: len(ends), None]
    data = np.frombuffer("".join(wholes).encode(), np.uint8)
    marks, marks_at = _joined(*(f' {key}="' for key in texts))
    out = np.empty(len(data) + 8 * len(texts) * count, np.uint8)
    label_at = np.zeros(count + 1, np.int64)
    size = write_labels(data, ends, marks, marks_at, out, label_at)
    return out[:size], label_at


def _attributes(texts: Texts, rows: Ints) -> list[str]:
    """The text of each point as an attribute has it, empty where it has none."""
    found: list[Any] = texts[np.maximum(rows, 0)].tolist()
    for row in np.flatnonzero(rows < 0).tolist():
        found[row] = ""
    if _UNUSUAL.search(_SEPARATOR.join(found)) is None:
        return found
    known = {text: escape(one_line(text), {'"': "&quot;"}) for text in set(found)}
    return [known[text] for text in found]
