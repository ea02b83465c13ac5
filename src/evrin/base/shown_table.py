"""`TextTable`: a table as it is shown, in a terminal or on a page."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple


class TextTable(NamedTuple):
    """Heads and rows of text.

    Attributes
    ----------
    heads : sequence of str
        One for each column.
    rows : sequence of sequence of str
        The cells.
    is_number : sequence of bool
        Columns that hold numbers, which are set to the right.
    title, why : str
        What the table shows, and the reason that a recipe states for it.
    """

    heads: Sequence[str]
    rows: Sequence[Sequence[str]]
    is_number: Sequence[bool]
    title: str = ""
    why: str = ""
