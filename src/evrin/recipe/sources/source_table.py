"""`[[source]]`: a file and the part it plays."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from evrin.base.tolerances import CURVE_CHORD, GROUND_THRESHOLD
from evrin.formats.door.claims import Claim
from evrin.recipe.tables import FileTable, InputFile, Number, Place, Positive, Selecting, Table, default_length

Role = Literal["points", "breaklines", "contours", "cloud", "grid", "surface", "edges"]
POINT_ROLES = ("points", "cloud", "grid")
LINE_ROLES = ("breaklines", "contours")


class HeightFrom(Table):
    """`heights` as a table: one level for all, or the name of an attribute."""

    level: Number | None = None
    """One height for all."""
    attribute: str | None = None
    """Attribute that holds the height of each."""

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        if (self.level is None) == (self.attribute is None):
            raise ValueError("give either a level or the name of an attribute")
        return self


class SetHeight(Table):
    """One point's height, corrected by number or by place."""

    number: str = ""
    """Number of the point."""
    at: Place | None = None
    """Place of the point, if it has no number."""
    to: Number
    """Its height."""
    why: str = ""

    @model_validator(mode="after")
    def _names_a_point(self) -> Self:
        if bool(self.number) == (self.at is not None):
            raise ValueError("give either the number of the point, or at, its place")
        return self


class Thin(Table):
    """`thin`: one point for each cell, then only those that the surface needs."""

    cell: Positive | None = None
    """Side of a cell."""
    pick: Literal["lowest", "median", "middle"] = "lowest"
    """Which point of a cell is kept: the lowest, that of median height, or that nearest the middle."""
    tolerance: Positive | None = None
    """How far a point that is left out may lie from the surface of the others."""

    @model_validator(mode="after")
    def _states_how(self) -> Self:
        if self.cell is None and self.tolerance is None:
            raise ValueError("give a cell, a tolerance, or both")
        return self


class GroundFilter(Table):
    """`ground_filter`: what is ground in a cloud without classes."""

    cell: Positive | None = None
    """Side of a cell, about the spacing of the points on the ground; chosen from the cloud if not given."""
    slope: Positive = 0.8
    """The steepest ground over one cell, rise over run; anything steeper is an object."""
    window: Positive | None = None
    """Radius of the largest window, no less than half the width of the widest object; chosen from the cloud if not
    given."""
    threshold: Positive = default_length(GROUND_THRESHOLD)
    """How far above the lowest ground a point is still ground."""
    scale: Annotated[Number, Field(ge=0.0)] = 1.0
    """How much of the local rise over a cell is added to the threshold."""


class WeedLines(Table):
    """`weed`: fewer vertices, by spacing and deflection together, by a tolerance in space, or by both."""

    spacing: Positive | None = None
    """A vertex nearer to the last one than this may go."""
    deflection_deg: Positive | None = None
    """A vertex may go where the line turns by less than this."""
    tolerance: Positive | None = None
    """How far the line may move, in space."""

    @model_validator(mode="after")
    def _states_how(self) -> Self:
        if (self.spacing is None) != (self.deflection_deg is None):
            raise ValueError("spacing and deflection_deg go together")
        if self.spacing is None and self.tolerance is None:
            raise ValueError("give spacing and deflection_deg, a tolerance, or all three")
        return self


class FillLines(Table):
    """`fill`: more vertices, none farther apart than this."""

    spacing: Positive
    """The largest distance between vertices along a line."""


class LadderTable(Table):
    """`ladder`: a line across contours without levels, along which their levels are counted."""

    along: Annotated[tuple[Place, ...], Field(min_length=2)]
    """Places of the line, across the contours."""
    start: Number
    """Level of the first contour that it crosses."""
    step: Number
    """Height from one contour to the next; negative downhill."""


class SetLevel(Table):
    """One contour's level, corrected by place."""

    at: Place
    """A place on the contour."""
    to: Number
    """Its level."""
    why: str = ""


