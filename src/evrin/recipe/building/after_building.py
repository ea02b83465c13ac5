"""What a table of the last phase does with the built surface, and how its results are shown.

A step of that phase declares all of it in its own file: the build, its printed form, its JSON and the report only go
through the declarations.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Generic, TypeVar

from evrin.base.named_values import Row
from evrin.base.shown_table import TextTable
from evrin.check import Finding
from evrin.recipe.building.work import Work
from evrin.recipe.store.digests import digest_of
from evrin.recipe.tables import Table
from evrin.recipe.tables.input_files import files_in
from evrin.surface.surface import Surface

Result = TypeVar("Result")


@dataclass(frozen=True)
class Added(Generic[Result]):
    """What a step adds to a build.

    Attributes
    ----------
    surface : Surface
        The surface from then on.
    results : list
        One for each table that could be worked out.
    findings : list of Finding
        What came up.
    """

    surface: Surface
    results: list[Result]
    findings: list[Finding]


@dataclass(frozen=True)
class AfterBuilding(Generic[Result]):
    """What a step of the last phase does.

    Attributes
    ----------
    name : str
        Key of its results in JSON.
    act : callable
        Takes the work, the surface and the digests behind it, and returns what is added.
    kind : type
        The class of its results.
    answer : callable
        Returns one result as JSON has it.
    shape : dict
        JSON Schema of that.
    printed : callable
        Takes all results and the unit, and returns the tables that a printed build shows.
    reported : callable
        Returns the tables that a report shows, likewise.
    annex : {"volumes", "sources"}
        The part of the report in which they are.
    figures : callable, optional
        Returns figures of one result by name, which are remembered for the next build.
    with_before : callable, optional
        Takes a result and its figures at the build before, where they are known, and returns it with them.
    """

    name: str
    act: Callable[[Work, Surface, dict[str, str]], Added[Result]]
    kind: type[Result]
    answer: Callable[[Result], Row]
    printed: Callable[[list[Result], str], list[TextTable]]
    reported: Callable[[list[Result], str], list[TextTable]]
    shape: Row = field(default_factory=lambda: {"type": "object"})
    annex: str = "volumes"
    figures: Callable[[Result], dict[str, float]] | None = None
    with_before: Callable[[Result, dict[str, float]], Result] | None = None

    def of(self, results: Iterable[object]) -> list[Result]:
        """Return those of a build's results that are its own."""
        return [each for each in results if isinstance(each, self.kind)]


def key_after(name: str, parts: dict[str, str], without: Iterable[str], tables: Iterable[Table]) -> str:
    """Return the key under which a result is kept; empty if a recipe is part of it, as its files are not known.

    Parameters
    ----------
    name : str
        What the result is.
    parts : dict of str to str
        Digests of what the build rests on.
    without : iterable of str
        Kinds of tables that do not affect it.
    tables : iterable of Table
        Tables that it follows from, the last one its own.
    """
    stated = [table.model_dump(mode="json") for table in tables]
    if any(file.lower().endswith(".toml") for table in tables for _, file, _ in files_in(table)):
        return ""
    left_out = {f"[{kind}]" for kind in without}
    rest = sorted((part, digest) for part, digest in parts.items() if part not in left_out)
    return digest_of(name, rest, stated)
