"""The recipe: its tables, the steps that they ask for, the build, comparing two builds, freezing one."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
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

exported(__name__)


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
