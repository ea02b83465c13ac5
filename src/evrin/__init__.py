"""Existing-ground terrain models that are written down, checked and traced to their shots."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from evrin.errors import (
        DataError,
        EditError,
        EvrinError,
        GeometryError,
        MissingPackageError,
        RecipeError,
    )
    from evrin.formats import read_surface, write
    from evrin.recipe import Recipe
    from evrin.surface import Surface, triangulate

__version__ = "0.1.0"

__all__ = [
    "DataError",
    "EditError",
    "EvrinError",
    "GeometryError",
    "MissingPackageError",
    "Recipe",
    "RecipeError",
    "Surface",
    "read_surface",
    "triangulate",
    "write",
]

_HOME = {
    "Recipe": "evrin.recipe",
    "Surface": "evrin.surface",
    "read_surface": "evrin.formats",
    "triangulate": "evrin.surface",
    "write": "evrin.formats",
}


def __getattr__(name: str) -> Any:
    # Heavy modules load when a name is first used, so that `import evrin` and `evrin --help` stay quick.
    if name not in __all__:
        raise AttributeError(f"module 'evrin' has no attribute {name!r}")
    return getattr(import_module(_HOME.get(name, "evrin.errors")), name)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
