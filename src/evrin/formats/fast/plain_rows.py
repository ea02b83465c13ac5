"""Rows of delimited text that are all alike, read without making a list of each: numbers as numbers, texts as texts.

What this reads, and what the reader row by row makes of it, are the same; anything unusual is left to that one.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from evrin.base.progress import Parts
from evrin.formats.fast.decimal_digits import read_number, read_whole
from evrin.kernels import (
    ByteRows,
    Bytes,
    FloatRows,
    Floats,
    IndexRows,
    Indices,
    IntRows,
    Ints,
    Mutable,
    as_index,
    lean,
    lean_kernel,
)
from evrin.kernels.text_column import SEPARATOR, KeptTexts, TextColumn

_LONGEST_ROW = 100_000
_THREADS, _LARGEST_PART = 2, 2**25
_SEPARATOR = ord(SEPARATOR)
_BLANK, _TAB, _NEW_LINE, _RETURN, _QUOTE = 32, 9, 10, 13, 34
# What begins a comment: # / * ;
_COMMENTS = (35, 47, 42, 59)
SKIPPED, NUMBER, TEXT = 0, 1, 2
_ORDINARY, _END, _UNUSUAL, _INNER_BLANK = 0, 1, 2, 3


class PlainRows(NamedTuple):
    """Columns by their place, and how many rows there are; a column that is skipped has none.

    *rising* are the places of columns of texts that are whole numbers, each larger than the one before.
    """

    numbers: dict[int, Floats]
    texts: dict[int, TextColumn]
    rows: int
    rising: frozenset[int]

    def column(self, place: int) -> Floats | TextColumn | None:
        """Return a column, None for one that was skipped."""
        return self.numbers.get(place, self.texts.get(place))


def plain_rows(data: bytes, start: int, delimiter: str, kinds: Sequence[int]) -> PlainRows | None:
    """Read the rows from byte *start* on; None where any of them is unusual.

    Parameters
    ----------
    data : bytes
        In ASCII.
    start : int
        Where the first row begins.
    delimiter : str
        One character; a blank is any number of blanks and tabs.
    kinds : sequence of {SKIPPED, NUMBER, TEXT}
        What each field holds; a row has just as many.
    """
    columns, bytes_of = np.array(kinds, np.int32), np.frombuffer(data, np.uint8)
    spans = _spans(data, start)
    sizes = [int(np.count_nonzero(bytes_of[slice(*span)] == _NEW_LINE)) for span in spans]
    sizes[-1] += not data.endswith(b"\n")
    numbers = np.empty((sum(sizes), int((columns == NUMBER).sum())))

    rows_done = Parts(len(numbers), "rows")

    def read(part: int) -> _Part | None:
        first, (start, stop) = sum(sizes[:part]), spans[part]
        whole = _read_part(bytes_of[start:stop], numbers[first : first + sizes[part]], ord(delimiter), columns)
        rows_done.add(sizes[part])
        return whole

    with ThreadPoolExecutor(_THREADS) as threads:
        parts = list(threads.map(read, range(len(spans))))
    whole = [part for part in parts if part is not None]
    if len(whole) < len(parts):
        return None
    texts: dict[int, TextColumn] = {}
    for k, place in enumerate(np.flatnonzero(columns == TEXT).tolist()):
        runs = np.concatenate([part.runs[k] for part in whole])
        kept = KeptTexts(np.concatenate([part.texts[k] for part in whole]), len(runs))
        is_one_each = len(runs) == len(numbers)
        texts[place] = TextColumn(kept, None if is_one_each else np.repeat(np.arange(len(runs), dtype=np.int32), runs))
    places = np.flatnonzero(columns == TEXT)
    edges = [[part.rising[k] for part in whole] for k in range(len(places))]
    rising = frozenset(p for p, each in zip(places.tolist(), edges, strict=True) if _is_rising(each))
    return PlainRows(dict(zip(np.flatnonzero(columns == NUMBER).tolist(), numbers.T, strict=True)), texts,
                     len(numbers), rising)  # fmt: skip


def _spans(data: bytes, start: int) -> list[tuple[int, int]]:
    """Where parts of whole rows begin and end: two, or more of a large text, so that it shows how far reading is."""
    count = max(_THREADS, (len(data) - start) // _LARGEST_PART)
    edges = [data.find(b"\n", start + (len(data) - start) * k // count) + 1 for k in range(1, count)]
    edges = sorted({start, *(edge for edge in edges if edge > start), len(data)})
    return list(itertools.pairwise(edges)) or [(start, start)]


class _Filled(NamedTuple):
    """Bytes of each column of texts; where its last text begins and ends, and its number of runs; how long they are."""

    texts: Bytes
    ends: Indices
    runs: Ints


class _Part(NamedTuple):
    """Texts of each column, one for each run of rows that have the same, and how many rows those are."""

    texts: list[Bytes]
    runs: list[Ints]
    rising: Indices


def _read_part(data: Bytes, numbers: Floats, delimiter: int, kinds: Ints) -> _Part | None:
    texts = np.empty((int((kinds == TEXT).sum()), len(data) + len(numbers)), np.uint8)
    filled = _Filled(texts, np.zeros((len(texts), 3), np.int64), np.empty((len(texts), len(numbers)), np.int32))
    rising = np.zeros((len(texts), 2), np.int64)
    if _read_rows(data, delimiter, kinds, _marks(delimiter), numbers, *filled, rising) != len(numbers):
        return None
    runs = [filled.runs[k, :count] for k, count in enumerate(filled.ends[:, 2].tolist())]
    return _Part([texts[k, :size] for k, size in enumerate(filled.ends[:, 1].tolist())], runs, rising)


def _marks(delimiter: int) -> Bytes:
    """What each byte is in a text."""
    marks = np.zeros(256, np.uint8)
    marks[:_BLANK] = marks[_QUOTE] = _UNUSUAL
    marks[[_BLANK, _TAB]] = _INNER_BLANK
    marks[[delimiter, _NEW_LINE, _RETURN]] = _END
    if delimiter == _BLANK:
        marks[_TAB] = _END
    return marks


def _is_rising(edges: list[Indices]) -> bool:
    """Whether the parts of a column rise, from the first and last number of each; -1 is for one that does not."""
    ends = np.concatenate(edges)
    return bool((ends >= 0).all() and (np.diff(ends)[1::2] > 0).all())


@lean
def _is_blank(byte: int, delimiter: int) -> bool:
    return byte == _BLANK or (byte == _TAB and delimiter != _TAB)


@lean
def _is_end(byte: int) -> bool:
    return byte in (_NEW_LINE, _RETURN)


@lean
def _after_blanks(data: Bytes, at: int, delimiter: int) -> int:
    while at < data.shape[0] and data[at] <= _BLANK and _is_blank(as_index(data[at]), delimiter):
        at += 1
    return at


@lean
def _read_text(data: Bytes, at: int, marks: Bytes, out: Mutable[Bytes], size: int) -> tuple[int, int]:
    """Copy the field that begins at a byte; return where it ends, and the size of *out* then, -1 for an unusual one."""
    end = as_index(data.shape[0])
    last = size
    while at < end:
        byte = data[at]
        mark = marks[byte]
        if mark == _END:
            break
        if mark == _UNUSUAL:
            return at, -1
        out[size] = byte
        size += 1
        if mark == _ORDINARY:
            last = size
        at += 1
    out[last] = _SEPARATOR
    return at, last + 1


@lean
def _is_repeated(out: Bytes, before: int, start: int, stop: int) -> bool:
    """Whether a text is the one that begins at *before* and ends where it starts."""
    size = start - before
    k = stop
    while k > start and out[k - 1] == out[k - 1 - size]:
        k -= 1
    return k == start and size == stop - start


@lean
def _take_text(
    out: Bytes, stop: int, row: int, ends: Mutable[Indices], runs: Mutable[Ints], rising: Mutable[Indices]
) -> None:
    """Begin a run of rows with the text that was copied last, or add it to the run of the one before."""
    start = ends[1]
    if row > 0 and _is_repeated(out, ends[0], start, stop):
        rising[1] = -1
        runs[ends[2] - 1] += 1
        return
    last = rising[1] if row > 0 else as_index(-1)
    whole = read_whole(out, start, stop - 1)
    rising[1] = whole if whole > last and (row == 0 or last >= 0) else -1
    if row == 0:
        rising[0] = rising[1]
    ends[0], ends[1] = start, stop
    runs[ends[2]] = 1
    ends[2] += 1


@lean_kernel
def _read_rows(
    data: Bytes,
    delimiter: int,
    kinds: Ints,
    marks: Bytes,
    numbers: Mutable[FloatRows],
    texts: Mutable[ByteRows],
    ends: Mutable[IndexRows],
    runs: Mutable[IntRows],
    rising: Mutable[IndexRows],
) -> int:
    """Fill numbers and texts; return how many rows there are, -1 where one is unusual."""
    at = as_index(0)
    row = as_index(0)
    end = as_index(data.shape[0])
    width = kinds.shape[0]
    while at < end:
        start = at
        first = _after_blanks(data, at, as_index(0))
        if first == end or _is_end(as_index(data[first])) or _begins_comment(as_index(data[first])):
            return -1
        number = as_index(0)
        text = as_index(0)
        for column in range(width):
            at = _after_blanks(data, at, delimiter)
            kind = kinds[column]
            if kind == NUMBER:
                value, stop = read_number(data, at)
                if stop < 0:
                    return -1
                numbers[row, number] = value
                number += 1
                at = _after_blanks(data, stop, delimiter) if delimiter != _BLANK else stop
            elif kind == TEXT:
                size = ends[text, 1]
                stop, after = _read_text(data, at, marks, texts[text], size)
                if after < 0 or (delimiter == _BLANK and after == size + 1):
                    return -1
                _take_text(texts[text], after, row, ends[text], runs[text], rising[text])
                text += 1
                at = stop
            else:
                while at < end and marks[data[at]] != _END:
                    if marks[data[at]] == _UNUSUAL:
                        return -1
                    at += 1
            if column < width - 1:
                if at >= end or not (data[at] == delimiter or (delimiter == _BLANK and data[at] == _TAB)):
                    return -1
                at += 1
        if delimiter == _BLANK:
            at = _after_blanks(data, at, delimiter)
        if at < end and data[at] == _RETURN:
            at += 1
        if (at < end and data[at] != _NEW_LINE) or at - start > _LONGEST_ROW:
            return -1
        at += 1
        row += 1
    return row


@lean
def _begins_comment(byte: int) -> bool:
    return byte in _COMMENTS
