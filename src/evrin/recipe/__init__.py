"""The recipe: its schema, its text-preserving edits, and the build."""

from evrin.recipe.build import Build, Stage
from evrin.recipe.document import RecipeDocument
from evrin.recipe.recipe import Recipe

__all__ = ["Build", "Recipe", "RecipeDocument", "Stage"]
