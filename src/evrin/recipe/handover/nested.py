"""A recipe that is built while another one is: where a table names a recipe as a surface."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from evrin.surface.surface import Surface

# What builds a recipe; the package adds it, as this module is part of what building rests on.
builders: list[Callable[[Path], Surface]] = []


def built(recipe: Path) -> Surface:
    """Return the surface of a recipe, from what is kept where nothing has changed.

    Parameters
    ----------
    recipe : Path
        The recipe to build.

    Returns
    -------
    Surface
    """
    return builders[-1](recipe)
