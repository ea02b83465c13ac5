"""Where the tables of a recipe stand in its text: their heads, keys, values and the comments above them."""

from __future__ import annotations

import tomllib
from pathlib import Path

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.recipe.document.statements import Statement, statements_of


class TablePlaces:
    """The text of a recipe, in which the places of tables are looked up.

    Attributes
    ----------
    path : Path
        The recipe.
    text : str
        What it states.
    """

    path: Path
    text: str

    @property
    def _newline(self) -> str:
        return "\r\n" if "\r\n" in self.text else "\n"

    def _data(self) -> Row:
        return tomllib.loads(self.text)

    def _inline(self, kind: str) -> Statement | None:
        """The statement of a table that is written as a value, as in ``trim = { longest_edge = 30 }``."""
        for each in statements_of(self.text):
            if each.is_head:
                return None
            if each.path == (kind,):
                return each
        return None

    def _spans(self, kind: str) -> list[tuple[int, int]]:
        """Where each table of a kind begins and its last key ends, tables within it included."""
        spans: list[tuple[int, int]] = []
        inside = False
        for each in statements_of(self.text):
            if each.is_head:
                if each.path == (kind,):
                    spans.append((each.start, each.end))
                inside = each.path[0] == kind and bool(spans)
            if inside:
                spans[-1] = (spans[-1][0], each.end)
        if not spans and kind in self._data() and self._inline(kind) is None:
            raise DataError(f"{self.path}: {kind} is not written as a table of its own; change it by hand")
        return spans

    def _own_keys(self, kind: str, number: int | None) -> list[Statement]:
        """The head of a table and the keys just below it."""
        start = self._spans(kind)[(number or 1) - 1][0]
        own: list[Statement] = []
        for each in statements_of(self.text):
            if each.start < start:
                continue
            if own and each.is_head:
                break
            own.append(each)
        return own

    def _own_key(self, kind: str, number: int | None, key: str) -> Statement | None:
        return next((each for each in self._own_keys(kind, number)[1:] if each.path == (key,)), None)

    def _with_comment_above(self, start: int) -> int:
        """Where the comment just above a table begins, unless it opens the recipe."""
        above = start
        while above > 0:
            line = self.text.rfind("\n", 0, above - 1) + 1
            if not self.text[line:above].lstrip(" \t").startswith("#"):
                return above
            above = line
        return start
