"""The kinds of edits, one file each: what keys it has, what it does, and what the surface is like without it.

Every file in this folder is loaded, so adding a kind is adding a file.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, ClassVar, Union, cast

from pydantic import Field, TypeAdapter, ValidationError

from evrin.base.discovery import load_modules
from evrin.base.errors import DataError
from evrin.making.editor import Editor
from evrin.recipe.tables import Place, Table

if TYPE_CHECKING:
    from pydantic_core import ErrorDetails


class Edit(Table):
    """`[[edit]]`: one change to the triangles or vertices.

    A kind of edit is a subclass with the key ``do`` of one value, in a file of its own in ``recipe/edits``.

    Parameters
    ----------
    data : object
        The keys of the table.

    Attributes
    ----------
    help : str
        What it does, as the command line shows it.
    undone : str
        What the surface is like without it.
    vertex_keys : tuple of str
        Keys whose places mean vertices.

    Examples
    --------
    >>> import evrin
    >>> edit = evrin.checked_edit({"do": "flip", "at": (10.0, 20.0)})
    >>> edit.verb, edit.help
    ('flip', 'Flip the edge at a place.')
    """

    help: ClassVar[str] = ""
    undone: ClassVar[str] = ""
    vertex_keys: ClassVar[tuple[str, ...]] = ()
    why: str = ""
    """The reason, kept in the recipe."""
    on: bool = True

    @property
    def place(self) -> Place:
        """One place by which to find it on a map."""
        at = getattr(self, "at", None)
        if at is not None:
            return cast("Place", at)
        for key in ("joins", "polygon", "line"):
            places = getattr(self, key, None)
            if places:
                return sum(x for x, _ in places) / len(places), sum(y for _, y in places) / len(places)
        return (0.0, 0.0)

    @property
    def verb(self) -> str:
        """The kind of edit."""
        return str(self.do)  # type: ignore[attr-defined]

    def apply(self, editor: Editor, number: int) -> str:
        """Apply it, and return in words what it did.

        Parameters
        ----------
        editor : Editor
            What edits the mesh.
        number : int
            Of the edit in the recipe, from 1.

        Returns
        -------
        str

        Raises
        ------
        EditError
            Where it does not fit the surface.
        NotImplementedError
            For a kind without an `apply` of its own.
        """
        raise NotImplementedError

    def completed(self, editor: Editor) -> dict[str, object]:
        """Return further keys that make it independent of the vertices around it, before it is applied.

        Parameters
        ----------
        editor : Editor
            What edits the mesh.

        Returns
        -------
        dict
        """
        return {}


EDITS: dict[str, type[Edit]] = {}


def edit_kind(model: type[Edit]) -> type[Edit]:
    """Declare a kind of edit.

    Raises
    ------
    ValueError
        Where another has its name.
    """
    name = str(model.model_fields["do"].annotation.__args__[0])  # type: ignore[union-attr]
    if name in EDITS:
        raise ValueError(f"two kinds of edits are called {name!r}")
    EDITS[name] = model
    return model


def exactly_one(edit: Edit, *keys: str) -> None:
    """Refuse an edit that gives none or several of these keys.

    Raises
    ------
    ValueError
        With the keys.
    """
    if sum(getattr(edit, key) is not None for key in keys) != 1:
        raise ValueError(f"{edit.verb} needs {' or '.join(keys)}")


def edit_models() -> type[Edit]:
    """Return the annotation of an ``[[edit]]``: any kind that is declared."""
    load_modules("evrin.recipe.edits")
    return cast("type[Edit]", Annotated[Union[tuple(EDITS.values())], Field(discriminator="do")])  # noqa: UP007


def checked_edit(keys: Mapping[str, object]) -> Edit:
    """Return the edit that some keys describe.

    Parameters
    ----------
    keys : mapping
        ``do``, and the keys of that edit, as in the recipe.

    Returns
    -------
    Edit

    Raises
    ------
    DataError
        Where they describe none.

    Examples
    --------
    >>> checked_edit({"do": "delete", "at": (10.0, 20.0)}).place
    (10.0, 20.0)
    """
    try:
        return TypeAdapter(edit_models()).validate_python(dict(keys))
    except ValidationError as error:
        faults = [_fault(item, str(keys.get("do", ""))) for item in error.errors()]
        raise DataError(f"invalid edit: {'; '.join(faults)}") from error


def _fault(item: ErrorDetails, kind: str) -> str:
    path = [str(part) for part in item["loc"] if part != kind]
    if item["type"] == "missing":
        return f"{kind} needs {'.'.join(path)}"
    if item["type"] == "extra_forbidden":
        return f"{kind} takes no {'.'.join(path)}"
    message = item["msg"].removeprefix("Value error, ")
    return f"{'.'.join(path)}: {message}" if path else message
