"""The points and faces of LandXML that are written plainly, read from the bytes; the parser then reads all the rest.

A block is what is between ``<Pnts>`` and its end, or ``<Faces>`` and its end. One with anything unusual in it, such
as an entity, stays where it is for the parser.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from evrin.formats.fast.decimal_digits import read_number, read_whole
from evrin.kernels import (
    Bytes,
    Flags,
    FloatRows,
    Floats,
    IndexRows,
    IndexStacks,
    Indices,
    Mutable,
    as_index,
    lean,
    lean_kernel,
)

_MOST_BYTES = 2_000_000_000
_LARGEST = 1e12
_OPENING = re.compile(rb"<(Pnts|Faces)(?:\s[^<>]*)?(?<!/)>")
# Where any of these occurs, what looks like a block may be none.
_UNUSUAL = (b"<!", b"\x00", b":Pnts", b":Faces")
_EMPTY = re.compile(rb"<(Pnts|Faces)(\s[^<>]*)?/>")
_STATED = re.compile(rb"""<\?xml[^>]*encoding\s*=\s*["']([^"']*)""")
_SPACES = (32, 9, 10, 13)
_LESS, _MORE, _SLASH, _EQUALS, _AMPERSAND = 60, 62, 47, 61, 38
_QUOTES = (34, 39)
_P, _F = 80, 70


@dataclass
class PointBlock:
    """Points: their ids, numbers as they are written, lines in the file; name, code and description of each or none."""

    ids: Indices
    numbers: Floats
    line_of: Indices
    labels: list[list[str]] | None


@dataclass
class FaceBlock:
    """Faces: the ids of their corners one after the other, how many each has, and those that are hidden."""

    corners: Indices
    sides: Indices
    hidden: Indices


Block = PointBlock | FaceBlock | None


def without_blocks(path: Path) -> tuple[bytes, list[Block]] | None:
    """Return a file without its plain blocks, line for line, and all blocks in turn, None for one that is not plain.

    None where the file is too large to be held, or nothing in it can be read so.
    """
    if path.stat().st_size > _MOST_BYTES:
        return None
    data = path.read_bytes()
    stated = _STATED.match(data[:400].lstrip(b"\xef\xbb\xbf \r\n\t"))
    if (
        any(each in data for each in _UNUSUAL)
        or _EMPTY.search(data)
        or (stated and stated[1].lower() not in (b"utf-8", b"us-ascii"))
    ):
        return None
    parts, blocks, done, line = list[bytes](), list[Block](), 0, 1
    for start, stop, is_points in _blocks(data):
        line += data.count(b"\n", done, start)
        lines = data.count(b"\n", start, stop)
        block = _points(data, start, stop, line) if is_points else _faces(data, start, stop)
        blocks.append(block)
        parts.append(data[done:start])
        parts.append(data[start:stop] if block is None else b"\n" * lines)
        done, line = stop, line + lines
    return (b"".join([*parts, data[done:]]), blocks) if any(each is not None for each in blocks) else None


def _blocks(data: bytes) -> Iterator[tuple[int, int, bool]]:
    at = 0
    while (opening := _OPENING.search(data, at)) is not None:
        stop = data.find(b"</" + opening[1] + b">", opening.end())
        if stop < 0:
            return
        yield opening.end(), stop, opening[1] == b"Pnts"
        at = stop


def _points(data: bytes, start: int, stop: int, line: int) -> PointBlock | None:
    most = data.count(b"<P", start, stop)
    ids, line_of, numbers = np.empty(most, np.int64), np.empty(most, np.int64), np.empty((most, 3))
    spans, where = np.zeros((most, 3, 2), np.int64), np.empty((most, 3, 2), np.int64)
    count = _read_points(np.frombuffer(data, np.uint8), start, stop, line, ids, numbers, line_of, spans, where)
    if count != most:
        return None
    for row, column in zip(*np.nonzero(np.isnan(numbers)), strict=True):
        # More digits than are read exactly here.
        try:
            numbers[row, column] = float(data[slice(*where[row, column].tolist())])
        except ValueError:
            return None
    if not (np.abs(numbers) <= _LARGEST).all():
        return None
    return PointBlock(ids, numbers, line_of, _labels(data, spans) if spans.any() else None)


def _labels(data: bytes, spans: NDArray[np.int64]) -> list[list[str]]:
    first, last = int(spans[spans > 0].min()), int(spans.max())
    text = data[first:last]
    out = []
    for column in range(3):
        ends = np.maximum(spans[:, column] - first, 0).tolist()
        if text.isascii():
            whole = text.decode("ascii")
            out.append([whole[a:b] for a, b in ends])
        else:
            out.append([text[a:b].decode() for a, b in ends])
    return out


def _faces(data: bytes, start: int, stop: int) -> FaceBlock | None:
    most = data.count(b"<F", start, stop)
    corners, sides, hidden = np.empty((most, 4), np.int64), np.empty(most, np.int64), np.empty(most, np.bool_)
    count = _read_faces(np.frombuffer(data, np.uint8), start, stop, corners, sides, hidden)
    if count != most:
        return None
    flat = corners[~hidden][np.arange(4) < sides[~hidden, None]]
    return FaceBlock(flat, sides[~hidden], corners[hidden & (sides == 3), :3].ravel())


@lean
def _is_space(byte: int) -> bool:
    return byte in _SPACES


@lean
def _after_spaces(data: Bytes, at: int, stop: int) -> int:
    while at < stop and _is_space(as_index(data[at])):
        at += 1
    return at


@lean
def _attribute(data: Bytes, at: int, stop: int) -> tuple[int, int, int, int]:
    """Of the attribute that begins at a byte: where its name ends, its value begins and ends, and it is over; or -1."""
    name_end = at
    while name_end < stop and data[name_end] != _EQUALS and not _is_space(as_index(data[name_end])):
        if data[name_end] in (_LESS, _MORE, _SLASH):
            return -1, -1, -1, -1
        name_end += 1
    opening = _after_spaces(data, name_end, stop)
    if opening >= stop or data[opening] != _EQUALS:
        return -1, -1, -1, -1
    opening = _after_spaces(data, opening + 1, stop)
    if opening >= stop or data[opening] not in _QUOTES:
        return -1, -1, -1, -1
    end = opening + 1
    while end < stop and data[end] != data[opening]:
        # A line end in an attribute is read as a blank.
        if data[end] in (_AMPERSAND, _LESS, 9, 10, 13):
            return -1, -1, -1, -1
        end += 1
    return (name_end, opening + 1, end, end + 1) if end < stop else (-1, -1, -1, -1)


@lean
def _is_id(data: Bytes, at: int, end: int) -> bool:
    return end - at == 2 and data[at] == 105 and data[at + 1] == 100


@lean
def _label_column(data: Bytes, at: int, end: int) -> int:
    """0 for name, 1 for code, 2 for desc, -1 for any other attribute."""
    if end - at != 4:
        return -1
    first, second, third, last = data[at], data[at + 1], data[at + 2], data[at + 3]
    if first == 110 and second == 97 and third == 109 and last == 101:
        return 0
    if first == 99 and second == 111 and third == 100 and last == 101:
        return 1
    if first == 100 and second == 101 and third == 115 and last == 99:
        return 2
    return -1


@lean
def _closes(data: Bytes, at: int, stop: int, tag: int) -> int:
    """Where the end tag that begins at a byte ends, -1 where there is another thing."""
    if at + 4 > stop or data[at] != _LESS or data[at + 1] != _SLASH or data[at + 2] != tag or data[at + 3] != _MORE:
        return -1
    return at + 4


@lean
def _token_end(data: Bytes, at: int, stop: int) -> int:
    while at < stop and data[at] != _LESS and not _is_space(as_index(data[at])):
        at += 1
    return at


@lean
def _skipped(data: Bytes, at: int, stop: int, line: int) -> tuple[int, int]:
    """Where the blanks that begin at a byte end, and on which line."""
    while at < stop and _is_space(as_index(data[at])):
        line += data[at] == 10
        at += 1
    return at, line


@lean
def _read_attributes(
    data: Bytes, at: int, stop: int, line: int, ids: Mutable[Indices], spans: Mutable[IndexStacks], row: int
) -> tuple[int, int]:
    """Take in the attributes of a point; return where its start tag ends, -1 where it is unusual, and on which line."""
    ids[row] = -1
    while at < stop and data[at] != _MORE:
        if not _is_space(as_index(data[at])):
            return -1, line
        at, line = _skipped(data, at, stop, line)
        if at >= stop or data[at] == _MORE:
            break
        name_end, first, last, after = _attribute(data, at, stop)
        if name_end < 0:
            return -1, line
        column = _label_column(data, at, name_end)
        if _is_id(data, at, name_end):
            ids[row] = read_whole(data, first, last)
        elif column >= 0:
            spans[row, column, 0], spans[row, column, 1] = first, last
        at = after
    return (at + 1 if ids[row] >= 0 else -1), line


@lean_kernel
def _read_points(
    data: Bytes,
    start: int,
    stop: int,
    first_line: int,
    ids: Mutable[Indices],
    numbers: Mutable[FloatRows],
    line_of: Mutable[Indices],
    spans: Mutable[IndexStacks],
    where: Mutable[IndexStacks],
) -> int:
    """Fill what points hold; return how many there are, -1 where one is unusual. A long number is NaN."""
    row = as_index(0)
    at = as_index(start)
    line = as_index(first_line)
    while True:
        at, line = _skipped(data, at, stop, line)
        if at >= stop:
            return row
        if row >= ids.shape[0] or at + 2 >= stop or data[at] != _LESS or data[at + 1] != _P:
            return -1
        line_of[row] = line
        at, line = _read_attributes(data, at + 2, stop, line, ids, spans, row)
        if at < 0:
            return -1
        for k in range(3):
            at, line = _skipped(data, at, stop, line)
            end = _token_end(data, at, stop)
            if end == at:
                return -1
            value, after = read_number(data, at)
            numbers[row, k] = value if after == end else np.nan
            where[row, k, 0], where[row, k, 1] = at, end
            at = end
        at, line = _skipped(data, at, stop, line)
        at = _closes(data, at, stop, _P)
        if at < 0:
            return -1
        row += 1


@lean_kernel
def _read_faces(
    data: Bytes, start: int, stop: int, corners: Mutable[IndexRows], sides: Mutable[Indices], hidden: Mutable[Flags]
) -> int:
    """Fill the corners of faces; return how many there are, -1 where one is unusual."""
    row = as_index(0)
    at = as_index(start)
    while True:
        at = _after_spaces(data, at, stop)
        if at >= stop:
            return row
        if row >= sides.shape[0] or at + 2 >= stop or data[at] != _LESS or data[at + 1] != _F:
            return -1
        at += 2
        hidden[row] = False
        while at < stop and data[at] != _MORE:
            if not _is_space(as_index(data[at])):
                return -1
            at = _after_spaces(data, at, stop)
            if at >= stop or data[at] == _MORE:
                break
            name_end, first, last, after = _attribute(data, at, stop)
            if name_end < 0:
                return -1
            if name_end - at == 1 and data[at] == 105:
                hidden[row] = last - first == 1 and data[first] == 49
            at = after
        at += 1
        count = as_index(0)
        while True:
            at = _after_spaces(data, at, stop)
            if at >= stop or data[at] == _LESS:
                break
            end = _token_end(data, at, stop)
            value = read_whole(data, at, end)
            if value < 0 or count == 4:
                return -1
            corners[row, count] = value
            count += 1
            at = end
        if count != 3 and count != 4:
            return -1
        sides[row] = count
        at = _closes(data, at, stop, _F)
        if at < 0:
            return -1
        row += 1
