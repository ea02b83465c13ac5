"""All that is wrong with a recipe at once, by line."""

from __future__ import annotations

import difflib
import re
import types
import typing
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from pydantic import BaseModel, ValidationError

from evrin.recipe.tables.base import meanings_of

if TYPE_CHECKING:
    from pydantic_core import ErrorDetails

_HEADER = re.compile(r"^\s*(\[\[?)\s*([\w.\-]+)\s*\]\]?")


class Outline:
    r"""Where the tables and keys of a recipe's text are.

    Parameters
    ----------
    text : str
        The recipe.

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
        """Return the line, from 1, of a key, or of its table where the key is not found."""
        names = [part for part in path if isinstance(part, str)]
        wanted = next((part for part in path if isinstance(part, int)), 0)
        stretches = self._stretches.get((names[0], wanted)) or self._stretches.get((names[0], 0))
        if stretches is None:
            return next((self._first.keys[name] for name in reversed(names) if name in self._first.keys), 1)
        line = stretches[0].line
        for stretch in stretches:
            line = max([line, *(stretch.keys[name] for name in names if name in stretch.keys)])
        return line


@dataclass
class _Stretch:
    """The line of a header, and those of the keys below it."""

    line: int
    keys: dict[str, int] = field(default_factory=dict)


def faults_of(text: str, error: ValidationError, model: type[BaseModel]) -> list[str]:
    """Return one line for each fault of a text that should be such a *model*, in the order of the file."""
    # A table whose every row is faulty counts as empty too; that is not a fault of its own.
    items = [item for item in error.errors() if not (item["type"] == "too_short" and item["input"])]
    # Of a key that can be a text or a table, a table is faulted as a table.
    items = [item for item in items if not (item["loc"][-1:] == ("str",) and isinstance(item["input"], dict))]
    outline = Outline(text)
    faults = [(outline.line_of(_path_of(item, model)), _fault(item, model)) for item in items]
    return [f"line {line}: {what}" for line, what in sorted(faults)]


def in_words(error: ValidationError) -> str:
    """Return what is wrong with values that come from no file, as one sentence.

    Examples
    --------
    >>> from pydantic import TypeAdapter
    >>> try:
    ...     TypeAdapter(dict[str, int]).validate_python({"level": "high"})
    ... except ValidationError as error:
    ...     in_words(error)
    'level: Input should be a valid integer, unable to parse string as an integer'
    """
    faults = [(".".join(map(str, item["loc"])), item["msg"].removeprefix("Value error, ")) for item in error.errors()]
    return "; ".join(f"{where}: {what}" if where else what for where, what in faults)


def _path_of(item: ErrorDetails, model: type[BaseModel]) -> tuple[str | int, ...]:
    """Where the fault is, without the names of the alternatives that were tried."""
    path = item["loc"]
    if item["type"].startswith("union_tag"):
        return (*path, item["ctx"]["discriminator"].strip("'"))
    kept: list[str | int] = []
    for k, part in enumerate(path):
        is_tag = k > 0 and isinstance(path[k - 1], int) and part in _alternatives(path[:k], model)
        is_type = isinstance(part, str) and (part.startswith("literal[") or part in ("HeightFrom", "OutlineFile"))
        if not (is_tag or is_type):
            kept.append(part)
    return tuple(kept)


def _fault(item: ErrorDetails, model: type[BaseModel]) -> str:
    path = _path_of(item, model)
    where = _place(path)
    if item["type"].startswith("union_tag"):
        names = sorted(_alternatives(item["loc"], model))
        tag = item.get("ctx", {}).get("tag")
        if tag is None:
            return f"{where}: needed and missing; known here: {', '.join(names)}"
        return f"{where}: {tag!r} is not known{_nearest(str(tag), names)}"
    if item["type"] == "extra_forbidden":
        parent = _model_at(item["loc"][:-1], model)
        return f"{where}: no such key{_nearest(str(path[-1]), sorted(parent.model_fields))}"
    if item["type"] == "missing":
        parent = _model_at(item["loc"][:-1], model)
        meaning = meanings_of(parent).get(str(path[-1]), "")
        explanation = f" ({meaning[0].lower()}{meaning[1:].rstrip('.')})" if meaning else ""
        return f"{where}: needed and missing{explanation}"
    got = "" if isinstance(item["input"], dict) else f"; found {item['input']!r}"
    message = item["msg"].removeprefix("Value error, ")
    return f"{where}: {message[0].lower()}{message[1:]}{got}"


def _place(path: tuple[str | int, ...]) -> str:
    parts: list[str] = []
    for part in path:
        if isinstance(part, int):
            parts[-1] += f" {part + 1}"
        else:
            parts.append(part)
    return " → ".join(parts)


def _nearest(word: str, names: list[str]) -> str:
    near = difflib.get_close_matches(word, names, 1)
    return f"; did you mean {near[0]!r}?" if near else f"; known here: {', '.join(names)}"


def _model_at(path: tuple[str | int, ...], model: type[BaseModel]) -> type[BaseModel]:
    """The model of what is at a place, by its tag where there are several."""
    among: dict[str, type[BaseModel]] = {}
    for part in path:
        if isinstance(part, str) and part in among:
            model, among = among[part], {}
        elif isinstance(part, str) and part in model.model_fields:
            models = _models_in(model.model_fields[part].annotation)
            among = {tag: each for each in models for tag in _tags_of(each)}
            model = models[0] if models else model
    return model


def _alternatives(path: tuple[str | int, ...], model: type[BaseModel]) -> dict[str, type[BaseModel]]:
    """The models that can be at a place, by tag."""
    key = next((part for part in reversed(path) if isinstance(part, str)), "")
    parent = _model_at(path[: path.index(key)] if key in path else (), model)
    if key not in parent.model_fields:
        return {}
    return {tag: each for each in _models_in(parent.model_fields[key].annotation) for tag in _tags_of(each)}


def _tags_of(model: type[BaseModel]) -> list[str]:
    """The one value of each key that can have no other."""
    values = [typing.get_args(field.annotation) for field in model.model_fields.values() if field.is_required()]
    return [value[0] for value in values if len(value) == 1 and isinstance(value[0], str)]


def _models_in(annotation: object) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and not isinstance(annotation, types.GenericAlias):
        return [annotation] if issubclass(annotation, BaseModel) else []
    return [model for each in typing.get_args(annotation) for model in _models_in(each)]
