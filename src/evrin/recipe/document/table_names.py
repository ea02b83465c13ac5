"""Tables of a recipe by what people call them: kind and number, a name, a file, or a pattern."""

from __future__ import annotations

from difflib import get_close_matches
from fnmatch import fnmatchcase
from pathlib import PurePosixPath
from typing import NamedTuple

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.recipe.building.schema import switchable

_PATTERN = "*?["
_MOST_NAMED = 8


class TableRef(NamedTuple):
    """A table of a recipe: its kind, and its number from 1 where there can be several."""

    kind: str
    number: int | None = None

    def __str__(self) -> str:
        return self.kind if self.number is None else f"{self.kind}:{self.number}"


def tables_named(data: Row, word: str) -> list[TableRef]:
    """Return the tables that a word means.

    A kind and a number, as in ``edit:2``; a kind of which there is one table; the name of a table, its file, or the
    file without folder or ending; or a pattern of such names, which may mean several.

    Parameters
    ----------
    data : dict
        A recipe, as TOML gives it.
    word : str
        The word, in whatever letter case.

    Returns
    -------
    list of TableRef
        At least one.

    Raises
    ------
    DataError
        Where it means none, or, without being a pattern, several.

    Examples
    --------
    >>> recipe = {"source": [{"file": "day1.csv"}, {"file": "pond.csv", "name": "pond"}], "trim": {"longest_edge": 9}}
    >>> [str(table) for table in tables_named(recipe, "pond")], [str(table) for table in tables_named(recipe, "trim")]
    (['source:2'], ['trim'])
    """
    kind, colon, number = word.partition(":")
    if colon and number.isdigit():
        return [TableRef(kind, int(number))]
    if word in switchable():
        return [_only(data, word)]
    named = dict(_names(data))
    wanted = word.casefold()
    is_pattern = any(sign in word for sign in _PATTERN)
    meets = [
        table
        for table, names in named.items()
        if any(fnmatchcase(name, wanted) if is_pattern else name == wanted for name in names)
    ]
    if not meets:
        raise DataError(f"no table is called {word!r}. {_help(word, named)}")
    if len(meets) > 1 and not is_pattern:
        raise DataError(f"{word!r} means {', '.join(map(str, meets))}: write which, or a pattern for all of them")
    return meets


def _only(data: Row, kind: str) -> TableRef:
    held = data.get(kind)
    if not isinstance(held, list):
        return TableRef(kind)
    if len(held) != 1:
        raise DataError(f"which {kind}? there are {len(held)}: write its number, as in {kind}:1, its name or its file")
    return TableRef(kind, 1)


def _names(data: Row) -> list[tuple[TableRef, list[str]]]:
    """What each table can be called, in small letters."""
    out = []
    for kind in switchable():
        held = data.get(kind)
        tables = held if isinstance(held, list) else [held] if isinstance(held, dict) else []
        for number, table in enumerate(tables, 1):
            names = [str(table[key]) for key in ("name", "file", "line") if isinstance(table.get(key), str)]
            files = [PurePosixPath(str(table["file"]))] if isinstance(table.get("file"), str) else []
            names += [part for file in files for part in (file.name, file.stem)]
            out.append((TableRef(kind, number if isinstance(held, list) else None), [n.casefold() for n in names if n]))
    return out


def _help(word: str, named: dict[TableRef, list[str]]) -> str:
    names = list(dict.fromkeys(name for each in named.values() for name in each))
    near = get_close_matches(word.casefold(), names, 3)
    if near:
        return f"Is {' or '.join(near)} meant?"
    return (
        f"Tables here are called {', '.join(names[:_MOST_NAMED]) or 'nothing'}; or write kind and number, as in edit:2"
    )
