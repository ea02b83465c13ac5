"""Changing a recipe's text without disturbing its comments and order."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AoT, Table

from evrin.errors import DataError
from evrin.formats.files import read_text, whole_text_file
from evrin.recipe.recipe import Recipe, checked_tables

_TOLD = ("do", "finding", "role", "effect", "line", "name", "file")
_QUIET = {"why", "on", "at", "columns", "code", *_TOLD}
_LONGEST = 48
LISTED = ("source", "leave_out", "cut_line", "wall", "flat", "along", "boundary", "edit", "check_points", "accept")
SINGLE = ("site", "field_codes", "duplicates", "busts", "crossings", "flat_triangles", "carve", "trim", "check")


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

    def recipe(self) -> Recipe:
        """Return the recipe as it now stands, without saving it.

        Raises
        ------
        RecipeError
            Where the change has made it faulty.
        """
        return Recipe(self.path, checked_tables(self.path, self.text))

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

    def put(self, kind: str, number: int | None, values: dict[str, Any]) -> str:
        """Set keys of a table and return which one, as in ``source:2``; it is made where it is not there yet.

        Parameters
        ----------
        kind : str
            Such as ``trim``, or ``source``.
        number : int, optional
            Of a numbered table; one is appended if not given.
        values : dict
        """
        if kind in LISTED and number is None:
            return f"{kind}:{self.append(kind, **values)}"
        if kind in SINGLE and number is None and kind not in self._document:
            self._document.add(tomlkit.nl())
            self._document.add(kind, tomlkit.table())
        table = self._table(kind, number)
        for key, value in values.items():
            _put_key(table, key, value)
        return kind if number is None else f"{kind}:{number}"

    def switch(self, kind: str, number: int | None, on: bool) -> None:
        """Switch one table on or off, keeping it in the recipe."""
        table = self._table(kind, number)
        if on:
            table.pop("on", None)
        else:
            _put_key(table, "on", False)

    def drop(self, kind: str, number: int | None) -> None:
        """Take one table out of the recipe."""
        table = self._table(kind, number)
        body = table.as_string()
        text = self.text
        pattern = rf"^[ \t]*{_HEADS[number is None].format(re.escape(kind))}[ \t]*(#[^\r\n]*)?(\r?\n|\Z)"
        heads = list(re.finditer(pattern, text, re.M))
        head = heads[(number or 1) - 1] if len(heads) >= (number or 1) else None
        if head is None or not text.startswith(body, head.end()):
            raise DataError(f"{self.path}: {kind} is not written as a table of its own; take it out by hand")
        # What stands after its last key, such as the comment above the next table, is not its own.
        after = "".join(item.as_string() for item in _after_last_key(table))
        rest = after if "#" in after else ""
        self._document = tomlkit.parse(text[: head.start()] + rest.lstrip("\r\n") + text[head.end() + len(body) :])

    def rows(self) -> list[dict[str, Any]]:
        """Return every table that can be switched or dropped, in the order of the work: table, on, what, why."""
        out = []
        for kind in SINGLE[2:]:
            if kind in self._document:
                values = self._document[kind].unwrap()
                out.append(_row(kind, values))
        for kind in LISTED:
            for number, table in enumerate(self._document.get(kind, []), 1):
                out.append(_row(f"{kind}:{number}", table.unwrap()))
        return sorted(out, key=lambda row: _WORK.index(row["table"].partition(":")[0]))

    def save(self) -> None:
        """Check what the recipe now says and write it in place of the old one.

        Raises
        ------
        RecipeError
            Where the change has made it faulty; the file is then left as it was.
        """
        checked_tables(self.path, self.text)
        with whole_text_file(self.path, guarded=False) as stream:
            stream.write(self.text)

    def _tables(self, kind: str) -> AoT:
        tables = self._document.get(kind)
        if not isinstance(tables, AoT):
            raise DataError(f"{self.path}: there is no [[{kind}]]")
        return tables

    def _table(self, kind: str, number: int | None) -> Table:
        if kind in SINGLE:
            table = self._document.get(kind)
            if number is not None:
                raise DataError(f"there is one [{kind}] only; leave the number out")
            if not isinstance(table, Table):
                raise DataError(f"{self.path}: there is no [{kind}]")
            return table
        if kind not in LISTED:
            raise DataError(f"{kind!r} is not one of {', '.join(sorted((*LISTED, *SINGLE)))}")
        if number is None:
            raise DataError(f"which {kind}? write its number, as in {kind}:1")
        tables = self._tables(kind)
        if not 1 <= number <= len(tables):
            raise DataError(f"{self.path}: there is no {kind} {number}; they are numbered 1 to {len(tables)}")
        return tables[number - 1]


def parsed_values(texts: list[str]) -> dict[str, Any]:
    """Return keys and values from texts such as ``longest_edge=35``; what is no TOML value is taken as a text.

    Raises
    ------
    DataError
        For a text without a key.

    Examples
    --------
    >>> parsed_values(["longest_edge=35", "file=limit.csv", "at=[1.0, 2.0]", "on=false"])
    {'longest_edge': 35, 'file': 'limit.csv', 'at': [1.0, 2.0], 'on': False}
    """
    out: dict[str, Any] = {}
    for text in texts:
        key, equals, value = text.partition("=")
        if not equals or not key.strip():
            raise DataError(f"{text!r} is no key with a value; write it as in longest_edge=35")
        try:
            out[key.strip()] = tomlkit.parse(f"value = {value.strip()}").unwrap()["value"]
        except TOMLKitError:
            out[key.strip()] = value.strip()
    return out


def _after_last_key(table: Table) -> list[Any]:
    """Blank lines and comments after a table's last key."""
    body = table.value.body
    count = next((k for k, (key, _) in enumerate(reversed(body)) if key is not None), len(body))
    return [item for _, item in body[len(body) - count :]]


def _put_key(table: Table, key: str, value: Any) -> None:
    """Set a key; a new one goes after the last, not after the comment above the next table."""
    if key in table:
        table[key] = tomlkit.item(value)
        return
    body = table.value.body
    trailing = [body.pop() for _ in _after_last_key(table)]
    table.add(key, tomlkit.item(value))
    body.extend(reversed(trailing))


_HEADS = (r"\[\[[ \t]*{}[ \t]*\]\]", r"\[[ \t]*{}[ \t]*\]")
_WORK = (
    *("source", "leave_out", "cut_line", "wall", "flat", "busts", "duplicates", "crossings", "along", "flat_triangles"),
    *("boundary", "carve", "trim", "edit", "check", "check_points", "accept"),
)


def _row(table: str, values: dict[str, Any]) -> dict[str, Any]:
    parts = [str(values[key]) for key in _TOLD if isinstance(values.get(key), str)]
    parts += [f"{key} = {_short(value)}" for key, value in values.items() if key not in _QUIET or key == "at"]
    return {"table": table, "on": values.get("on", True), "what": " ".join(parts), "why": values.get("why", "")}


def _short(value: Any) -> str:
    text = _inline(value)
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def _inline(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_inline(inner)}" for key, inner in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(_inline, value)) + "]"
    return str(tomlkit.item(value).as_string())


def toml_text(value: str) -> str:
    """Return a text as it stands in a recipe."""
    return str(tomlkit.item(value).as_string())
