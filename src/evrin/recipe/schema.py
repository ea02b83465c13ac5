"""What may stand in a recipe."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationError, model_validator

from evrin.errors import DataError

# Nothing on a site, in whatever unit, is larger.
Number = Annotated[FiniteFloat, Field(ge=-1e9, le=1e9)]
Place = tuple[Number, Number]
Positive = Annotated[Number, Field(gt=0.0)]


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
    window: tuple[Number, Number, Number, Number] | None = None
    polygon: Annotated[tuple[Place, ...], Field(min_length=3)] | None = None
    within: str | None = None


class HeightFrom(Table):
    """``heights`` as a table: one level for all, or the name of an attribute."""

    level: Number | None = None
    attribute: str | None = None

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if (self.level is None) == (self.attribute is None):
            raise ValueError("give either a level or the name of an attribute")
        return self


class SetHeight(Table):
    """One point's height, corrected by number."""

    number: str
    to: Number
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
    scale: Annotated[Number, Field(ge=0.0)] = 1.0


class WeedLines(Table):
    """``weed``: fewer vertices, by spacing and deflection together, by a tolerance in space, or by both."""

    spacing: Positive | None = None
    deflection_deg: Positive | None = None
    tolerance: Positive | None = None

    @model_validator(mode="after")
    def _says_how(self) -> Self:
        if (self.spacing is None) != (self.deflection_deg is None):
            raise ValueError("spacing and deflection_deg go together")
        if self.spacing is None and self.tolerance is None:
            raise ValueError("give spacing and deflection_deg, a tolerance, or all three")
        return self


class FillLines(Table):
    """``fill``: more vertices, none farther apart than this."""

    spacing: Positive


class LadderTable(Table):
    """``ladder``: a line across bare contours, along which their levels are counted."""

    along: Annotated[tuple[Place, ...], Field(min_length=2)]
    start: Number
    step: Number


class SetLevel(Table):
    """One contour's level, corrected by place."""

    at: Place
    to: Number
    why: str = ""


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
    heights: Literal["own", "shots", "surface", "levels", "text", "text nearby"] | HeightFrom = "own"
    reach: Positive | None = None
    set_height: tuple[SetHeight, ...] = ()
    raise_by: Number = 0.0
    scale_heights: Number = 1.0
    units: Literal["m", "ft", "ftUS"] | None = None
    crs: str = ""
    exchanged: bool = False
    thin: Thin | None = None
    ground_filter: GroundFilter | None = None
    weed: WeedLines | None = None
    fill: FillLines | None = None
    ladder: tuple[LadderTable, ...] = ()
    set_level: tuple[SetLevel, ...] = ()
    traced_by: str | None = None
    chord: Positive = 0.01
    snap: Annotated[Number, Field(ge=0.0)] = 0.0
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _fits_its_role(self) -> Self:
        for key, roles in (
            ("thin", POINT_ROLES),
            ("ground_filter", POINT_ROLES),
            ("set_height", ("points",)),
            ("snap", ("edges",)),
            ("weed", LINE_ROLES),
            ("fill", LINE_ROLES),
            ("ladder", ("contours",)),
            ("set_level", ("contours",)),
            ("traced_by", ("surface",)),
        ):
            if key in self.model_fields_set and self.role not in roles:
                raise ValueError(f"{key} means nothing for role {self.role!r}; it is for {', '.join(roles)}")
        if (self.heights == "levels") != bool(self.ladder or self.set_level):
            raise ValueError('heights = "levels" and a ladder (or set_level) go together')
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
    "breaklines": ("own", "shots", "surface", "attribute or level"),
    "contours": ("own", "shots", "surface", "levels", "attribute or level"),
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


class Duplicates(Table):
    """``[duplicates]``: what stands where shots lie at one place, or within a distance of each other."""

    policy: Literal["mean", "first", "last", "lowest", "highest", "refuse"] = "mean"
    within: Annotated[Number, Field(ge=0.0)] = 0.0
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _merges_or_refuses(self) -> Self:
        if self.policy == "refuse" and self.within > 0.0:
            raise ValueError("within merges points, which policy = 'refuse' does not; leave one of the two out")
        return self


