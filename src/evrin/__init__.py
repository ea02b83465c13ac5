"""Existing-ground terrain models that are written down, checked and traced to their shots."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.analysis import Alignment, CheckPoints, Contours, Profile
    from evrin.base.errors import DataError, EditError, EvrinError, GeometryError, MissingPackageError, RecipeError
    from evrin.formats import read_surface, write, write_lines
    from evrin.making import Editor, triangulate
    from evrin.recipe import Build, Recipe, RecipeDocument, checked_edit, compare, freeze
    from evrin.surface import Frame, Grid, Shots, SourceLine, Surface

__version__ = "0.1.0"

__all__ = [
    "Alignment",
    "Build",
    "CheckPoints",
    "Contours",
    "DataError",
    "EditError",
    "Editor",
    "EvrinError",
    "Frame",
    "GeometryError",
    "Grid",
    "MissingPackageError",
    "Profile",
    "Recipe",
    "RecipeDocument",
    "RecipeError",
    "Shots",
    "SourceLine",
    "Surface",
    "checked_edit",
    "compare",
    "freeze",
    "read_surface",
    "triangulate",
    "write",
    "write_lines",
]

if not TYPE_CHECKING:
    # Heavy modules load when a name is first used, so that `import evrin` and `evrin --help` stay quick.
    __getattr__ = loader(
        __name__,
        {
            "Alignment": "evrin.analysis",
            "Build": "evrin.recipe",
            "CheckPoints": "evrin.analysis",
            "Contours": "evrin.analysis",
            "DataError": "evrin.base.errors",
            "EditError": "evrin.base.errors",
            "Editor": "evrin.making",
            "EvrinError": "evrin.base.errors",
            "Frame": "evrin.surface",
            "GeometryError": "evrin.base.errors",
            "Grid": "evrin.surface",
            "MissingPackageError": "evrin.base.errors",
            "Profile": "evrin.analysis",
            "Recipe": "evrin.recipe",
            "RecipeDocument": "evrin.recipe",
            "RecipeError": "evrin.base.errors",
            "Shots": "evrin.surface",
            "SourceLine": "evrin.surface",
            "Surface": "evrin.surface",
            "checked_edit": "evrin.recipe",
            "compare": "evrin.recipe",
            "freeze": "evrin.recipe",
            "read_surface": "evrin.formats",
            "triangulate": "evrin.making",
            "write": "evrin.formats",
            "write_lines": "evrin.formats",
        },
    )
