"""Everything that Evrin raises on purpose.

::

    EvrinError
    ├── DataError (ValueError)       the numbers or the file are not what they must be
    ├── GeometryError (ValueError)   the shape asked for does not exist
    ├── EditError (ValueError)       an edit does not fit the surface
    ├── RecipeError (ValueError)     a recipe is wrong; holds every fault at once
    └── MissingPackageError (ImportError)   an optional package is needed
"""

from evrin.wording import counted

__all__ = ["DataError", "EditError", "EvrinError", "GeometryError", "MissingPackageError", "RecipeError"]


class EvrinError(Exception):
    """Base of all errors that Evrin raises on purpose."""


class DataError(EvrinError, ValueError):
    """Input that cannot be used: what is wrong, where, and how to fix it."""


class GeometryError(EvrinError, ValueError):
    """A geometric construction that does not exist for this input."""


class EditError(EvrinError, ValueError):
    """An edit that does not fit the surface it is applied to."""


class RecipeError(EvrinError, ValueError):
    """All the faults found in one recipe.

    Parameters
    ----------
    source : str
        The recipe's file.
    faults : list of str
        One line each, in the order of the file.
    """

    def __init__(self, source: str, faults: list[str]) -> None:
        self.source = source
        self.faults = faults
        super().__init__(f"{source}: {counted(len(faults), 'fault')}\n" + "\n".join(f"  {fault}" for fault in faults))


class MissingPackageError(EvrinError, ImportError):
    """A package that only some users need is not installed."""
