"""What can become of an item that was read: each a column of the tally, declared by the step that decides it."""

from __future__ import annotations

from typing import NamedTuple

OPEN = -1


class Fate(NamedTuple):
    """What became of items: its number in arrays, its column of the tally, and what that means."""

    number: int
    column: str
    meaning: str


FATES: dict[int, Fate] = {}


def fate(number: int, column: str, meaning: str) -> int:
    """Declare a fate and return its number; columns of the tally are in the order of numbers.

    Raises
    ------
    ValueError
        For a number or a column that is declared already.
    """
    if number in FATES or column in {each.column for each in FATES.values()}:
        raise ValueError(f"fate {number} or column {column!r} is declared already")
    FATES[number] = Fate(number, column, meaning)
    return number


USED = fate(0, "used", "is a vertex of the surface")
MERGED = fate(10, "merged", "another item at the same place is used instead")
OUTSIDE = fate(40, "outside", "beyond a boundary or the data")
LEFT_OUT = fate(80, "left_out", "by selection, code, filter, cut, or as a bust")
REFUSED = fate(90, "refused", "could not be read or used")
