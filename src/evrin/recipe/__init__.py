"""The recipe: its schema, its text-preserving edits, the build, comparing two builds, freezing one."""

from evrin.recipe.build import Build
from evrin.recipe.compare import Comparison, compare
from evrin.recipe.document import RecipeDocument
from evrin.recipe.freeze import freeze
from evrin.recipe.recipe import Recipe
from evrin.recipe.stages import Stage

__all__ = ["Build", "Comparison", "Recipe", "RecipeDocument", "Stage", "compare", "freeze"]
