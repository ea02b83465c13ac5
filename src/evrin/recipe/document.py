"""Changing a recipe's text without disturbing its comments and order."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.items import AoT, Table

from evrin.errors import DataError
from evrin.formats.files import read_text, whole_text_file
from evrin.recipe.recipe import checked_tables

_TOLD = ("do", "finding", "role", "effect", "name", "file")
LISTED = ("source", "boundary", "edit", "accept")


class RecipeDocument:
    """A recipe as text that can be changed table by table.

    Parameters
    ----------
    path : path-like
        A recipe that can be read without faults.

    Raises
    ------
    DataError, RecipeError
        As `Recipe.read` does.
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        text, _ = read_text(self.path)
        checked_tables(self.path, text)
        self._document = tomlkit.parse(text)

    @property
    def text(self) -> str:
        """The recipe as it now stands."""
        return tomlkit.dumps(self._document)

    def append(self, kind: str, **values: Any) -> int:
        """Append a table such as an edit and return its number, from 1."""
        table = tomlkit.table()
        for key, value in values.items():
            table.add(key, tomlkit.item(value))
        table.add(tomlkit.nl())
        if kind not in self._document:
            self._document.add(tomlkit.nl())
            self._document.append(kind, tomlkit.aot())
        tables = self._tables(kind)
        tables.append(table)
        return len(tables)

    def switch(self, kind: str, number: int, on: bool) -> None:
        """Switch one table on or off, keeping it in the recipe."""
        table = self._table(kind, number)
        if on:
            table.pop("on", None)
        else:
            table["on"] = False

    def drop(self, kind: str, number: int) -> None:
        """Take one table out of the recipe."""
        self._table(kind, number)
        tables = self._tables(kind)
        del tables[number - 1]
        if not len(tables):
            del self._document[kind]

    def rows(self) -> list[dict[str, Any]]:
        """Return every source, boundary, edit and acceptance in order: kind, number, on, what, why."""
        out = []
        for kind in LISTED:
            for number, table in enumerate(self._document.get(kind, []), 1):
                values = table.unwrap()
                parts = [str(values[key]) for key in _TOLD if key in values]
                if "at" in values:
                    parts.append(str(tuple(values["at"])))
                what = " ".join(parts)
                row = {"table": f"{kind}:{number}", "on": values.get("on", True), "what": what}
                out.append({**row, "why": values.get("why", "")})
        return out

    def save(self) -> None:
        """Check what the recipe now says and write it in place of the old one.

        Raises
        ------
        RecipeError
            Where the change has made it faulty; the file is then left as it was.
        """
        checked_tables(self.path, self.text)
        with whole_text_file(self.path) as stream:
            stream.write(self.text)

    def _tables(self, kind: str) -> AoT:
        tables = self._document.get(kind)
        if not isinstance(tables, AoT):
            raise DataError(f"{self.path}: there is no [[{kind}]]")
        return tables

    def _table(self, kind: str, number: int) -> Table:
        if kind not in LISTED:
            raise DataError(f"{kind!r} is not one of {', '.join(LISTED)}")
        tables = self._tables(kind)
        if not 1 <= number <= len(tables):
            raise DataError(f"{self.path}: there is no {kind} {number}; they are numbered 1 to {len(tables)}")
        return tables[number - 1]