class LeaveBusts(Table):
    """``[busts]``: shots to leave out because of their heights."""

    leave_out: tuple[Literal["floor", "spikes"], ...] = ("floor", "spikes")
    scales: Positive = 8.0
    least: Positive = 0.5
    why: str = ""
    on: bool = True


class LeaveOut(Table):
    """``[[leave_out]]``: single shots to leave out, by number or by their line in a file."""

    file: str = ""
    numbers: tuple[str, ...] = ()
    lines: tuple[int, ...] = ()
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _says_which(self) -> Self:
        if bool(self.numbers) == bool(self.lines):
            raise ValueError("give either the numbers of the shots, or their lines in a file")
        if self.lines and not self.file:
            raise ValueError("lines are those of a file: name it")
        return self


class CutLine(Table):
    """``[[cut_line]]``: a line that stops short at a place, or has a stretch taken out."""

    line: str
    at: Place
    keep: Literal["before", "after"] | None = None
    to: Place | None = None
    reach: Positive = 1.0
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if (self.keep is None) == (self.to is None):
            raise ValueError("give keep (before or after), or the place to where the stretch between goes")
        return self


class Wall(Table):
    """``[[wall]]``: lines one above the other, the top moved to the side of the high ground by a hair."""

    line: str
    high_side: Literal["left", "right"]
    rise: Number | None = None
    offset: Positive = 0.01
    why: str = ""
    on: bool = True


class Flat(Table):
    """``[[flat]]``: an area held at one level, such as water, with a bed below it where one is given."""

    file: str
    level: Number | None = None
    attribute: str | None = None
    name: str = ""
    columns: str | None = None
    keep: Selecting = Selecting()
    depth: Positive | None = None
    bank: Positive = 0.05
    fill: FillLines | None = None
    reach: Annotated[Number, Field(ge=0.0)] = 0.05
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if self.level is not None and self.attribute is not None:
            raise ValueError("give either a level or the name of an attribute")
        return self


class Crossings(Table):
    """``[crossings]``: what stands where breaklines cross at different heights."""

    policy: Literal["mean", "first", "higher", "lower", "refuse"] = "mean"
    why: str = ""
    on: bool = True


class Along(Table):
    """``[[along]]``: triangles that run square across an alignment."""

    file: str
    within: Positive
    stretch: Annotated[Number, Field(gt=1.0)] = 4.0
    columns: str | None = None
    keep: Selecting = Selecting()
    why: str = ""
    on: bool = True


class FlatTriangles(Table):
    """``[flat_triangles]``: mending triangles all of whose corners lie on one contour."""

    mend: Literal["flips", "points"] = "points"
    why: str = ""
    on: bool = True


class Boundary(Table):
    """``[[boundary]]``: rings that limit the surface."""

    file: str
    effect: Literal["keep", "cut"]
    name: str = ""
    columns: str | None = None
    keep: Selecting = Selecting()
    reach: bool = False
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _only_outlines_reach(self) -> Self:
        if self.reach and self.effect != "keep":
            raise ValueError('only a boundary with effect = "keep" can have the ground carried out to it')
        return self


class Carve(Table):
    """``[carve]``: how triangles meet the boundaries."""

    edges: Literal["crisp", "whole"] = "crisp"


class Trim(Table):
    """``[trim]``: what goes from the rim inwards, and from inside as well where that is asked for."""

    longest_edge: Positive | None = None
    smallest_angle_deg: Annotated[Number, Field(gt=0.0, lt=60.0)] | None = None
    inside: bool = False
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _says_how(self) -> Self:
        if self.longest_edge is None and self.smallest_angle_deg is None:
            raise ValueError("give a longest_edge, a smallest_angle_deg, or both")
        return self


class CheckPointFile(Table):
    """``[[check_points]]``: points measured independently, to be compared with the surface."""

    file: str
    name: str = ""
    columns: str | None = None
    keep: Selecting | None = None
    leave_out: Selecting | None = None
    units: Literal["m", "ft", "ftUS"] | None = None
    crs: str = ""
    tolerance: Annotated[Number, Field(ge=0.0)] | None = None
    why: str = ""
    on: bool = True


