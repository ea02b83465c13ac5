"""A recipe taken one group of tables at a time, to see what each does."""

from __future__ import annotations

from typing import Any

from evrin.recipe.schema import Table, Tables

_GROUPS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("single shots left out", ("leave_out",)),
    ("lines cut and parted", ("cut_line", "wall")),
    ("lines weeded and filled", ("source",)),
    ("flats laid", ("flat",)),
    ("busts left out", ("busts",)),
    ("duplicates settled", ("duplicates",)),
    ("crossings settled", ("crossings",)),
    ("turned along alignments", ("along",)),
    ("flat triangles mended", ("flat_triangles",)),
    ("rim trimmed", ("trim",)),
    ("boundaries cut", ("boundary", "carve")),
    ("edits applied", ("edit",)),
)


def steps(tables: Tables) -> list[tuple[str, Tables]]:
    """Return what a recipe says group by group: the sources alone, then with each further group that says something.

    The last one is the whole recipe. Acceptances hold from the beginning.

    Returns
    -------
    list of (str, Tables)
        What was added, and the tables with it.
    """
    bare = tuple(source.model_copy(update={"weed": None, "fill": None}) for source in tables.source)
    fields = type(tables).model_fields
    update: dict[str, Any] = {"source": bare}
    for _, names in _GROUPS:
        update |= {name: fields[name].get_default() for name in names if name != "source"}
    now = tables.model_copy(update=update)
    out = [("sources as selected", now)]
    for label, names in _GROUPS:
        further = now.model_copy(update={name: getattr(tables, name) for name in names})
        if any(_says_something(getattr(further, name), getattr(now, name)) for name in names):
            out.append((label, further))
        now = further
    return out


def _says_something(value: Any, before: Any) -> bool:
    return bool(_active(value) != _active(before))


def _active(value: Any) -> Any:
    """What of a table, or of several, is switched on."""
    if isinstance(value, tuple):
        return [row for row in value if row.on]
    if isinstance(value, Table) and not getattr(value, "on", True):
        return None
    return value
