"""Changing a recipe's text without disturbing its comments and order."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import tomlkit

from evrin.base.errors import DataError, RecipeError
from evrin.base.files import read_text, whole_file
from evrin.base.named_values import Row
from evrin.recipe.building.schema import listed_kinds, single_kinds
from evrin.recipe.document.statements import Statement
from evrin.recipe.document.table_names import TableRef, tables_named
from evrin.recipe.document.table_places import TablePlaces
from evrin.recipe.document.table_rows import table_rows
from evrin.recipe.document.values import inline, inline_table, key_text, plain
from evrin.recipe.recipe import Recipe, checked_tables
from evrin.recipe.store.kept_results import FOLDER, FolderStore

# Tables that mean nothing without a file, or places in its stead.
_OF_FILES = ("source", "boundary", "flat", "check_points")


_OFF = "off: "


def _is_toml(text: str) -> bool:
    try:
        tomllib.loads(text)
    except (ValueError, RecursionError):
        return False
    return True


class RecipeDocument(TablePlaces):
    """A recipe as text that can be changed table by table; every byte outside the change stays.

    Parameters
    ----------
    path : path-like
        A recipe that can be read without faults.
    may_be_faulty : bool
        Whether it may have faults all the same, which a change is to correct.

    Raises
    ------
    DataError, RecipeError
        As `Recipe.read` does.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> document = evrin.RecipeDocument(small_site())
    >>> document.put("trim", None, {"longest_edge": 15.0})
    'trim'
    >>> [row["table"] for row in document.rows()]
    ['source:1', 'trim']
    """

    def __init__(self, path: str | os.PathLike[str], *, may_be_faulty: bool = False) -> None:
        self.path = Path(path)
        self.text, self._encoding = read_text(self.path)
        self._as_read, self._is_noted = self.text, True
        try:
            checked_tables(self.path, self.text)
        except RecipeError:
            # A change may be what corrects it; anything but TOML cannot be changed table by table.
            if not may_be_faulty or not _is_toml(self.text):
                raise

    def recipe(self) -> Recipe:
        """Return the recipe as it is now, without saving it.

        Returns
        -------
        Recipe

        Raises
        ------
        RecipeError
            Where the change has made it faulty.
        """
        return Recipe(self.path, checked_tables(self.path, self.text))

    def append(self, kind: str, **values: object) -> int:
        """Append a table such as an edit and return its number, from 1.

        It comes after the last one of its kind, or at the end.

        Parameters
        ----------
        kind : str
            Name of the table, such as ``edit``.
        **values : object
            Its keys.

        Returns
        -------
        int
        """
        data = self._data()
        count = len(data.get(kind, []))
        wanted = {**data, kind: [*data.get(kind, []), {key: plain(value) for key, value in values.items()}]}
        place = self._inline(kind)
        if place is not None:
            self._change_inline(place, lambda items: items.append(inline_table(values)), wanted)
            return count + 1
        spans = self._spans(kind)
        at = spans[-1][1] if spans else len(self.text.rstrip()) + len(self._newline)
        head = self.text[: min(at, len(self.text))]
        head += "" if not head or head.endswith("\n") else self._newline
        lines = ["", f"[[{kind}]]", *(f"{key_text(key)} = {inline(value)}" for key, value in values.items())]
        self._set(head + self._newline.join(lines) + self._newline + self.text[at:], wanted)
        return count + 1

    def put(self, kind: str, number: int | None, values: dict[str, object]) -> str:
        """Set keys of a table and return which one, as in ``source:2``; it is added where it is missing.

        Parameters
        ----------
        kind : str
            Such as ``trim``, or ``source``.
        number : int, optional
            Of a numbered table; one is appended if not given.
        values : dict
            Keys and their values.

        Returns
        -------
        str
        """
        if kind in listed_kinds() and number is None:
            number = self._only_one_meant(kind, values)
            if number is None:
                return f"{kind}:{self.append(kind, **values)}"
        if kind in single_kinds() and number is None and kind not in self._data():
            lines = ["", f"[{kind}]", ""]
            head = self.text if self.text.endswith("\n") else self.text + self._newline
            self._set(head + self._newline.join(lines), {**self._data(), kind: {}})
        for key, value in values.items():
            self._put_key(kind, number, key, value)
        return kind if number is None else f"{kind}:{number}"

    def _only_one_meant(self, kind: str, values: dict[str, object]) -> int | None:
        """The number of the one table of a kind, where keys are for it: a table of its own would need a file."""
        held = self._data().get(kind, [])
        if kind not in _OF_FILES or not held or {"file", "files", "line", "places"} & values.keys():
            return None
        if len(held) > 1:
            raise DataError(
                f"which {kind}? there are {len(held)}: write its number, as in {kind}:1, its name or its file"
            )
        return 1

    def switch(self, kind: str, number: int | None, on: bool, why: str = "") -> None:
        """Switch one table on or off, keeping it in the recipe.

        Parameters
        ----------
        kind : str
            Name of the table.
        number : int or None
            Which of them, from 1; None for a table that can be there only once.
        on : bool
            Whether the table is switched on.
        why : str
            Why it is switched, added to the reason that it has.
        """
        given = str(self._wanted(kind, number)[1].get("why", ""))
        # Why it was switched off before no longer holds.
        reason = "" if given.startswith(_OFF) else given.split(f"; {_OFF}")[0]
        if why:
            self._put_key(kind, number, "why", "; ".join(part for part in (reason, ("" if on else _OFF) + why) if part))
        elif reason != given:
            self._put_key(kind, number, "why", reason)
        if not on:
            self._put_key(kind, number, "on", False)
            return
        wanted, table = self._wanted(kind, number)
        if table.pop("on", None) is None:
            return
        place = self._inline(kind)
        if place is not None:
            self._change_inline(place, lambda item: _picked(item, number).remove("on"), wanted)
            return
        own = self._own_key(kind, number, "on")
        if own is not None:
            self._set(self.text[: own.start] + self.text[own.end :], wanted)

    def drop(self, kind: str, number: int | None) -> None:
        """Take one table out of the recipe, with the comment just above it.

        Parameters
        ----------
        kind : str
            Name of the table.
        number : int or None
            Which of them, from 1; None for a table that can be there only once.
        """
        wanted, _ = self._wanted(kind, number)
        if number is None:
            del wanted[kind]
        else:
            del wanted[kind][number - 1]
            if not wanted[kind]:
                del wanted[kind]
        place = self._inline(kind)
        if place is not None and (number is None or kind not in wanted):
            self._set(self.text[: place.start] + self.text[place.end :], wanted)
            return
        if place is not None:
            self._change_inline(place, lambda items: items.pop((number or 1) - 1), wanted)
            return
        start, end = self._spans(kind)[(number or 1) - 1]
        start = self._with_comment_above(start)
        # One of the blank lines around it is deleted too.
        if self.text.startswith(self._newline, end):
            end += len(self._newline)
        self._set(self.text[:start] + self.text[end:], wanted)

    def _set(self, text: str, wanted: dict[str, object]) -> None:
        """Accept a changed text if it states exactly what is wanted."""
        try:
            read_again = tomllib.loads(text)
        except tomllib.TOMLDecodeError:
            read_again = None
        if read_again != wanted:
            raise DataError(
                f"{self.path}: this table is written in a way that is not supported here. Change it by hand"
            )
        self.text = text

    def _wanted(self, kind: str, number: int | None) -> tuple[Row, Row]:
        """The data of the recipe, and in it the table."""
        data = self._data()
        if kind in single_kinds():
            if number is not None:
                raise DataError(f"there is one [{kind}] only; leave the number out")
            if not isinstance(data.get(kind), dict):
                raise DataError(f"{self.path}: no [{kind}]")
            return data, data[kind]
        if kind not in listed_kinds():
            raise DataError(f"{kind!r} is not one of {', '.join(sorted((*listed_kinds(), *single_kinds())))}")
        if number is None:
            raise DataError(f"which {kind}? write its number, as in {kind}:1")
        tables = data.get(kind, [])
        if not tables:
            raise DataError(f"{self.path}: no [[{kind}]]")
        if not 1 <= number <= len(tables):
            raise DataError(f"{self.path}: no {kind} {number}; they are numbered 1 to {len(tables)}")
        return data, tables[number - 1]

    def _change_inline(self, place: Statement, change: Callable[[Any], object], wanted: dict[str, object]) -> None:
        document = tomlkit.parse("value = " + self.text[slice(*place.value)])
        change(document["value"])
        value = tomlkit.dumps(document).removeprefix("value = ")
        self._set(self.text[: place.value[0]] + value + self.text[place.value[1] :], wanted)

    def _put_key(self, kind: str, number: int | None, key: str, value: object) -> None:
        """Set a key; a new one is put after the last of its table."""
        wanted, table = self._wanted(kind, number)
        table[key] = plain(value)
        place = self._inline(kind)
        if place is not None:
            self._change_inline(place, lambda item: _picked(item, number).update({key: value}), wanted)
            return
        own = self._own_key(kind, number, key)
        if own is not None:
            self._set(self.text[: own.value[0]] + inline(value) + self.text[own.value[1] :], wanted)
            return
        last = self._own_keys(kind, number)[-1]
        line = self.text[last.start : last.end]
        indent = "" if last.is_head else line[: len(line) - len(line.lstrip(" \t"))]
        head = self.text[: last.end]
        head += "" if head.endswith("\n") else self._newline
        self._set(head + f"{indent}{key_text(key)} = {inline(value)}{self._newline}" + self.text[last.end :], wanted)

    def tables_named(self, word: str) -> list[TableRef]:
        """Return the tables that a word means: kind and number, a kind, a name, a file, or a pattern of names.

        Parameters
        ----------
        word : str
            As in ``edit:2``, ``trim``, ``pond`` or ``pond*``, in any letter case.

        Returns
        -------
        list of TableRef

        Raises
        ------
        DataError
            Where it means none, or, without being a pattern, several.
        """
        return tables_named(self._data(), word)

    def table_to_put(self, word: str) -> TableRef:
        """Return the one table that a word means, or the kind of a table that is to be added.

        Parameters
        ----------
        word : str
            As `tables_named` takes it.

        Returns
        -------
        TableRef

        Raises
        ------
        DataError
            Where it means none, or several.
        """
        if word in (*listed_kinds(), *single_kinds()):
            return TableRef(word)
        meant = self.tables_named(word)
        if len(meant) > 1:
            raise DataError(f"{word!r} means {', '.join(map(str, meant))}: keys are put into one table")
        return meant[0]

    def rows(self) -> list[Row]:
        """Return every table that can be switched or dropped, in the order of the work: table, on, what, why.

        Returns
        -------
        list of dict
        """
        return table_rows(self.text)

    def save(self) -> None:
        """Check what the recipe now states and write it in place of the old one.

        Raises
        ------
        RecipeError
            Where the change has made it faulty; the file is then unchanged.
        DataError
            Where somebody else has changed the file since it was read; it is then unchanged.
        """
        checked_tables(self.path, self.text)
        if read_text(self.path)[0] != self._as_read:
            raise DataError(f"{self.path}: the recipe was changed by another program meanwhile; nothing is written")
        with whole_file(self.path, guarded=False) as stream:
            stream.write(self.text.encode(self._encoding))
        if self._is_noted:
            FolderStore(self.path.parent / FOLDER).note_change(self.path.stem, self._as_read, self.text)
        self._as_read = self.text

    def take_back(self) -> None:
        """Set the text as it was before the last change that was saved, whoever made it by Evrin.

        Raises
        ------
        DataError
            Where no change is on record, or the recipe was changed by another program since.
        """
        try:
            before = FolderStore(self.path.parent / FOLDER).take_back(self.path.stem, self.text)
        except DataError as error:
            raise DataError(f"{self.path}: {error}") from None
        if before is None:
            raise DataError(f"{self.path}: no change is on record that could be taken back")
        self.text, self._is_noted = before, False


def _picked(item: Any, number: int | None) -> Any:
    return item if number is None else item[number - 1]
