"""Write docs/recipe.md, every table of a recipe with its keys, from the steps and edits themselves."""

from __future__ import annotations

import json
from pathlib import Path
from textwrap import fill
from typing import Any, get_args

from pydantic import BaseModel

from evrin.recipe.building.schema import tables_model
from evrin.recipe.edits import EDITS
from evrin.recipe.steps import STEPS
from evrin.recipe.tables import Site
from evrin.recipe.tables.base import is_default_length, meanings_of

HEAD = """\
# The tables of a recipe

In the order of the work; in the file, any order will do. A build runs these steps:
{steps}.

Lengths are in the site's unit. A default that is written in metres is converted where the site is in feet. Every table
may have `why = "…"`; those that can be switched off have `on = false`. This page is made from the steps and edits
themselves by `docs/make_recipe_page.py`.
"""
LEFT_OUT = {"why", "on", "do"}


def _default(field: Any) -> str:
    if field.is_required():
        return "needed"
    value = field.get_default(call_default_factory=True)
    if is_default_length(field):
        return f"`{value:g}` m"
    if value is None or value in ("", ()) or isinstance(value, BaseModel):
        return ""
    return f"`{json.dumps(value, ensure_ascii=False)}`"


def _kind(schema: dict[str, Any], whole: dict[str, Any]) -> str:
    """Return what a value is: a number, a text, one of some words, or a list."""
    if "$ref" in schema:
        return _kind(whole["$defs"][schema["$ref"].rsplit("/", 1)[-1]], whole)
    if "enum" in schema:
        return " or ".join(f'`"{word}"`' for word in schema["enum"])
    if "const" in schema:
        return f'`"{schema["const"]}"`'
    if "anyOf" in schema:
        parts = [_kind(part, whole) for part in schema["anyOf"] if part.get("type") != "null"]
        return " or ".join(dict.fromkeys(parts))
    if schema.get("type") == "array":
        places = schema.get("prefixItems")
        return f"{len(places)} numbers" if places else f"list of {_kind(schema.get('items', {}), whole)}"
    words = {"number": "number", "integer": "whole number", "string": "text", "boolean": "true or false"}
    return words.get(schema.get("type", ""), "table")


def _tables_within(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [found for part in get_args(annotation) for found in _tables_within(part)]


def _rows(model: type[BaseModel], before: str = "") -> list[str]:
    whole, rows = model.model_json_schema(), []
    for name, field in model.model_fields.items():
        if name in LEFT_OUT:
            continue
        key = field.alias or name
        inner = _tables_within(field.annotation)
        what = meanings_of(model).get(name) or (_summary(inner[0]) if inner else "")
        rows.append(f"| `{before}{key}` | {_kind(whole['properties'][key], whole)} | {_default(field)} | {what} |")
        for table in inner:
            rows += _rows(table, f"{before}{key}.")
    return rows


def keys_of(model: type[BaseModel]) -> list[str]:
    """Return the rows of one table's keys, those of tables within it after a point."""
    return ["| key | value | default | what it is |", "|---|---|---|---|", *_rows(model), ""]


def _summary(model: type[BaseModel]) -> str:
    return (model.__doc__ or "").strip().split("\n\n")[0].replace("\n    ", " ")


def page() -> str:
    """Return the page: a heading and the keys for each table, then for each kind of edit."""
    tables_model()
    lines = [HEAD.format(steps=fill(", ".join(each.name for each in STEPS), 118))]
    lines += ["## `[site]`", "", _summary(Site), "", *keys_of(Site)]
    for kind in (each.kind for each in STEPS):
        if kind is None or kind.key == "edit":
            continue
        name = f"[[{kind.key}]]" if kind.listed else f"[{kind.key}]"
        lines += [f"## `{name}`", "", _summary(kind.model), "", *keys_of(kind.model)]
    lines += ["## `[[edit]]`", "", "An edit, by hand or from the viewer; what it does is its `do`.", ""]
    for name, model in EDITS.items():
        lines += [f'### `do = "{name}"`', "", _summary(model), "", *keys_of(model)]
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    (Path(__file__).parent / "recipe.md").write_text(page(), encoding="utf-8")
