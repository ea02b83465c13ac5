"""What may stand in a recipe."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat

Place = tuple[FiniteFloat, FiniteFloat]
Positive = Annotated[FiniteFloat, Field(gt=0.0)]


class Table(BaseModel):
    """A table with no keys but its own."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Site(Table):
    """``[site]``: what the surface is called, and what its numbers mean."""

    name: str = "site"
    description: str = ""
    units: Literal["m", "ft", "ftUS"] = "m"
    crs: str = "local"


class Selecting(Table):
    """Patterns for codes and point numbers."""

    codes: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()


class Source(Table):
    """``[[source]]``: a file and the part it plays."""

    file: str
    role: Literal["points", "breaklines"]
    name: str = ""
    columns: str | None = None
    keep: Selecting | None = None
    leave_out: Selecting | None = None
    heights: Literal["own", "shots"] = "own"
    reach: Positive = 0.1
    why: str = ""
    on: bool = True


class CodeMeaning(Table):
    """``[[field_codes.code]]``: what a code pattern means."""

    match: str
    means: Literal["spot", "line", "leave out"]


class FieldCodes(Table):
    """``[field_codes]``: the marks, and a meaning for each code pattern."""

    start: str = ""
    end: str = ""
    close: str = ""
    code: tuple[CodeMeaning, ...] = ()
    on: bool = True


class Boundary(Table):
    """``[[boundary]]``: rings that limit the surface."""

    file: str
    effect: Literal["keep", "cut"]
    name: str = ""
    columns: str | None = None
    why: str = ""
    on: bool = True


class Carve(Table):
    """``[carve]``: how triangles meet the boundaries."""

    edges: Literal["crisp", "whole"] = "crisp"


class Trim(Table):
    """``[trim]``: what goes from the rim inwards."""

    longest_edge: Positive
    on: bool = True


class Check(Table):
    """``[check]``: what counts as agreement."""

    height_tolerance: Annotated[FiniteFloat, Field(ge=0.0)] = 0.02
    accept_reach: Positive = 1.0


class Edit(Table):
    """``[[edit]]``: one change to the triangles."""

    do: Literal["flip"]
    at: Place
    why: str = ""
    on: bool = True


class Accept(Table):
    """``[[accept]]``: a finding that may stand."""

    finding: str
    at: Place | None = None
    why: str
    on: bool = True


class Tables(Table):
    """A whole recipe."""

    site: Site = Site()
    source: Annotated[tuple[Source, ...], Field(min_length=1)]
    field_codes: FieldCodes = FieldCodes()
    boundary: tuple[Boundary, ...] = ()
    carve: Carve = Carve()
    trim: Trim | None = None
    edit: tuple[Edit, ...] = ()
    check: Check = Check()
    accept: tuple[Accept, ...] = ()
