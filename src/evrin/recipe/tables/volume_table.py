"""`[[volume]]`: what is measured from a surface, a level, a plane, or the ground under a heap."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from evrin.recipe.tables.base import Number, Place, Positive, Table
from evrin.recipe.tables.input_files import InputFile

Factor = Annotated[Number, Field(ge=0.01, le=100.0)]
Deviation = Annotated[Number, Field(ge=0.0, le=1e6)]


class VolumeTable(Table):
    """`[[volume]]`: what is to be measured, of which base, and in what areas; measured again at every build."""

    name: str = "volume"
    """What the build, the report and a record call it."""
    base: InputFile = ""
    """The surface measured from: a surface file or a recipe. One of `base`, `level`, `plane`, `heap` and `toe` is
    given."""
    level: Number | None = None
    """A level to measure from instead."""
    plane: tuple[tuple[Number, Number, Number], ...] = ()
    """A plane to measure from instead: three places, or more that it is fitted to."""
    grade: Annotated[Number, Field(ge=-1e5, le=1e5)] | None = None
    """Grade of a plane through one place, in percent; it rises towards `bearing`."""
    bearing: Number | None = None
    """Bearing that this plane rises towards, in degrees clockwise from north."""
    heap: Place | None = None
    """A place on a heap, whose toe is found; it is measured above the ground round the toe."""
    toe: InputFile = ""
    """A file with the toe of a heap, one closed line."""
    reach: Positive | None = None
    """Largest distance of the toe from the place on a heap."""
    apart: bool = False
    """Of several heaps that touch, only the one that the place is on."""
    spacing: Positive | None = None
    """Distance of sections, for end areas and the prismoidal rule beside the exact figure."""
    along: InputFile = ""
    """A file with the line that the sections are square to."""
    line: tuple[Place, ...] = ()
    """This line as places instead."""
    sections_bearing: Number | None = None
    """The bearing along which sections follow each other, instead of a line."""
    left: Positive | None = None
    """Length of sections to the left of the line."""
    right: Positive | None = None
    """Length of sections to the right of the line."""
    cell: Positive | None = None
    """Side of grid cells, for volumes by grid beside the exact figure."""
    method: Literal["exact", "end-areas", "prismoidal", "grid-corners", "grid-middles"] | None = None
    """The method whose figure a record keeps; `end-areas` with `spacing`, `grid-corners` with `cell`, otherwise
    `exact`."""
    top: InputFile = ""
    """The surface measured to, if it is not this one: a surface file or a recipe."""
    within: InputFile = ""
    """A file of closed lines; each name is an area of its own, and rings in rings alternate."""
    strip: Annotated[Number, Field(ge=0.0, le=1e6)] | None = None
    """A depth taken off the base first, such as topsoil."""
    strip_within: InputFile = ""
    """A file of closed lines within which it is taken off; everywhere if not given."""
    bulking: Factor = 1.0
    """Volume of loose earth that one volume of cut makes."""
    compaction: Factor = 1.0
    """Volume of earth in the ground that one volume of fill takes."""
    density: Factor | None = None
    """Mass of one volume of earth in the ground."""
    no_change: Deviation | None = None
    """Differences of height up to this are no change; a millimetre if not given."""
    spread: Deviation | None = None
    """Standard deviation of single heights of the top; 0.02 m if not given."""
    base_spread: Deviation | None = None
    """Standard deviation of single heights of the base; 0.02 m if not given."""
    shared_spread: Deviation | None = None
    """Standard deviation of what all heights of one surface share; 0.01 m if not given."""
    allow_uncovered: bool = False
    """Whether ground that only one of the two surfaces covers is accepted."""
    why: str = ""
    on: bool = True

    @model_validator(mode="after")
    def _has_one_base(self) -> Self:
        bases = ("base", "level", "plane", "heap", "toe")
        given = [name for name in bases if getattr(self, name) not in ("", None, ())]
        if len(given) != 1:
            raise ValueError(f"one of {', '.join(bases)} is needed; given: {', '.join(given) or 'none'}")
        slopes = (self.grade is None) + (self.bearing is None)
        if slopes == 1 or (slopes == 0) != (len(self.plane) == 1):
            raise ValueError("a plane is three places or more, or one place with grade and bearing")
        if self.plane and len(self.plane) == 2:
            raise ValueError("a plane is three places or more, or one place with grade and bearing")
        if self.apart and self.heap is None:
            raise ValueError("apart needs heap, a place on one of the heaps that touch")
        if self.strip_within and self.strip is None:
            raise ValueError("strip_within needs strip, a depth")
        if self.within and (self.heap or self.toe):
            raise ValueError("within has no meaning for a heap, which is measured within its toe")
        if self.strip is not None and (self.heap or self.toe):
            raise ValueError("strip is taken off a base; the ground under a heap has none")
        by = self.method or "exact"
        needed = "" if by == "exact" else "cell" if by.startswith("grid") else "spacing"
        if needed and getattr(self, needed) is None:
            raise ValueError(f"method {by} needs {needed}")
        return self

    @property
    def kept_method(self) -> str:
        """The method whose figure is kept, as a table of methods calls it."""
        usual = "end-areas" if self.spacing is not None else "grid-corners" if self.cell is not None else "exact"
        return (self.method or usual).replace("-", ", " if "grid" in (self.method or usual) else " ")