class Source(FileTable):
    """`[[source]]`: a file and the part it plays."""

    file: InputFile = ""
    """The file, from the folder of the recipe."""
    files: InputFile | tuple[InputFile, ...] = ()
    """Several files of a cloud or a grid, instead of `file`: a folder, a pattern as in `flight/*.laz`, or a list of
    those."""
    role: Role
    """`points`, `breaklines`, `contours`, `cloud`, `grid`, `surface` or `edges`."""
    keep: Selecting | None = None
    """Only what meets every criterion."""
    leave_out: Selecting | None = None
    """All that meets any criterion is left out."""
    heights: Literal["own", "shots", "surface", "levels", "text", "text nearby"] | HeightFrom = "own"
    """Where heights come from: `own`, `shots`, `surface`, `levels`, `text`, `text nearby`, a level or an attribute."""
    reach: Positive | None = None
    """Largest distance of a shot or a text from what takes its height. For lines through shots it is found from the
    data if it is not stated: at most 0.1 m, and less where shots of another edge are near."""
    set_height: tuple[SetHeight, ...] = ()
    """Heights corrected by point number or place."""
    raise_by: Number = 0.0
    """Added to all heights."""
    scale_heights: Number = 1.0
    """Multiplies all heights."""
    thin: Thin | None = None
    ground_filter: GroundFilter | None = None
    join: Positive | None = None
    """Pieces whose ends are no farther apart than this become one line; a level passes along it."""
    weed: WeedLines | None = None
    fill: FillLines | None = None
    ladder: tuple[LadderTable, ...] = ()
    set_level: tuple[SetLevel, ...] = ()
    traced_by: InputFile | None = None
    """Table of the shots behind the vertices of a frozen surface."""
    up: Literal["", "y", "z"] = ""
    """Axis of heights in a mesh, if it is not the third."""
    sheet: Literal["", "top", "bottom"] = ""
    """Which sheet is used of a mesh that covers places more than once."""
    at_steps: Literal["", "higher", "lower", "mean"] = ""
    """Which height of a finished surface is used at a step, where it has two."""
    chord: Positive = default_length(CURVE_CHORD)
    """How far a drawn curve may be from the chords it is read as."""
    snap: Annotated[Number, Field(ge=0.0)] = 0.0
    """Loose ends no farther apart than this are one."""

    @property
    def named_files(self) -> tuple[str, ...]:
        """What it names: one file, or a folder, a pattern or a list."""
        return (self.file,) if self.file else (self.files,) if isinstance(self.files, str) else self.files

    @property
    def title(self) -> str:
        """What messages call it."""
        return self.name or ", ".join(self.named_files)

    @property
    def claim(self) -> Claim:
        """What the table states of the file."""
        return super().claim._replace(up=self.up, sheet=self.sheet)

    @model_validator(mode="after")
    def _fits_its_role(self) -> Self:
        for key, roles in (
            ("files", ("cloud", "grid")),
            ("thin", POINT_ROLES),
            ("ground_filter", POINT_ROLES),
            ("set_height", ("points",)),
            ("snap", ("edges",)),
            ("join", LINE_ROLES),
            ("weed", LINE_ROLES),
            ("fill", LINE_ROLES),
            ("ladder", ("contours",)),
            ("set_level", ("contours",)),
            ("traced_by", ("surface",)),
            ("at_steps", ("surface",)),
        ):
            if key in self.model_fields_set and self.role not in roles:
                raise ValueError(f"{key} is not allowed for role {self.role!r}; it is for {', '.join(roles)}")
        if bool(self.file) == bool(self.files):
            raise ValueError("give either file, or files: a folder, a pattern or a list")
        if (self.heights == "levels") != bool(self.ladder or self.set_level):
            raise ValueError('heights = "levels" and a ladder (or set_level) go together')
        if self.scale_heights == 0.0:
            raise ValueError("scale_heights = 0 would set every height to zero")
        allowed = _HEIGHTS[self.role]
        given = "attribute or level" if isinstance(self.heights, HeightFrom) else self.heights
        if given not in allowed:
            raise ValueError(f"heights = {given!r} is not allowed for role {self.role!r}; use {', '.join(allowed)}")
        return self


_HEIGHTS = {
    **dict.fromkeys(("cloud", "grid", "surface", "edges"), ("own",)),
    "points": ("own", "text", "text nearby", "attribute or level"),
    "breaklines": ("own", "shots", "surface", "attribute or level"),
    "contours": ("own", "shots", "surface", "levels", "attribute or level"),
}
