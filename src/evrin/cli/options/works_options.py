"""The options of `evrin combine`, `evrin pad` and `evrin layers`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from evrin.cli.options.shared_options import Out, written
from evrin.cli.options.what_is_written import WRITES


class UsedWhere(StrEnum):
    """Which surface is used where several overlap."""

    NEWER = "newer"
    HIGHER = "higher"
    LOWER = "lower"


class CornerShape(StrEnum):
    """How slopes pass round corners."""

    ROUND = "round"
    SHARP = "sharp"


def _option(metavar: str, text: str) -> object:
    return typer.Option(metavar=metavar, help=text, show_default=False)


Surfaces = Annotated[list[Path], typer.Argument(metavar="SURFACE…", help="Recipes or surface files, oldest first.")]
Ground = Annotated[Path, typer.Argument(metavar="GROUND", help="A recipe or a surface file.")]
CombinedOut = Annotated[
    Out, written("The surface, pictures (.png, .pdf, .svg) and the steps (.csv) to write; may be given again.")
]
PadOut = Annotated[Out, written("The proposed surface and pictures (.png, .pdf, .svg) to write; may be given again.")]
LayersOut = Annotated[
    Out, written("Sections (.png, .pdf, .svg) and volumes by material (.csv) to write; may be given again.")
]
Ruled = Annotated[
    UsedWhere, typer.Option(metavar="|".join(UsedWhere), help="Which surface is used where several overlap.")
]
WithinFile = Annotated[str, _option("FILE", "Closed lines; newer surfaces are used only inside them.")]
Band = Annotated[
    float,
    typer.Option(
        metavar="LENGTH", help="Distance from a join within which the older ground is raised or lowered to meet it."
    ),
]
Across = Annotated[float, typer.Option(metavar="LENGTH", help="Longest edge with which gaps are triangulated across.")]
JoinLines = Annotated[Path | None, WRITES, _option("FILE", "Write the joins as lines in three dimensions.")]
CalledResult = Annotated[str, typer.Option("--called", metavar="NAME", help="Name of the result.")]

_RUNS = (
    "Run for a rise of 1, as in 2 for 1 in 2, or a grade as in 50%; or one for each side of the outline, "
    "with commas between."
)
OutlineFile = Annotated[
    str, typer.Option("--outline", metavar="FILE", help="A file of closed lines, each the outline of a pad.")
]
Level = Annotated[
    float | None,
    _option("HEIGHT", "Height of the pad; its outline's own if not given. --balance needs neither."),
]
OnPlane = Annotated[str, _option("PLACES", 'Plane of the pad: three places, as in "0,0,41 50,0,42 0,50,41".')]
CutRun = Annotated[str, typer.Option("--cut", metavar="RUN", help=f"Slopes of cut. {_RUNS}")]
FillRun = Annotated[str, typer.Option("--fill", metavar="RUN", help="Slopes of fill, stated likewise.")]
Corners = Annotated[CornerShape, typer.Option(metavar="|".join(CornerShape), help="How slopes pass round corners.")]
BermEvery = Annotated[float, typer.Option(metavar="HEIGHT", help="Height of slope between level berms; none if 0.")]
BermWidth = Annotated[float, typer.Option(metavar="LENGTH", help="Width of a berm.")]
Balanced = Annotated[
    bool, typer.Option("--balance", help="Raise or lower all pads together until the cut fills the rest.")
]
Factor = Annotated[
    float, typer.Option(metavar="FACTOR", help="Volume of fill that one volume of cut makes; 1 if not given.")
]
EarthworkFile = Annotated[
    Path | None, WRITES, _option("FILE", "Write the pads with their slopes as a surface of their own.")
]
Daylight = Annotated[Path | None, WRITES, _option("FILE", "Write the daylight lines, in three dimensions.")]

Holes = Annotated[
    str, typer.Option(metavar="FILE", help="A table of boreholes: one row for each material of each hole.")
]
Materials = Annotated[str, _option("NAMES", "Materials in order from above, with commas between.")]
Pinch = Annotated[
    float,
    typer.Option(metavar="PART", help="Where a material ends on the way to a hole that lacks it; 0.5 is half way."),
]
Carry = Annotated[
    str,
    _option(
        "HOW",
        "What is carried from hole to hole: thickness or height, for all or by name, as in topsoil=thickness,"
        "clay=height; the first material's thickness and the others' heights if not given.",
    ),
]


class Between(StrEnum):
    """What lies between holes."""

    TRIANGLES = "triangles"
    INVERSE_DISTANCE = "inverse-distance"
    NATURAL_NEIGHBOURS = "natural-neighbours"


BetweenHoles = Annotated[
    Between, typer.Option(metavar="|".join(Between), help="How heights or thicknesses run between holes.")
]
DownTo = Annotated[
    str, _option("HEIGHT|FILE", "Measure volumes by material down to this: a level, or the surface of a pit.")
]
UpTo = Annotated[str, _option("HEIGHT|FILE", "Measure them up to this; the ground if not given.")]
WithinAreas = Annotated[str, _option("FILE", "Closed lines within which volumes are measured.")]
SectionLine = Annotated[str, _option("LINE", "Line of the section: places, or a file with a line.")]
HoleReach = Annotated[
    float | None,
    _option("LENGTH", "Largest distance from the line at which holes are drawn; a quarter of its length if not given."),
]
Tops = Annotated[Path | None, WRITES, _option("FOLDER", "Write the top of each material into this folder (.xml).")]
