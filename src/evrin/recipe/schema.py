"""What may stand in a recipe."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, model_validator

Place = tuple[FiniteFloat, FiniteFloat]
Positive = Annotated[FiniteFloat, Field(gt=0.0)]


class Table(BaseModel):
    """A table with no keys but its own."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Site(Table):
    """``[site]``: what the surface is called, and what its numbers mean."""

    name: str = "site"
    description: str = ""
    kind: Literal["existing", "proposed"] = "existing"
    colour: Annotated[str, Field(pattern=r"^(#[0-9a-fA-F]{6})?$")] = ""
    units: Literal["m", "ft", "ftUS"] = "m"
    crs: str = "local"


class Selecting(Table):
    """What is meant. Under ``keep`` a thing must meet every criterion; ``leave_out`` drops what meets any."""

    codes: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()
    layers: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    classes: tuple[int, ...] = ()
    returns: tuple[Literal["first", "last", "only"], ...] = ()
    where: str = ""
    window: tuple[FiniteFloat, FiniteFloat, FiniteFloat, FiniteFloat] | None = None
    polygon: Annotated[tuple[Place, ...], Field(min_length=3)] | None = None
    within: str | None = None


class HeightFrom(Table):
    """``heights`` as a table: one level for all, or the name of an attribute."""

    level: FiniteFloat | None = None
    attribute: str | None = None

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if (self.level is None) == (self.attribute is None):
            raise ValueError("give either a level or the name of an attribute")
        return self


class SetHeight(Table):
    """One point's height, corrected by number."""

    number: str
    to: FiniteFloat
    why: str = ""


class Thin(Table):
    """``thin``: one point a cell, then only those that the surface needs."""

    cell: Positive | None = None
    pick: Literal["lowest", "median", "middle"] = "lowest"
    tolerance: Positive | None = None

    @model_validator(mode="after")
    def _says_how(self) -> Self:
        if self.cell is None and self.tolerance is None:
            raise ValueError("give a cell, a tolerance, or both")
        return self


class GroundFilter(Table):
    """``ground_filter``: what is ground in a cloud without classes."""

    cell: Positive = 1.0
    slope: Positive = 0.8
    window: Positive = 18.0
    threshold: Positive = 0.25
    scale: Annotated[FiniteFloat, Field(ge=0.0)] = 1.0


Role = Literal["points", "breaklines", "contours", "cloud", "grid", "surface", "edges"]
POINT_ROLES = ("points", "cloud", "grid")
LINE_ROLES = ("breaklines", "contours")


class Source(Table):
    """``[[source]]``: a file and the part it plays."""

    file: str
    role: Role
    name: str = ""
    columns: str | None = None
    keep: Selecting | None = None
    leave_out: Selecting | None = None
    heights: Literal["own", "shots", "surface", "text", "text nearby"] | HeightFrom = "own"
    reach: Positive | None = None
    set_height: tuple[SetHeight, ...] = ()
    raise_by: FiniteFloat = 0.0
    scale_heights: FiniteFloat = 1.0
    units: Literal["m", "ft", "ftUS"] | None = None
    crs: str = ""
    exchanged: bool = False
    thin: Thin | None = None
    ground_filter: GroundFilter | None = None
    chord: Positive = 0.01
    snap: Annotated[FiniteFloat, Field(ge=0.0)] = 0.0
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _fits_its_role(self) -> Self:
        for key, roles in (
            ("thin", POINT_ROLES),
            ("ground_filter", POINT_ROLES),
            ("set_height", ("points",)),
            ("snap", ("edges",)),
        ):
            if key in self.model_fields_set and self.role not in roles:
                raise ValueError(f"{key} means nothing for role {self.role!r}; it is for {', '.join(roles)}")
        if self.scale_heights == 0.0:
            raise ValueError("scale_heights of 0 would lay everything on the floor")
        allowed = _HEIGHTS[self.role]
        told = "attribute or level" if isinstance(self.heights, HeightFrom) else self.heights
        if told not in allowed:
            raise ValueError(f"heights {told!r} do not fit role {self.role!r}; it takes {', '.join(allowed)}")
        return self


_HEIGHTS = {
    **dict.fromkeys(("cloud", "grid", "surface", "edges"), ("own",)),
    "points": ("own", "text", "text nearby", "attribute or level"),
    **dict.fromkeys(LINE_ROLES, ("own", "shots", "surface", "attribute or level")),
}


class CodeMeaning(Table):
    """``[[field_codes.code]]``: what a code pattern means."""

    match: str
    means: Literal["spot", "line", "boundary", "leave out"]
    join: Literal["straight", "smooth"] = "straight"


class CodeBook(Table):
    """The marks, and a meaning for each code pattern."""

    start: str = ""
    end: str = ""
    close: str = ""
    arc: str = ""
    smooth: str = ""
    code: tuple[CodeMeaning, ...] = ()


class FieldCodes(CodeBook):
    """``[field_codes]``: a code book, here or in a file that a practice keeps."""

    file: str | None = None
    chord: Positive = 0.02
    on: bool = True


class Boundary(Table):
    """``[[boundary]]``: rings that limit the surface."""

    file: str
    effect: Literal["keep", "cut"]
    name: str = ""
    columns: str | None = None
    keep: Selecting = Selecting()
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
