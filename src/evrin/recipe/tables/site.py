"""The site, the kinds of tables, and a whole recipe as a collection of them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Annotated, Any, Generic, Literal, TypeVar, cast

from pydantic import Field

from evrin.recipe.tables.base import Table
from evrin.surface.frame import Frame
from evrin.surface.survey_facts import SurveyFacts

T = TypeVar("T", bound=Table)


class Site(Table):
    """`[site]`: what the surface is called, and what its numbers mean."""

    name: str = "site"
    """Name of the surface, on drawings and in files."""
    description: str = ""
    """A line about it, for files that have room for one."""
    kind: Literal["existing", "proposed"] = "existing"
    """Whether it is existing or proposed ground."""
    colour: Annotated[str, Field(pattern=r"^(#[0-9a-fA-F]{6})?$")] = ""
    """As `#rrggbb`."""
    units: Literal["m", "ft", "ftUS"] = "m"
    """Unit of all coordinates and lengths in the recipe."""
    drawing_units: Literal["m", "ft", "ftUS", "mm", "cm", "dm", "km", "in", ""] = ""
    """Unit of all drawings whose table states none; the headers of drawings are often wrong."""
    crs: str = "local"
    """Reference system, as `EPSG:nnnn`, or `local`."""
    height_datum: str = ""
    """What heights are measured from, as drawings and the report state it."""
    surveyor: str = ""
    """Who surveyed it."""
    client: str = ""
    """For whom it was surveyed."""
    job: str = ""
    """Job number."""
    surveyed: str | date = ""
    """Date of the survey."""
    purpose: str = ""
    """What the surface may be used for, in the report."""

    @property
    def frame(self) -> Frame:
        """What the site's coordinates mean."""
        return Frame(self.units, self.crs or "local")

    @property
    def named(self) -> dict[str, str]:
        """What the surface is called, and what its numbers mean."""
        return self.model_dump(include={"name", "description", "kind", "colour", "units", "crs"})

    @property
    def facts(self) -> SurveyFacts:
        """Who surveyed it, for whom, when, and above what its heights are."""
        return SurveyFacts(
            surveyor=self.surveyor,
            client=self.client,
            job=self.job,
            surveyed=str(self.surveyed),
            height_datum=self.height_datum,
            purpose=self.purpose,
        )


@dataclass(frozen=True)
class Kind(Generic[T]):
    """A kind of table: its key, its model, whether there can be several, and what counts where there is none.

    Attributes
    ----------
    key : str
        What the table is called in a recipe.
    model : type
        Its class.
    listed : bool
        Whether it is written ``[[key]]``.
    default : Table or None
        Of a single table.
    """

    key: str
    model: type[T]
    listed: bool = False
    default: T | None = None


class Tables(Table):
    """A whole recipe. Its keys are those of the kinds of tables that steps declare."""

    site: Site = Site()

    def every(self, kind: Kind[T]) -> tuple[T, ...]:
        """Return all tables of a listed kind, on or off."""
        return cast("tuple[T, ...]", getattr(self, kind.key))

    def numbered(self, kind: Kind[T]) -> list[tuple[int, T]]:
        """Return the tables of a listed kind that are on, with their numbers from 1."""
        return [(k, row) for k, row in enumerate(self.every(kind), 1) if getattr(row, "on", True)]

    def on(self, kind: Kind[T]) -> list[T]:
        """Return the tables of a kind that are on; of a single kind the one, where it is there and on."""
        if kind.listed:
            return [row for _, row in self.numbered(kind)]
        row = getattr(self, kind.key)
        return [row] if row is not None and getattr(row, "on", True) else []

    def one(self, kind: Kind[T]) -> T | None:
        """Return a single table; its default where it is off or not there."""
        rows = self.on(kind)
        if rows or kind.default is None:
            return rows[0] if rows else None
        return kind.default.with_lengths_in(self.site.units)

    def settled(self, kind: Kind[T]) -> T:
        """Return a single table that has a default."""
        table = self.one(kind)
        if table is None:
            raise LookupError(kind.key)
        return table

    @classmethod
    def field_of(cls, kind: Kind[Any], *, needed: bool = False) -> tuple[object, object]:
        """Return the annotation and default of the key that holds tables of a kind."""
        model: Any = kind.model
        if not kind.listed:
            return (model | None if kind.default is None else model, kind.default)
        if needed:
            return (Annotated[tuple[model, ...], Field(min_length=1)], ...)
        return (tuple[model, ...], ())
