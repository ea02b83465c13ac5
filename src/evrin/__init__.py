"""Existing-ground terrain models that are written down, checked and traced to their shots."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from evrin.analysis import Alignment, CheckPoints, Contours, Profile
    from evrin.errors import (
        DataError,
        EditError,
        EvrinError,
        GeometryError,
        MissingPackageError,
        RecipeError,
    )
    from evrin.formats import read_surface, write, write_lines
    from evrin.recipe import Build, Recipe, RecipeDocument, checked_edit, compare, freeze
    from evrin.surface import Editor, Frame, Grid, Shots, SourceLine, Surface, triangulate

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

_HOME = {
    "Alignment": "evrin.analysis",
    "Build": "evrin.recipe",
    "CheckPoints": "evrin.analysis",
    "Contours": "evrin.analysis",
    "Editor": "evrin.surface",
    "Frame": "evrin.surface",
    "Grid": "evrin.surface",
    "Profile": "evrin.analysis",
    "Recipe": "evrin.recipe",
    "RecipeDocument": "evrin.recipe",
    "Shots": "evrin.surface",
    "SourceLine": "evrin.surface",
    "Surface": "evrin.surface",
    "checked_edit": "evrin.recipe",
    "compare": "evrin.recipe",
    "freeze": "evrin.recipe",
    "read_surface": "evrin.formats",
    "triangulate": "evrin.surface",
    "write": "evrin.formats",
    "write_lines": "evrin.formats",
}


def __getattr__(name: str) -> Any:
    # Heavy modules load when a name is first used, so that `import evrin` and `evrin --help` stay quick.
    if name not in __all__:
        raise AttributeError(f"module 'evrin' has no attribute {name!r}")
    return getattr(import_module(_HOME.get(name, "evrin.errors")), name)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
