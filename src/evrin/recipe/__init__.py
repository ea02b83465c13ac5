"""The recipe: its tables, the steps that they ask for, the build, comparing two builds, freezing one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from evrin.base.exports import loader
from evrin.recipe.handover.nested import builders

if TYPE_CHECKING:
    from evrin.recipe.build import Build
    from evrin.recipe.building.preview import EditPreview
    from evrin.recipe.building.stage_log import Stage
    from evrin.recipe.document.draft import draft
    from evrin.recipe.document.recipe_text import RecipeDocument
    from evrin.recipe.edits import Edit, checked_edit
    from evrin.recipe.handover.comparison import Comparison, compare
    from evrin.recipe.handover.freeze import freeze
    from evrin.recipe.handover.volume_record import RecordEntry, append_entry, read_record
    from evrin.recipe.recipe import Recipe
    from evrin.recipe.steps.combine import BuiltCombination
    from evrin.recipe.steps.volume import BuiltVolume
    from evrin.surface import Surface

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

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Build": "evrin.recipe.build",
            "BuiltCombination": "evrin.recipe.steps.combine",
            "BuiltVolume": "evrin.recipe.steps.volume",
            "Comparison": "evrin.recipe.handover.comparison",
            "Edit": "evrin.recipe.edits",
            "EditPreview": "evrin.recipe.building.preview",
            "RecordEntry": "evrin.recipe.handover.volume_record",
            "Recipe": "evrin.recipe.recipe",
            "RecipeDocument": "evrin.recipe.document.recipe_text",
            "Stage": "evrin.recipe.building.stage_log",
            "append_entry": "evrin.recipe.handover.volume_record",
            "checked_edit": "evrin.recipe.edits",
            "compare": "evrin.recipe.handover.comparison",
            "draft": "evrin.recipe.document.draft",
            "freeze": "evrin.recipe.handover.freeze",
            "read_record": "evrin.recipe.handover.volume_record",
        },
    )


def _build(path: Path) -> Surface:
    from evrin.recipe.recipe import Recipe

    return Recipe.read(path).build(keep=True).surface


builders.append(_build)
