"""Suggested fixes as tables of a recipe, ready to be added at its end."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence

from evrin.surface.provenance import Shots

Place = tuple[float, float]


def edit(do: str, why: str, **keys: object) -> str:
    """Return an ``[[edit]]``.

    Examples
    --------
    >>> print(edit("delete", "a bust", at=(10.0, 20.5)))
    [[edit]]
    do = "delete"
    at = [10.000, 20.500]
    why = "a bust"
    """
    rows = [f"{key} = {_value(value)}" for key, value in keys.items()]
    return "\n".join(["[[edit]]", f'do = "{do}"', *rows, f"why = {json.dumps(why, ensure_ascii=False)}"])


def leave_out(shots: Shots, row: int, why: str) -> str:
    """Return a ``[[leave_out]]`` for one shot: by number where it has one, else by its line."""
    file = shots.files[int(shots.file_of[row])]
    number = str(shots.numbers[row])
    which = f"numbers = [{_value(number)}]" if number else f"lines = [{int(shots.line_of[row])}]"
    return "\n".join(["[[leave_out]]", f"file = {_value(file)}", which, f"why = {_value(why)}"])


def rounded_up(length: float) -> str:
    """Return a length rounded up to three digits after the point, and by no less than a thousandth of it.

    Examples
    --------
    >>> rounded_up(0.0152), rounded_up(0.05)
    ('0.016', '0.051')
    """
    # What is exactly as far apart as is stated must not be lost to rounding.
    return f"{math.ceil(1001.0 * length) / 1000.0:.3f}"


def acceptance(code: str, place: Place | None) -> str:
    """Return an ``[[accept]]`` whose reason is still to be written."""
    at = [f"at = {_value(place)}"] if place is not None else []
    return "\n".join(["[[accept]]", f'finding = "{code}"', *at, 'why = ""'])


def _value(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float):
        return f"{value:.3f}"
    if isinstance(value, Sequence) and not isinstance(value, str):
        return "[" + ", ".join(_value(each) for each in value) + "]"
    return json.dumps(value, ensure_ascii=False)
