"""Telling all that is wrong with a recipe at once, by line."""

from __future__ import annotations

import difflib
import re
import types
import typing
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel, ValidationError

from evrin.recipe.schema import Tables

_HEADER = re.compile(r"^\s*(\[\[?)\s*([\w.\-]+)\s*\]\]?")


class Outline:
    r"""Where the tables and keys of a recipe's text stand.

    Parameters
    ----------
    text : str

    Examples
    --------
    >>> Outline('[site]\nname = "a"\n[[source]]\nfile = "b"\nrole = "c"').line_of(("source", 0, "role"))
    5
    """

    def __init__(self, text: str) -> None:
        self._first = _Stretch(1)
        # A table's own stretch and those of tables within it, by name and number.
        self._stretches: dict[tuple[str, int], list[_Stretch]] = {}
        counts: dict[str, int] = {}
        here = self._first
        for number, line in enumerate(text.split("\n"), 1):
            header = _HEADER.match(line)
            if header:
                name, inner = header[2].split(".", 1)[0], "." in header[2]
                if header[1] == "[[" and not inner:
                    counts[name] = counts.get(name, 0) + 1
                here = _Stretch(number)
                self._stretches.setdefault((name, max(counts.get(name, 1) - 1, 0)), []).append(here)
            elif "=" in line:
                here.keys[line.split("=")[0].strip().strip('"')] = number

    def line_of(self, path: tuple[str | int, ...]) -> int:
        """Return the line, from 1, on which a key or its table stands; the last that can be told apart."""
        names = [part for part in path if isinstance(part, str)]
        wanted = next((part for part in path if isinstance(part, int)), 0)
        stretches = self._stretches.get((names[0], wanted)) or self._stretches.get((names[0], 0))
        if stretches is None:
            return next((self._first.keys[name] for name in reversed(names) if name in self._first.keys), 1)
        found = stretches[0].line
        for stretch in stretches:
            found = max([found, *(stretch.keys[name] for name in names if name in stretch.keys)])
        return found


@dataclass
class _Stretch:
    """The line of a header, and those of the keys below it."""

    line: int
    keys: dict[str, int] = field(default_factory=dict)


def faults_of(text: str, error: ValidationError, model: type[BaseModel] = Tables) -> list[str]:
    """Return one line a fault of a text that should be such a *model*, in the order of the file."""
    # A table whose every row is faulty counts as empty too; that is no fault of its own.
    items = [item for item in error.errors() if not (item["type"] == "too_short" and item["input"])]
    outline = Outline(text)
    told = [(outline.line_of(_named(item["loc"])), _told(item, model)) for item in items]
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
