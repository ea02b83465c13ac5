"""Where each statement of a TOML text begins and ends, so that one can be changed and every other byte stays."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from evrin.base.errors import DataError

_QUOTES = ('"""', "'''", '"', "'")


@dataclass(frozen=True)
class Statement:
    """A table's head, or a key with its value.

    Attributes
    ----------
    path : tuple of str
        Of a head the table's name, of a key the key, dotted parts apart.
    start, end : int
        All of its lines, with what follows on the last of them.
    value : (int, int)
        Where the value is; empty for a head.
    is_head, is_listed : bool
        Whether it is ``[name]`` or ``[[name]]``, and whether the latter.
    """

    path: tuple[str, ...]
    start: int
    end: int
    value: tuple[int, int] = (0, 0)
    is_head: bool = False
    is_listed: bool = False


def statements_of(text: str) -> list[Statement]:
    r"""Return the statements of a valid TOML text, in order.

    Examples
    --------
    >>> [(each.path, each.is_head) for each in statements_of('[trim] # rim\nlongest_edge = 35.0\n')]
    [(('trim',), True), (('longest_edge',), False)]
    """
    out = []
    at = 0
    while at < len(text):
        first = _after_blanks(text, at)
        if first >= len(text):
            break
        if text[first] in "#\r\n":
            at = _line_end(text, first)
        elif text[first] == "[":
            is_listed = text.startswith("[[", first)
            close = _after_head(text, first)
            end = _line_end(text, close)
            path = _path_of(text[first + 1 + is_listed : close - 1 - is_listed] + "=0")
            out.append(Statement(path, at, end, is_head=True, is_listed=is_listed))
            at = end
        else:
            equals = _equals(text, first)
            begin = _after_blanks(text, equals + 1)
            close = _after_value(text, begin)
            end = _line_end(text, close)
            out.append(Statement(_path_of(text[first : equals + 1] + "0"), at, end, (begin, close)))
            at = end
    return out


def _after_blanks(text: str, at: int) -> int:
    while at < len(text) and text[at] in " \t":
        at += 1
    return at


def _line_end(text: str, at: int) -> int:
    end = text.find("\n", at)
    return len(text) if end < 0 else end + 1


def _path_of(statement: str) -> tuple[str, ...]:
    table: object = tomllib.loads(statement.strip())
    path = []
    while isinstance(table, dict):
        ((key, table),) = table.items()
        path.append(key)
    return tuple(path)


def _after_quoted(text: str, at: int) -> int:
    """Just after the string that begins here."""
    mark = next(quote for quote in _QUOTES if text.startswith(quote, at))
    end = at + len(mark)
    while True:
        if end >= len(text):
            raise DataError("the recipe has a string without an end")
        if text[end] == "\\" and mark[0] == '"':
            end += 2
        elif text.startswith(mark, end):
            end += len(mark)
            # Up to two quotes may come just before the closing three.
            while len(mark) == 3 and text.startswith(mark[0], end):
                end += 1
            return end
        else:
            end += 1


def _equals(text: str, at: int) -> int:
    while text[at] != "=":
        at = _after_quoted(text, at) if text[at] in "\"'" else at + 1
    return at


def _after_head(text: str, at: int) -> int:
    depth = 0
    while True:
        if text[at] in "\"'":
            at = _after_quoted(text, at)
            continue
        depth += {"[": 1, "]": -1}.get(text[at], 0)
        at += 1
        if depth == 0:
            return at


def _after_value(text: str, at: int) -> int:
    """Just after the value that begins here, without the blanks and the comment behind it."""
    depth, end = 0, at
    while at < len(text):
        mark = text[at]
        if mark in "\"'":
            at = end = _after_quoted(text, at)
            continue
        if mark == "#" and depth:
            at = _line_end(text, at)
            continue
        if depth == 0 and mark in "#\r\n":
            break
        depth += {"[": 1, "{": 1, "]": -1, "}": -1}.get(mark, 0)
        at += 1
        if mark not in " \t":
            end = at
    return end
