"""The recipe: its tables, the steps that they ask for, the build, comparing two builds, freezing one."""

from evrin.recipe.build import Build
from evrin.recipe.document.draft import draft
from evrin.recipe.document.text import RecipeDocument
from evrin.recipe.edits import Edit, checked_edit
from evrin.recipe.handover.comparison import Comparison, compare
from evrin.recipe.handover.freeze import freeze
from evrin.recipe.preview import EditPreview
from evrin.recipe.recipe import Recipe
from evrin.recipe.stage_log import Stage

__all__ = [
    "Build",
    "Comparison",
    "Edit",
    "EditPreview",
    "Recipe",
    "RecipeDocument",
    "Stage",
    "checked_edit",
    "compare",
    "draft",
    "freeze",
]
