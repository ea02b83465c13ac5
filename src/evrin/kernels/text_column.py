"""Texts by row, kept as the bytes that they were read as: each is made when somebody asks for it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from evrin.kernels import Bytes, Flags, Indices, Ints, Mutable, as_index, kernel

Texts = NDArray[np.object_]
SEPARATOR = "\x1f"
_CODING = ("utf-8", "surrogatepass")


class TextColumn:
    r"""A column of texts. Most are never looked at: of a million point numbers a person sees a few.

    Parameters
    ----------
    kept : KeptTexts
    rows : (n,) int32, optional
        Which of them each row has; each row its own if not given.

    Examples
    --------
    >>> kept = KeptTexts(np.frombuffer(b"lawn\x1fkerb\x1f", np.uint8), 2)
    >>> column = TextColumn(kept, np.array([0, 1, 1], np.int32))
    >>> len(column), column.text(2), column.all().tolist()
    (3, 'kerb', ['lawn', 'kerb', 'kerb'])
    """

    def __init__(self, kept: KeptTexts, rows: Ints | None = None) -> None:
        self.kept, self.rows = kept, rows

    @classmethod
    def of(cls, texts: Texts) -> TextColumn | None:
        """Return the column of some texts; None where they cannot be kept as such.

        Parameters
        ----------
        texts : (n,) array of str
        """
        is_one = texts.size > 0 and texts.strides == (0,)
        items = texts[:1].tolist() if is_one else texts.tolist()
        try:
            whole = SEPARATOR.join([*items, ""])
        except TypeError:
            return None
        if whole.count(SEPARATOR) != len(items):
            return None
        kept = KeptTexts(np.frombuffer(bytearray(whole.encode(*_CODING)), np.uint8), len(items))
        return cls(kept, np.broadcast_to(np.int32(0), len(texts)) if is_one else None)

    @classmethod
    def joined(cls, parts: Sequence[TextColumn]) -> TextColumn:
        """Return all rows of several columns, one after another.

        Parameters
        ----------
        parts : sequence of TextColumn
        """
        several = list({id(part.kept): part.kept for part in parts}.values())
        firsts = np.cumsum([0, *(kept.count for kept in several)])
        first_of = {id(kept): np.int32(first) for kept, first in zip(several, firsts, strict=False)}
        kept = several[0]
        if len(several) > 1:
            kept = KeptTexts(np.concatenate([each.data for each in several]), int(firsts[-1]))
        if len(several) == len(parts) and all(part.rows is None for part in parts):
            return cls(kept)
        return cls(kept, np.concatenate([part._row_of() + first_of[id(part.kept)] for part in parts]))

    def __len__(self) -> int:
        return self.kept.count if self.rows is None else len(self.rows)

    def text(self, row: int) -> str:
        """Return the text of a row.

        Parameters
        ----------
        row : int
        """
        return self.kept.text(range(len(self))[row] if self.rows is None else int(self.rows[row]))

    def take(self, rows: Indices | Ints | Flags) -> TextColumn:
        """Return the column of some rows.

        Parameters
        ----------
        rows : (k,) array of int or (n,) array of bool
            The rows to keep.
        """
        if self.rows is not None:
            return TextColumn(self.kept, self.rows[rows])
        taken = np.flatnonzero(rows) if rows.dtype == np.bool_ else np.where(rows < 0, rows + len(self), rows)
        return TextColumn(self.kept, taken.astype(np.int32))

    def all(self) -> Texts:
        """Return the texts of all rows.

        Returns
        -------
        (n,) array of str
        """
        return self.kept.all if self.rows is None else self.kept.all[self.rows]

    def spans(self, rows: Indices | Ints) -> Indices:
        """Return where in the bytes the texts of some rows begin and end.

        Parameters
        ----------
        rows : (k,) array of int

        Returns
        -------
        (k, 2) int64
        """
        number = rows if self.rows is None else self.rows[rows]
        return np.column_stack((self.kept.starts[number], self.kept.starts[np.add(number, 1)] - 1))

    def has_repeats(self, rows: Indices) -> bool:
        """Return whether two of some rows have the same text, the empty one left aside.

        Parameters
        ----------
        rows : (k,) int64
        """
        slots = np.full(1 << max(int(2 * len(rows)).bit_length(), 4), -1, np.int32)
        data = np.require(self.kept.data, requirements="W")
        return bool(_has_repeats(data, self.kept.starts, self._row_of()[rows], slots))

    def _row_of(self) -> Ints:
        return np.arange(len(self), dtype=np.int32) if self.rows is None else self.rows


class KeptTexts:
    """Texts as bytes, and what was made of them.

    Parameters
    ----------
    data : (b,) uint8
        The texts in UTF-8, each followed by the byte 31, which none of them holds.
    count : int
        How many they are.
    """

    def __init__(self, data: Bytes, count: int) -> None:
        self.data, self.count = data, count

    @cached_property
    def starts(self) -> Indices:
        """(count + 1,) int64: where each text begins, and where the next would."""
        return np.concatenate(([0], np.flatnonzero(self.data == ord(SEPARATOR)) + 1))

    @cached_property
    def all(self) -> Texts:
        """(count,) array of str: the texts."""
        out = np.empty(self.count, object)
        if self.count:
            out[:] = self.data.tobytes().decode(*_CODING)[:-1].split(SEPARATOR)
        return out

    def text(self, number: int) -> str:
        """Return one of the texts.

        Parameters
        ----------
        number : int
        """
        return self.data[self.starts[number] : self.starts[number + 1] - 1].tobytes().decode(*_CODING)


@kernel
def _has_repeats(data: Bytes, starts: Indices, asked: Ints, slots: Mutable[Ints]) -> bool:
    """Whether a text comes twice; *slots*, whose number is a power of two, take the texts by what they add up to."""
    last = as_index(slots.shape[0] - 1)
    for k in range(asked.shape[0]):
        text = asked[k]
        start, stop = starts[text], starts[text + 1] - 1
        if start == stop:
            continue
        mixed = as_index(0)
        for at in range(start, stop):
            mixed = (mixed * 31 + as_index(data[at])) & 0x3FFFFFFFFFF
        slot = (mixed ^ (mixed >> 15)) & last
        while slots[slot] >= 0:
            other = slots[slot]
            size = starts[other + 1] - 1 - starts[other]
            is_same = size == stop - start
            at = as_index(0)
            while is_same and at < size:
                is_same = data[starts[other] + at] == data[start + at]
                at += 1
            if is_same:
                return True
            slot = (slot + 1) & last
        slots[slot] = text
    return False
