"""The recipe: its tables, the steps that they ask for, the build, comparing two builds, freezing one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from evrin.lazy import exported
from evrin.recipe.handover.nested import builders

if TYPE_CHECKING:
    from pathlib import Path

    from evrin.recipe.build import Build
    from evrin.recipe.document.draft import draft
    from evrin.recipe.document.text import RecipeDocument
    from evrin.recipe.edits import Edit, checked_edit
    from evrin.recipe.handover.comparison import Comparison, compare
    from evrin.recipe.handover.freeze import freeze
    from evrin.recipe.handover.volume_record import Entry as RecordEntry
    from evrin.recipe.handover.volume_record import append_entry, read_record
    from evrin.recipe.preview import EditPreview
    from evrin.recipe.recipe import Recipe
    from evrin.recipe.stage_log import Stage
    from evrin.recipe.steps.combine import BuiltCombination
    from evrin.recipe.steps.volume import BuiltVolume
    from evrin.surface import Surface

exported(__name__)


def _build(path: Path) -> Surface:
    from evrin.recipe.recipe import Recipe

    return Recipe.read(path).build(keep=True).surface


builders.append(_build)


__all__ = [
    "Build",
    "BuiltCombination",
    "BuiltVolume",
    "Comparison",
    "Edit",
    "EditPreview",
    "Recipe",
    "RecipeDocument",
    "RecordEntry",
    "Stage",
    "append_entry",
    "checked_edit",
    "compare",
    "draft",
    "freeze",
    "read_record",
]
