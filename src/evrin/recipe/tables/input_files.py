"""Files that tables name, and what a table states of one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal, TypeVar

from evrin.formats.door.claims import Claim
from evrin.recipe.tables.base import Table

if TYPE_CHECKING:
    from pydantic.fields import FieldInfo

_MARK = "a file that the recipe reads"
InputFile = Annotated[str, _MARK]
Unit = Literal["m", "ft", "ftUS", "mm", "cm", "dm", "km", "in"]


AnyTable = TypeVar("AnyTable", bound=Table)


class OutlineFile(Table):
    """A file with outlines, and what its coordinates are where the file does not state it."""

    file: InputFile
    """The file, from the folder of the recipe."""
    units: Unit | None = None
    """Unit of the file: `m`, `ft`, `ftUS`, `mm`, `cm`, `dm`, `km` or `in`. The site's if neither
    table nor file states one."""
    height_units: Unit | None = None
    """Unit of its heights, if they are in another."""
    crs: str = ""
    """Reference system of the file, such as `EPSG:25832`; `local` for the site's own."""
    exchanged: bool = False
    """Whether northing comes before easting."""
    columns: str | None = None
    """Columns of delimited text, a letter for each, as in `PNEZD`."""

    @property
    def claim(self) -> Claim:
        """What the table states of the file."""
        return Claim(self.units or "", self.height_units or "", self.crs, self.exchanged, self.columns)


class FileTable(OutlineFile):
    """A table of a recipe with a file, a name, a reason and a switch."""

    name: str = ""
    """What messages and drawings call it; the file's name where it has none."""
    why: str = ""
    on: bool = True

    @property
    def title(self) -> str:
        """What messages call it."""
        return self.name or self.file


def with_unit_of_drawings(table: AnyTable, unit: str) -> AnyTable:
    """Return a table that states the unit of each drawing in it, and in tables within it, that states none.

    Parameters
    ----------
    table : Table
        A table of a recipe, or the whole recipe.
    unit : str
        Such as ``ft``.
    """
    update: dict[str, object] = {}
    for name, field in type(table).model_fields.items():
        value = getattr(table, name)
        if isinstance(value, Table):
            update[name] = with_unit_of_drawings(value, unit)
        elif isinstance(value, tuple) and any(isinstance(each, Table) for each in value):
            update[name] = tuple(with_unit_of_drawings(each, unit) for each in value)
        elif _takes_outline_file(field) and isinstance(value, str) and _is_drawing(value):
            update[name] = OutlineFile(file=value, units=unit)
    if isinstance(table, OutlineFile) and _is_drawing(table.file) and table.units is None:
        update["units"] = unit
    changed = table.model_copy(update=update)
    changed.model_fields_set.clear()
    changed.model_fields_set.update(table.model_fields_set)
    return changed


def _is_drawing(file: str) -> bool:
    return Path(file).suffix.lower() == ".dxf"


def _takes_outline_file(field: FieldInfo) -> bool:
    return OutlineFile.__name__ in str(field.annotation)


def files_in(table: object, path: tuple[str | int, ...] = ()) -> Iterator[tuple[tuple[str | int, ...], str, bool]]:
    """Yield each input file that a table and tables within it name: its place, its name, and whether it is on.

    Parameters
    ----------
    table : Table, or what a key of one holds
        What is looked through.
    path : tuple
        Where that is.
    """
    if isinstance(table, (tuple, list)):
        for number, each in enumerate(table):
            yield from files_in(each, (*path, number))
    elif isinstance(table, Table):
        is_on = bool(getattr(table, "on", True))
        for name, field in type(table).model_fields.items():
            value = getattr(table, name)
            if _is_input_file(field) and isinstance(value, str) and value:
                yield (*path, name), value, is_on
            elif _is_input_file(field) and isinstance(value, tuple) and all(isinstance(each, str) for each in value):
                for number, each in enumerate(value):
                    yield (*path, name, number), each, is_on
            else:
                for place, file, inner_on in files_in(value, (*path, name)):
                    yield place, file, is_on and inner_on


def _is_input_file(field: FieldInfo) -> bool:
    return _MARK in field.metadata or _MARK in str(field.annotation)
