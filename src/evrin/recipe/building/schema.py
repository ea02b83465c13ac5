"""The schema of a whole recipe, put together from what steps and edits declare."""

from __future__ import annotations

from typing import Any

from pydantic import create_model

from evrin.base.discovery import load_modules
from evrin.base.named_values import Row
from evrin.recipe.edits import EDITS, edit_models
from evrin.recipe.steps import STEPS
from evrin.recipe.tables import Kind, Tables, files_in
from evrin.recipe.tables.input_files import with_unit_of_drawings

_MADE: dict[tuple[str, ...], type[Tables]] = {}


def tables_model() -> type[Tables]:
    """Return the model of a whole recipe, with a key for each kind of table that is declared."""
    load_modules("evrin.recipe.steps")
    edits = edit_models()
    declared = (*(step.name for step in STEPS), *EDITS)
    if declared not in _MADE:
        fields: Row = {}
        for step in STEPS:
            if step.kind is not None:
                fields[step.kind.key] = Tables.field_of(step.kind, needed=step.is_needed)
        fields["edit"] = (tuple[edits, ...], ())  # type: ignore[valid-type]
        _MADE[declared] = create_model("Recipe", __base__=Tables, **fields)
    return _MADE[declared]


def tables_of(document: dict[str, object]) -> Tables:
    """Return the tables of a parsed recipe, default lengths in the site's unit.

    Raises
    ------
    pydantic.ValidationError
        With every fault at once.
    """
    tables = tables_model().model_validate(document)
    if tables.site.drawing_units:
        tables = with_unit_of_drawings(tables, tables.site.drawing_units)
    return tables.with_lengths_in(tables.site.units) if tables.site.units != "m" else tables


def files_named(tables: Tables) -> list[str]:
    """Return every file that a recipe reads, also in tables that are off."""
    return sorted({name for _, name, _ in files_in(tables)})


def _kinds() -> list[Kind[Any]]:
    load_modules("evrin.recipe.steps")
    return [step.kind for step in STEPS if step.kind is not None]


def listed_kinds() -> tuple[str, ...]:
    """Return the keys of tables of which there can be several, in the order of the work."""
    return tuple(kind.key for kind in _kinds() if kind.listed)


def single_kinds() -> tuple[str, ...]:
    """Return the keys of tables of which there is one, in the order of the work."""
    return ("site", *(kind.key for kind in _kinds() if not kind.listed))


def switchable() -> tuple[str, ...]:
    """Return the keys of tables that can be listed, switched and dropped, in the order of the work."""
    return tuple(kind.key for kind in _kinds() if kind.key != "field_codes")
