"""The steps of a build, one file each: the table that asks for it, its place, what it does and what that rests on.

Every file in this folder is loaded, so adding a step is adding a file.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from evrin.recipe.building.after_building import AfterBuilding
from evrin.recipe.building.work import Work
from evrin.recipe.tables import Kind, Tables


class Phase(IntEnum):
    """What steps of one phase change: rows and lines, the mesh, its extent, single triangles, nothing any more."""

    ROWS = 1
    MESH = 2
    EXTENT = 3
    EDITS = 4
    CHECK = 5


Act = Callable[[Work], str]


@dataclass(frozen=True)
class Step:
    """One step.

    Attributes
    ----------
    name : str
        In the log of stages.
    place : int
        In the order of steps, and of tables in listings.
    phase : Phase
        When it is done.
    kind : Kind or None
        The kind of table that it declares.
    act : callable or None
        Does it, and returns in words what it did; None for a table that other steps read.
    is_asked : callable
        Whether there is anything to do; by default, whether a table of its kind is on.
    group : str
        What a recipe taken apart group by group calls it; empty where it is never taken apart.
    keys : tuple of str
        Keys of ``[[source]]`` that ask for it, where it has no table of its own.
    rests_on : callable or None
        Further values of the recipe that its result depends on.
    is_needed : bool
        Whether a recipe needs at least one such table.
    after : AfterBuilding or None
        What it does with the built surface, and how that is shown.
    """

    name: str
    place: int
    phase: Phase
    kind: Kind[Any] | None = None
    act: Act | None = None
    is_asked: Callable[[Work], bool] | None = None
    group: str = ""
    keys: tuple[str, ...] = ()
    rests_on: Callable[[Tables], object] | None = None
    is_needed: bool = False
    after: AfterBuilding[Any] | None = None

    def is_due(self, work: Work) -> bool:
        """Whether there is anything to do."""
        if self.is_asked is not None:
            return self.is_asked(work)
        return self.kind is None or bool(work.tables.on(self.kind))


STEPS: list[Step] = []


def step(declared: Step) -> Step:
    """Declare a step.

    Raises
    ------
    ValueError
        Where another has its name, its place or its kind of table.
    """
    for other in STEPS:
        same_kind = declared.kind is not None and other.kind is not None and declared.kind.key == other.kind.key
        if declared.name == other.name or declared.place == other.place or same_kind:
            raise ValueError(f"step {declared.name!r} has the name, place or table of {other.name!r}")
    STEPS.append(declared)
    STEPS.sort(key=lambda each: each.place)
    return declared


def after_building() -> list[tuple[Kind[Any], AfterBuilding[Any]]]:
    """Return what is declared for the time after building, each with its kind of table, in the order of the work."""
    return [(each.kind, each.after) for each in STEPS if each.after is not None and each.kind is not None]


def kinds() -> list[Kind[Any]]:
    """Return the kinds of tables that are declared, in the order of the work."""
    return [each.kind for each in STEPS if each.kind is not None]
