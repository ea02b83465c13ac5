"""What the sub-commands of `evrin edit` share: a recipe is changed, the change is printed, and saved or not."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING

from evrin.base.cache_folder import locked
from evrin.cli.asking.compare_and_freeze import print_comparison
from evrin.cli.terminal import DONE, messages, output, progress

if TYPE_CHECKING:
    from evrin.recipe.document.recipe_text import RecipeDocument
    from evrin.recipe.recipe import Recipe

Change = Callable[["RecipeDocument"], None]
RECIPE: ContextVar[Path] = ContextVar("recipe")


def recipe_of_command() -> Path:
    """Return the recipe named before the sub-command."""
    return RECIPE.get()


def changed(change: Change, *, dry_run: bool, without: list[str] | None = None) -> int:
    """Change the recipe, print what has changed in it, and save it unless only that was asked for."""
    from evrin.recipe.document.recipe_text import RecipeDocument

    recipe = recipe_of_command()
    with locked(recipe):
        document = RecipeDocument(recipe, may_be_faulty=True)
        before, text = _as_it_is(document), document.text
        undone = _undone(before, document, without or [])
        change(document)
        document.recipe()
        diff = difflib.unified_diff(text.splitlines(), document.text.splitlines(), "before", "after", lineterm="", n=1)
        for row in diff:
            output().print(row)
        for what in undone:
            messages().print(f"without it {what}")
        if dry_run:
            if before is not None:
                _print_effect(before, document)
            messages().print("recipe unchanged (--dry-run)", style="dim")
        else:
            document.save()
            messages().print(f"changed {document.path}", style="dim")
    return DONE


def _as_it_is(document: RecipeDocument) -> Recipe | None:
    """The recipe before it is changed; None where it has faults, as the change may be what corrects them."""
    from evrin.base.errors import RecipeError

    try:
        return document.recipe()
    except RecipeError:
        return None


def _undone(recipe: Recipe | None, document: RecipeDocument, words: list[str]) -> list[str]:
    """What the surface is like without the edits that words mean."""
    if recipe is None:
        return []
    meant = dict.fromkeys(table for word in words for table in document.tables_named(word))
    edits = recipe.tables.edit  # type: ignore[attr-defined]
    numbers = [number or 1 for kind, number in meant if kind == "edit"]
    return [edits[number - 1].undone for number in numbers if 1 <= number <= len(edits)]


def _print_effect(before: Recipe, document: RecipeDocument) -> None:
    """Build the recipe before and after the change, and print what differs on the ground."""
    from evrin.recipe.handover.comparison import compare

    after = document.recipe()
    with progress() as step:
        builds = (before.build(step, keep=True), after.build(step, keep=True))
    comparison = compare(*builds, names=("before", "after"))
    for name, built in zip(comparison.names, builds, strict=True):
        surface = built.surface
        what = f"{len(surface.vertices):,} vertices, {len(surface.triangles):,} triangles"
        output().print(f"{name}: {what}, plan area {surface.plan_area:,.1f} {surface.units}²")
    print_comparison(comparison)
