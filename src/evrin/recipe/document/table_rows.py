"""The tables of a recipe in rows, as they are listed."""

from __future__ import annotations

import tomllib

from evrin.base.named_values import Row
from evrin.recipe.building.schema import switchable
from evrin.recipe.document.values import inline

_NAMING = ("do", "finding", "role", "effect", "line", "name", "file", "files")
_QUIET = {"why", "on", "at", "columns", "code", *_NAMING}
_LONGEST = 48


def table_rows(text: str) -> list[Row]:
    """Return every table of a recipe's text that can be switched or dropped, in the order of the work."""
    data = tomllib.loads(text)
    out = []
    for key in switchable():
        held = data.get(key)
        if isinstance(held, list):
            out += [_row(f"{key}:{number}", table) for number, table in enumerate(held, 1)]
        elif held is not None:
            out.append(_row(key, held))
    return out


def _row(table: str, values: dict[str, object]) -> Row:
    parts = [str(values[key]) for key in _NAMING if isinstance(values.get(key), str)]
    parts += [f"{key} = {_short(value)}" for key, value in values.items() if key not in _QUIET or key == "at"]
    return {"table": table, "on": values.get("on", True), "what": " ".join(parts), "why": values.get("why", "")}


def _short(value: object) -> str:
    text = inline(value)
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"
