"""The plain entities of a DXF drawing, read from the bytes as they stream by: faces, points and lines.

A drawing of a surface is hundreds of thousands of faces and little else. Those are taken out here, and what remains is
a small drawing for the package that knows every kind of entity.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from evrin.formats.fast.decimal_digits import read_number, read_whole
from evrin.kernels import (
    Bytes,
    Flags,
    Floats,
    FloatStacks,
    IndexRows,
    Indices,
    Ints,
    Mutable,
    as_index,
    lean,
    lean_kernel,
)

_MOST_BYTES = 2_000_000_000
_LEAST_ENTITIES = 1000
FACE, DOT, SEGMENT = 1, 2, 3
_CORNERS = {FACE: 4, DOT: 1, SEGMENT: 2}
_SECTION = re.compile(rb"\n[ \t]*2[ \t]*\r?\n[ \t]*ENTITIES[ \t]*\r?\n")
# What else could come between points, or between lines, and be numbered with them.
_OTHER_ROWS = re.compile(rb"\n[ \t]*0[ \t]*\r?\n[ \t]*(TEXT|MTEXT|INSERT)[ \t]*\r?\n")
_OTHER_LINES = re.compile(
    rb"\n[ \t]*0[ \t]*\r?\n[ \t]*(LWPOLYLINE|POLYLINE|ARC|CIRCLE|ELLIPSE|SPLINE|INSERT)[ \t]*\r?\n"
)
_NEW_LINE, _RETURN, _BLANK, _TAB = 10, 13, 32, 9
_PLAIN_LAYER = re.compile(r"[ -$&-\[\]-~]*")


@dataclass
class Streamed:
    """Entities of one kind: their corners, layers and handles.

    Attributes
    ----------
    corners : (n, k, 3) float64
        A face of three corners has its third twice.
    layer_of : (n,) int32
        Entry of *layers* of each.
    layers : list of str
        Names of layers.
    handles : (n,) int64
        Handle of each in the drawing.
    """

    corners: Floats
    layer_of: Ints
    layers: list[str]
    handles: Indices

    def by_layer(self) -> list[tuple[str, Floats]]:
        """Corners by layer, in the order in which layers come first."""
        return [(name, self.corners[self.layer_of == k]) for k, name in enumerate(self.layers)]


class EntityArrays(NamedTuple):
    """What entities hold, a row for each, and the numbers that are read one by one: row, corner, axis, start, stop."""

    kind_of: Mutable[Ints]
    numbers: Mutable[FloatStacks]
    spans: Mutable[IndexRows]
    layers: Mutable[IndexRows]
    handles: Mutable[Indices]
    hard: Mutable[IndexRows]


def streamed(path: Path) -> tuple[dict[int, Streamed], bytes | None] | None:
    """Return plain entities by kind, and the drawing without them, None where nothing else is left of its entities.

    None where the drawing has few of them, or where any of a kind that is taken is unusual.
    """
    if path.stat().st_size > _MOST_BYTES:
        return None
    data = path.read_bytes()
    opening = _SECTION.search(data)
    if opening is None or data.count(b"3DFACE") + data.count(b"POINT") + data.count(b"LINE") < _LEAST_ENTITIES:
        return None
    section = data[opening.end() :]
    others, first = {DOT: _OTHER_ROWS, SEGMENT: _OTHER_LINES}, opening.end() - 1
    kinds = {FACE, *(kind for kind, pattern in others.items() if not pattern.search(data, first))}
    stream = _read(section, kinds)
    if stream is None:
        return None
    entities, spans, has_rest = stream
    if not entities:
        return None
    parts, done = [data[: opening.end()]], 0
    for start, stop in spans:
        parts.append(section[done:start])
        done = stop
    rest = b"".join([*parts, section[done:]]) if has_rest else None
    return entities, rest


def _read(section: bytes, kinds: set[int]) -> tuple[dict[int, Streamed], list[tuple[int, int]], bool] | None:
    most = section.count(b"3DFACE") + section.count(b"POINT") + section.count(b"LINE")
    kind_of, handles = np.empty(most, np.int32), np.empty(most, np.int64)
    numbers, spans = np.full((most, 4, 3), np.nan), np.zeros((most, 2), np.int64)
    layers, hard = np.zeros((most, 2), np.int64), np.zeros((most // 4 + 1000, 5), np.int64)
    wanted = np.array([k in kinds for k in range(4)])
    counts = np.zeros(3, np.int64)
    data = np.frombuffer(section, np.uint8)
    _read_entities(
        data,
        wanted,
        EntityArrays(kind_of=kind_of, numbers=numbers, spans=spans, layers=layers, handles=handles, hard=hard),
        counts,
    )
    count, rest, hards = counts.tolist()
    if count < 0:
        return None
    for row, corner, axis, start, stop in hard[:hards].tolist():
        try:
            numbers[row, corner, axis] = float(section[start:stop])
        except ValueError:
            return None
    layer_of, named = _layers(section, layers[:count])
    if named is None or (rest and (handles[:count] < 0).any()):
        return None
    # Without a handle, an entity is known by its place among all.
    handles[:count] = np.where(handles[:count] < 0, np.arange(1, count + 1), handles[:count])
    out = {}
    for kind in sorted(kinds):
        rows = np.flatnonzero(kind_of[:count] == kind)
        if len(rows):
            own, first = np.unique(layer_of[rows], return_index=True)
            order = own[np.argsort(first)]
            place = np.full(len(named), -1, np.int32)
            place[order] = np.arange(len(order))
            corners = numbers[rows, : _CORNERS[kind]]
            out[kind] = Streamed(corners, place[layer_of[rows]], [named[k] for k in order.tolist()], handles[rows])
    return out, [(int(a), int(b)) for a, b in _runs(spans[:count])], bool(rest)


def _runs(spans: NDArray[np.int64]) -> NDArray[np.int64]:
    """Join spans that follow one another."""
    if not len(spans):
        return spans
    begins = np.flatnonzero(np.append(True, spans[1:, 0] != spans[:-1, 1]))
    return np.column_stack((spans[begins, 0], spans[np.append(begins[1:] - 1, len(spans) - 1), 1]))


def _layers(section: bytes, spans: NDArray[np.int64]) -> tuple[NDArray[np.int64], list[str] | None]:
    """Number the layers; none where a name is written in a way of its own."""
    number_of: dict[bytes, int] = {}
    layer_of = np.fromiter(
        (number_of.setdefault(section[a:b], len(number_of)) for a, b in spans.tolist()), np.int64, len(spans)
    )
    named = [name.decode("latin-1") for name in number_of]
    return layer_of, named if all(_PLAIN_LAYER.fullmatch(name) and name for name in named) else None


@lean
def _line_end(data: Bytes, at: int) -> tuple[int, int]:
    """Where the line that begins at a byte ends, blanks behind it left out, and where the next begins; -1 for none."""
    end = as_index(data.shape[0])
    stop = at
    while stop < end and data[stop] != _NEW_LINE:
        stop += 1
    if stop == end:
        return -1, -1
    after = stop + 1
    while stop > at and (data[stop - 1] == _RETURN or data[stop - 1] == _BLANK or data[stop - 1] == _TAB):
        stop -= 1
    return stop, after


@lean
def _after_blanks(data: Bytes, at: int, stop: int) -> int:
    while at < stop and (data[at] == _BLANK or data[at] == _TAB):
        at += 1
    return at


@lean
def _kind(data: Bytes, at: int, stop: int) -> int:
    size = stop - at
    if size == 6 and data[at] == 51 and data[at + 1] == 68 and data[at + 2] == 70 and data[at + 3] == 65:
        return FACE
    if size == 5 and data[at] == 80 and data[at + 1] == 79 and data[at + 2] == 73 and data[at + 4] == 84:
        return DOT
    if size == 4 and data[at] == 76 and data[at + 1] == 73 and data[at + 2] == 78 and data[at + 3] == 69:
        return SEGMENT
    if size == 6 and data[at] == 69 and data[at + 1] == 78 and data[at + 2] == 68 and data[at + 3] == 83:
        return -1
    return 0


@lean
def _hexadecimal(data: Bytes, at: int, stop: int) -> int:
    if stop <= at or stop - at > 15:
        return -1
    value = as_index(0)
    for k in range(at, stop):
        byte = as_index(data[k])
        if 48 <= byte <= 57:
            digit = byte - 48
        elif 65 <= byte <= 70:
            digit = byte - 55
        elif 97 <= byte <= 102:
            digit = byte - 87
        else:
            return -1
        value = value * 16 + digit
    return value


@lean
def _is_let_be(code: int) -> bool:
    """Whether a group changes nothing that is read: subclass marks, colours, line types, owners, notes of programs."""
    return code in (100, 102, 330, 360, 6, 62, 370, 420, 430, 440, 48, 39, 70, 347, 348, 390, 284, 50, 999, 1001) or (
        1000 <= code <= 1071
    )


@lean
def _is_hard(hard: IndexRows, hards: int, row: int, corner: int, axis: int) -> bool:
    k = hards - 1
    while k >= 0 and hard[k, 0] == row:
        if hard[k, 1] == corner and hard[k, 2] == axis:
            return True
        k -= 1
    return False


@lean
def _is_complete(entities: EntityArrays, row: int, hards: int) -> bool:
    """Whether all corners are there, the fourth of a face apart, which has its third again where it is not stated."""
    kind, numbers, hard = entities.kind_of[row], entities.numbers, entities.hard
    corners = 3 if kind == FACE else (2 if kind == SEGMENT else 1)
    for k in range(corners):
        for axis in range(2):
            if numbers[row, k, axis] != numbers[row, k, axis] and not _is_hard(hard, hards, row, k, axis):
                return False
    if kind == FACE and numbers[row, 3, 0] != numbers[row, 3, 0] and not _is_hard(hard, hards, row, 3, 0):
        for axis in range(3):
            if _is_hard(hard, hards, row, 2, axis):
                return False
            numbers[row, 3, axis] = numbers[row, 2, axis]
    return True


@lean
def _begin(entities: EntityArrays, row: int, kind: int, start: int) -> None:
    entities.kind_of[row] = kind
    entities.spans[row, 0] = start
    entities.layers[row, 0] = entities.layers[row, 1] = 0
    entities.handles[row] = -1
    for k in range(4):
        # A height that is not stated is zero.
        entities.numbers[row, k, 0] = entities.numbers[row, k, 1] = np.nan
        entities.numbers[row, k, 2] = 0.0


@lean
def _take_number(data: Bytes, value: int, stop: int, code: int, entities: EntityArrays, row: int, hards: int) -> int:
    """Take in a coordinate; return how many long numbers there are then, -1 where they are too many."""
    number, end = read_number(data, value)
    corner, axis = code % 10, code // 10 - 1
    if end == stop:
        entities.numbers[row, corner, axis] = number
        return hards
    if hards == entities.hard.shape[0]:
        return -1
    hard = entities.hard
    hard[hards, 0], hard[hards, 1], hard[hards, 2], hard[hards, 3], hard[hards, 4] = row, corner, axis, value, stop
    return hards + 1


@lean_kernel
def _read_entities(data: Bytes, wanted: Flags, entities: EntityArrays, counts: Mutable[Indices]) -> None:
    """Fill what entities of the kinds wanted hold; counts: how many (-1 where one is unusual), others, long numbers."""
    row = as_index(0)
    others = as_index(0)
    hards = as_index(0)
    at = as_index(0)
    counts[0] = -1
    is_open = False
    is_plain = False
    while True:
        start = at
        code_stop, after = _line_end(data, at)
        if code_stop < 0:
            return
        code = read_whole(data, _after_blanks(data, at, code_stop), code_stop)
        value = after
        stop, after = _line_end(data, value)
        if stop < 0 or code < 0:
            return
        value = _after_blanks(data, value, stop)
        at = after
        if code == 0:
            if is_open:
                if not (is_plain and entities.layers[row, 1] > 0 and _is_complete(entities, row, hards)):
                    return
                entities.spans[row, 1] = start
                row += 1
            kind = _kind(data, value, stop)
            if kind < 0:
                counts[0], counts[1], counts[2] = row, others, hards
                return
            is_open = kind > 0 and wanted[kind]
            is_plain = True
            if is_open:
                _begin(entities, row, kind, start)
            else:
                others += 1
        elif not is_open:
            continue
        elif code == 8:
            entities.layers[row, 0], entities.layers[row, 1] = value, stop
        elif code == 5:
            entities.handles[row] = _hexadecimal(data, value, stop)
        elif 10 <= code <= 39 and code % 10 <= 3:
            hards = _take_number(data, value, stop, code, entities, row, hards)
            if hards < 0:
                return
        elif not _is_let_be(code):
            is_plain = False
