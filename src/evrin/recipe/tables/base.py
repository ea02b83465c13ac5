"""The base of all tables: no key but its own, and default lengths in the site's unit."""

from __future__ import annotations

import ast
import inspect
import textwrap
from functools import cache
from itertools import pairwise
from typing import TYPE_CHECKING, Annotated, Any, Self, cast

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat

from evrin.base.tolerances import METRES, Length

if TYPE_CHECKING:
    from pydantic.fields import FieldInfo

# Nothing on a site, in whatever unit, is larger.
Number = Annotated[FiniteFloat, Field(ge=-1e9, le=1e9)]
Place = tuple[Number, Number]
Positive = Annotated[Number, Field(gt=0.0)]
Ring = Annotated[tuple[Place, ...], Field(min_length=3)]
_IN_METRES = "length in metres by default"


def default_length(length: Length) -> Any:
    """Return a field whose default is a length, which `Table.with_lengths_in` converts."""
    return Field(default=length.metres, json_schema_extra={_IN_METRES: length.reason})


class Table(BaseModel):
    """A table with no keys but its own."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    def with_lengths_in(self, units: str) -> Self:
        """Return the table with default lengths, here and in tables within it, converted from metres."""
        update: dict[str, object] = {}
        for name, field in type(self).model_fields.items():
            value = getattr(self, name)
            if isinstance(field.json_schema_extra, dict) and _IN_METRES in field.json_schema_extra:
                if name not in self.model_fields_set:
                    update[name] = value / METRES[units]
            elif isinstance(value, Table):
                update[name] = value.with_lengths_in(units)
            elif isinstance(value, tuple) and any(isinstance(each, Table) for each in value):
                update[name] = tuple(each.with_lengths_in(units) for each in value)
        given = set(self.model_fields_set)
        converted = self.model_copy(update=update)
        converted.model_fields_set.clear()
        converted.model_fields_set.update(given)
        return converted


def is_default_length(field: FieldInfo) -> bool:
    """Whether a field's default is a length in metres."""
    return isinstance(field.json_schema_extra, dict) and _IN_METRES in field.json_schema_extra


@cache
def meanings_of(table: type[BaseModel]) -> dict[str, str]:
    """Return what the keys of a table mean: the text under each in its class, which is read only where it is wanted."""
    meanings: dict[str, str] = {}
    for kind in reversed(table.__mro__):
        if not issubclass(kind, BaseModel) or kind.__module__.startswith("pydantic"):
            continue
        try:
            body = cast(ast.ClassDef, ast.parse(textwrap.dedent(inspect.getsource(kind))).body[0]).body
        except (OSError, TypeError):
            continue
        for key, text in pairwise(body):
            if isinstance(key, ast.AnnAssign) and isinstance(text, ast.Expr) and isinstance(text.value, ast.Constant):
                meanings[cast(ast.Name, key.target).id] = inspect.cleandoc(str(text.value.value))
    return meanings
