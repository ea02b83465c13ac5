"""A recipe taken one group of tables at a time, to see what each does."""

from __future__ import annotations

from evrin.recipe.steps import STEPS, Step
from evrin.recipe.steps.source import SOURCE
from evrin.recipe.tables import Table, Tables


def steps_in_groups(tables: Tables) -> list[tuple[str, Tables]]:
    """Return a recipe group by group: the sources alone, then with each further group that asks for something.

    The last one is the whole recipe. Acceptances hold from the beginning.

    Returns
    -------
    list of (str, Tables)
        What was added, and the tables with it.
    """
    fields = type(tables).model_fields
    grouped = [step for step in STEPS if step.group]
    asked = {key for step in grouped for key in step.keys}
    bare = tuple(source.model_copy(update=dict.fromkeys(asked)) for source in tables.every(SOURCE))
    update: dict[str, object] = {SOURCE.key: bare}
    update |= {step.kind.key: fields[step.kind.key].get_default() for step in grouped if step.kind is not None}
    now = tables.model_copy(update=update)
    out = [("sources as selected", now)]
    for label in dict.fromkeys(step.group for step in grouped):
        further = now.model_copy(update=_of_group(tables, now, [step for step in grouped if step.group == label]))
        if _states(further) != _states(now):
            out.append((label, further))
        now = further
    return out


def _of_group(tables: Tables, now: Tables, group: list[Step]) -> dict[str, object]:
    """What the tables of a group are in the whole recipe."""
    update: dict[str, object] = {
        step.kind.key: getattr(tables, step.kind.key) for step in group if step.kind is not None
    }
    keys = [key for step in group for key in step.keys]
    if keys:
        pairs = zip(now.every(SOURCE), tables.every(SOURCE), strict=True)
        update[SOURCE.key] = tuple(
            one.model_copy(update={key: getattr(whole, key) for key in keys}) for one, whole in pairs
        )
    return update


def _states(tables: Tables) -> list[object]:
    """What is switched on."""
    return [_active(getattr(tables, name)) for name in type(tables).model_fields]


def _active(value: object) -> object:
    if isinstance(value, tuple):
        return [row for row in value if row.on]
    if isinstance(value, Table) and not getattr(value, "on", True):
        return None
    return value
