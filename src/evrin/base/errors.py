"""Everything that Evrin raises on purpose.

::

    EvrinError
    ├── DataError (ValueError)       the numbers or the file are not what they must be
    ├── GeometryError (ValueError)   the shape asked for does not exist
    ├── EditError (ValueError)       an edit does not fit the surface
    ├── RecipeError (ValueError)     a recipe is wrong; holds every fault at once
    └── MissingPackageError (ImportError)   an optional package is needed
"""

from evrin.base.wording import counted

__all__ = ["DataError", "EditError", "EvrinError", "GeometryError", "MissingPackageError", "RecipeError"]


class EvrinError(Exception):
    """Base of all errors that Evrin raises on purpose.

    Examples
    --------
    >>> import evrin
    >>> issubclass(evrin.DataError, evrin.EvrinError)
    True
    """


class DataError(EvrinError, ValueError):
    """Input that cannot be used: what is wrong, where, and how to fix it.

    Examples
    --------
    >>> import evrin
    >>> try:
    ...     evrin.triangulate([[0, 0]])
    ... except evrin.DataError as error:
    ...     print(error)
    points must have shape (n, 3): easting, northing, height; they have (1, 2)
    """


class GeometryError(EvrinError, ValueError):
    """A geometric construction that does not exist for this input.

    Examples
    --------
    >>> import evrin
    >>> try:
    ...     evrin.triangulate([[0, 0, 1], [1, 1, 1]])
    ... except evrin.GeometryError as error:
    ...     print(error)
    a surface needs at least 3 distinct places; there are 2
    """


class EditError(EvrinError, ValueError):
    """An edit that does not fit the surface it is applied to.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> try:
    ...     evrin.Editor.of(field).flip((40.0, 40.0))
    ... except evrin.EditError as error:
    ...     print(error)
    (40.0, 40.0) lies outside the surface
    """


class RecipeError(EvrinError, ValueError):
    r"""All the faults found in one recipe.

    Parameters
    ----------
    source : str
        The recipe's file.
    faults : list of str
        One line each, in the order of the file.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text() + "[trim]\nlongest = 3\n")
    >>> try:
    ...     evrin.Recipe.read(path)
    ... except evrin.RecipeError as error:
    ...     print(error.faults[0])
    line 9: trim → longest: no such key; did you mean 'longest_edge'?
    """

    def __init__(self, source: str, faults: list[str]) -> None:
        self.source = source
        self.faults = faults
        super().__init__(f"{source}: {counted(len(faults), 'fault')}\n" + "\n".join(f"  {fault}" for fault in faults))


class MissingPackageError(EvrinError, ImportError):
    """A package that only some users need is not installed.

    Examples
    --------
    >>> import evrin
    >>> issubclass(evrin.MissingPackageError, ImportError)
    True
    """
