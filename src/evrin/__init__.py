"""Existing-ground terrain models that are written down, checked and traced to their shots."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

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

# Heavy modules load when a name is first used, so that `import evrin` and `evrin --help` stay quick.
exported(__name__)