class Check(Table):
    """``[check]``: what counts as agreement."""

    height_tolerance: Annotated[Number, Field(ge=0.0)] = 0.02
    accept_reach: Positive = 1.0
    edit_reach: Positive = 1.0


Ring = Annotated[tuple[Place, ...], Field(min_length=3)]
_PLAN = ("at", "polygon")
_NEEDED = {
    "flip": (("at",), ("joins",)),
    "force": (("joins",), ()),
    "remove": (("at", "polygon", "line"), ("hole",)),
    "add": (("at",), ("height",)),
    "move": (("at",), ("to", "height")),
    "raise": (_PLAN, ("by",)),
    "set": (_PLAN, ("height",)),
    "delete": (("at",), ()),
}
_ALWAYS = {"move": "to", "raise": "by", "set": "height"}


class Edit(Table):
    """``[[edit]]``: one change to the triangles or vertices."""

    do: Literal["flip", "force", "remove", "add", "move", "raise", "set", "delete"]
    at: Place | None = None
    joins: tuple[Place, Place] | None = None
    polygon: Ring | None = None
    line: Annotated[tuple[Place, ...], Field(min_length=2)] | None = None
    to: Place | None = None
    height: Number | None = None
    by: Number | None = None
    hole: bool = False
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _says_what_it_needs(self) -> Self:
        where, further = _NEEDED[self.do]
        given = self.model_fields_set - {"do", "why", "on"}
        if len(given.intersection(where)) != 1:
            raise ValueError(f"{self.do} needs {' or '.join(where)}")
        if self.do in _ALWAYS and _ALWAYS[self.do] not in given:
            raise ValueError(f"{self.do} needs {_ALWAYS[self.do]}")
        other = sorted(given.difference(where, further))
        if other:
            raise ValueError(f"{self.do} takes no {', '.join(other)}")
        return self

    @property
    def place(self) -> Place:
        """One place by which to find it on a map."""
        for places in (self.joins, self.polygon, self.line):
            if self.at is None and places is not None:
                return sum(x for x, _ in places) / len(places), sum(y for _, y in places) / len(places)
        return self.at or (0.0, 0.0)


def checked_edit(keys: Mapping[str, Any]) -> Edit:
    """Return the edit that some keys describe.

    Raises
    ------
    DataError
        Where they describe none.
    """
    try:
        return Edit.model_validate(dict(keys))
    except ValidationError as error:
        told = [
            f"{'.'.join(str(part) for part in item['loc'])}: {item['msg']}".removeprefix(": Value error, ")
            for item in error.errors()
        ]
        raise DataError(f"this edit cannot be: {'; '.join(told)}") from error


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
    leave_out: tuple[LeaveOut, ...] = ()
    cut_line: tuple[CutLine, ...] = ()
    wall: tuple[Wall, ...] = ()
    flat: tuple[Flat, ...] = ()
    duplicates: Duplicates = Duplicates()
    busts: LeaveBusts | None = None
    crossings: Crossings = Crossings()
    along: tuple[Along, ...] = ()
    flat_triangles: FlatTriangles | None = None
    boundary: tuple[Boundary, ...] = ()
    carve: Carve = Carve()
    trim: Trim | None = None
    edit: tuple[Edit, ...] = ()
    check: Check = Check()
    check_points: tuple[CheckPointFile, ...] = ()
    accept: tuple[Accept, ...] = ()


def files_named(tables: Tables) -> list[str]:
    """Return every file that a recipe names, also in tables that are off."""
    return sorted(set(_files_in(tables.model_dump())))


def _files_in(value: Any) -> Iterator[str]:
    if isinstance(value, Mapping):
        for key, inner in value.items():
            if key in ("file", "traced_by") and isinstance(inner, str) and inner:
                yield inner
            yield from _files_in(inner)
    elif isinstance(value, (list, tuple)):
        for inner in value:
            yield from _files_in(inner)
