"""Comparisons of attributes, as in ``DEPTH > 0.5 and STATUS == 'wet' or KIND like 'PON*'``.

A comparison is an attribute's name, one of ``== != < <= > >= like``, and a number or a quoted text; ``and`` binds
tighter than ``or``. A name with blanks is put in back quotes. Nothing else is understood, so nothing else can happen.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Mapping
from difflib import get_close_matches
from fnmatch import fnmatchcase
from typing import SupportsFloat

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags
from evrin.survey.contents import Column

_TOKEN = re.compile(
    r"\s*(?:(?P<text>'[^']*'|\"[^\"]*\")|(?P<number>[+-]?\d+(?:\.\d*)?(?:[eE][+-]?\d+)?(?![\w.]))|"
    r"(?P<sign>==|!=|<=|>=|<|>|=)|`(?P<quoted>[^`]+)`|(?P<word>\w+))"
)
_SIGNS: dict[str, Callable[..., object]] = {
    "==": operator.eq,
    "=": operator.eq,
    "!=": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "like": lambda value, pattern: fnmatchcase(str(value), str(pattern)),
}
Token = tuple[str, str]
Comparison = tuple[str, str, str | float]


def where_holds(text: str, columns: Mapping[str, Column], count: int) -> Flags:
    """Return for which of *count* things the comparisons in *text* hold.

    A number compares with whatever can be read as one; where an attribute cannot, the comparison does not hold.

    Raises
    ------
    DataError
        Where *text* is not made of comparisons, or names an attribute that is not there.

    Examples
    --------
    >>> depth = np.array([0.2, 1.5, 3.0])
    >>> where_holds("DEPTH > 1 and DEPTH < 2", {"DEPTH": depth}, 3).tolist()
    [False, True, False]
    """
    alternatives = parsed(text)
    out = np.zeros(count, np.bool_)
    for together in alternatives:
        out |= np.array([_holds(text, comparison, columns) for comparison in together]).all(axis=0)
    return out


def parsed(text: str) -> list[list[Comparison]]:
    """Return alternatives of comparisons that hold together.

    Raises
    ------
    DataError
        Where *text* is not made of comparisons.
    """
    tokens = _tokens(text)
    alternatives: list[list[Comparison]] = [[]]
    while True:
        alternatives[-1].append(_comparison(text, tokens[:3]))
        tokens = tokens[3:]
        if not tokens:
            return alternatives
        kind, joint = tokens.pop(0)
        if kind != "word" or joint not in ("and", "or"):
            raise _not_understood(text, f"'and' or 'or' was expected at {joint!r}")
        if joint == "or":
            alternatives.append([])


def _tokens(text: str) -> list[Token]:
    tokens, at = [], 0
    while text[at:].strip():
        match = _TOKEN.match(text, at)
        if match is None or match.lastgroup is None:
            raise _not_understood(text, f"{text[at:].strip()!r} is not part of a comparison")
        tokens.append((match.lastgroup, match.group(match.lastgroup)))
        at = match.end()
    return tokens


def _comparison(text: str, tokens: list[Token]) -> Comparison:
    if len(tokens) < 3:
        raise _not_understood(text, "a comparison is cut short")
    (name_kind, name), (_, sign), (value_kind, value) = tokens
    if name_kind not in ("word", "quoted") or sign not in _SIGNS or value_kind not in ("text", "number"):
        raise _not_understood(text, f"{name} {sign} {value} is not a comparison")
    return name, sign, float(value) if value_kind == "number" else value[1:-1]


def _not_understood(text: str, why: str) -> DataError:
    return DataError(f"where = {text!r}: {why}; write comparisons such as DEPTH > 0.5 and STATUS == 'wet'")


def _holds(text: str, comparison: Comparison, columns: Mapping[str, Column]) -> Flags:
    name, sign, wanted = comparison
    if name not in columns:
        near = get_close_matches(name, list(columns), 1)
        hint = f"did you mean {near[0]!r}?" if near else f"known here: {', '.join(sorted(columns))}"
        raise DataError(f"where = {text!r}: no attribute {name!r}; {hint}")
    values = columns[name]
    if isinstance(wanted, float) and sign != "like":
        numbers = _numbers(values)
        met: Flags = np.asarray(_SIGNS[sign](numbers, wanted), np.bool_) & ~np.isnan(numbers)
        return met
    return np.array([bool(_SIGNS[sign](str(value), wanted)) for value in values.tolist()], np.bool_)


def _numbers(values: Column) -> np.ndarray:
    if values.dtype != object:
        return values.astype(np.float64)
    return np.array([_number(value) for value in values.tolist()], np.float64)


def _number(value: SupportsFloat | str) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return float("nan")
