"""Telling all that is wrong with a recipe at once, by line."""

from __future__ import annotations

import difflib
import re
import types
import typing
from typing import Any

from pydantic import BaseModel, ValidationError

from evrin.recipe.schema import Tables

_HEADER = re.compile(r"^\s*(\[\[?)\s*([\w.\-]+)\s*\]\]?")


def line_of(text: str, path: tuple[str | int, ...]) -> int:
    r"""Return the line, from 1, on which a key or its table stands; the last that can be told apart.

    Examples
    --------
    >>> line_of('[site]\nname = "a"\n[[source]]\nfile = "b"\nrole = "c"', ("source", 0, "role"))
    5
    """
    names = [part for part in path if isinstance(part, str)]
    wanted = next((part for part in path if isinstance(part, int)), 0)
    found, seen, table = 1, 0, ""
    inside = False
    for number, line in enumerate(text.splitlines(), 1):
        header = _HEADER.match(line)
        if header:
            table = header.group(2)
            is_this = table == names[0] or table.startswith(names[0] + ".")
            inside = is_this and (header.group(1) == "[" or seen == wanted or "." in table)
            if is_this and header.group(1) == "[[" and table == names[0]:
                seen += 1
            if inside:
                found = number
        elif inside or not table:
            key = line.split("=")[0].strip().strip('"')
            if "=" in line and key in names:
                found = number
    return found


def faults_of(text: str, error: ValidationError, model: type[BaseModel] = Tables) -> list[str]:
    """Return one line a fault of a text that should be such a *model*, in the order of the file."""
    # A table whose every row is faulty counts as empty too; that is no fault of its own.
    items = [item for item in error.errors() if not (item["type"] == "too_short" and item["input"])]
    told = [(line_of(text, _named(item["loc"])), _told(item, model)) for item in items]
    return [f"line {line}: {what}" for line, what in sorted(told)]


def _told(item: Any, model: type[BaseModel]) -> str:
    path = _named(item["loc"])
    where = _place(path)
    if item["type"] == "extra_forbidden":
        return f"{where}: no such key{_suggestion(path, model)}"
    if item["type"] == "missing":
        return f"{where}: this is needed and missing"
    found = "" if isinstance(item["input"], dict) else f"; found {item['input']!r}"
    return f"{where}: {item['msg'][0].lower()}{item['msg'][1:]}{found}"


def _named(path: tuple[str | int, ...]) -> tuple[str | int, ...]:
    """Leave out which of several allowed shapes of a value was tried."""
    return tuple(
        part for part in path if isinstance(part, int) or not (part.startswith("literal[") or part == "HeightFrom")
    )


def _place(path: tuple[str | int, ...]) -> str:
    parts: list[str] = []
    for part in path:
        if isinstance(part, int):
            parts[-1] += f" {part + 1}"
        else:
            parts.append(part)
    return " → ".join(parts)


def _suggestion(path: tuple[str | int, ...], model: type[BaseModel]) -> str:
    known = sorted(_model_at(path[:-1], model).model_fields)
    near = difflib.get_close_matches(str(path[-1]), known, 1)
    return f"; did you mean {near[0]!r}?" if near else f"; known here: {', '.join(known)}"


def _model_at(path: tuple[str | int, ...], model: type[BaseModel]) -> type[BaseModel]:
    for part in path:
        if isinstance(part, str) and part in model.model_fields:
            inner = _inner_model(model.model_fields[part].annotation)
            model = inner or model
    return model


def _inner_model(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and not isinstance(annotation, types.GenericAlias):
        return annotation if issubclass(annotation, BaseModel) else None
    return next(filter(None, map(_inner_model, typing.get_args(annotation))), None)
