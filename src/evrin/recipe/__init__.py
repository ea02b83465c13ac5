"""The recipe: its schema, its text-preserving edits, and the build."""

from evrin.recipe.build import Build
from evrin.recipe.document import RecipeDocument
from evrin.recipe.recipe import Recipe
from evrin.recipe.stages import Stage

__all__ = ["Build", "Recipe", "RecipeDocument", "Stage"]
