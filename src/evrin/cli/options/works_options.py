"""The options of `evrin combine`, `evrin pad` and `evrin layers`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from evrin.cli.options.shared_options import Out, written
from evrin.cli.options.what_is_written import WRITES


class Rule(StrEnum):
    """What is used where several surfaces are."""

    NEWER = "newer"
    HIGHER = "higher"
    LOWER = "lower"


class Corner(StrEnum):
    """How slopes go round corners."""

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
Ruled = Annotated[Rule, typer.Option(metavar="|".join(Rule), help="What is used where several surfaces are.")]
WithinFile = Annotated[str, _option("FILE", "Closed lines; the newer count only inside them.")]
Band = Annotated[
    float, typer.Option(metavar="LENGTH", help="Raise or lower the older within this of a join, so that it meets.")
]
Across = Annotated[float, typer.Option(metavar="LENGTH", help="Triangulate across gaps with edges up to this.")]
JoinLines = Annotated[Path | None, WRITES, _option("FILE", "The joins to write, as lines in three dimensions.")]
CalledResult = Annotated[str, typer.Option("--called", metavar="NAME", help="What the result is called.")]

_RUNS = "Run for 1 of rise, 2 for 1 in 2, or as in 50%; or one for each side of the outline, commas between."
OutlineFile = Annotated[str, typer.Option("--outline", metavar="FILE", help="Closed lines, each the outline of a pad.")]
Level = Annotated[float | None, _option("HEIGHT", "Height of the pad; its outline's own if not given.")]
OnPlane = Annotated[str, _option("PLACES", 'Or a plane: three places, as in "0,0,41 50,0,42 0,50,41".')]
CutRun = Annotated[str, typer.Option("--cut", metavar="RUN", help=f"Slopes of cut. {_RUNS}")]
FillRun = Annotated[str, typer.Option("--fill", metavar="RUN", help="Slopes of fill, likewise.")]
Corners = Annotated[Corner, typer.Option(metavar="|".join(Corner), help="How slopes go round corners.")]
BermEvery = Annotated[float, typer.Option(metavar="HEIGHT", help="A level berm at every so much height of a slope.")]
BermWidth = Annotated[float, typer.Option(metavar="LENGTH", help="How wide it is.")]
Balanced = Annotated[
    bool, typer.Option("--balance", help="Raise or lower all pads together until the cut fills the rest.")
]
Factor = Annotated[float, typer.Option(metavar="FACTOR", help="Volume of fill that one volume of cut makes.")]
EarthworkFile = Annotated[Path | None, WRITES, _option("FILE", "Pads and slopes alone to write, as a surface.")]
Daylight = Annotated[Path | None, WRITES, _option("FILE", "The daylight lines to write, in three dimensions.")]

Holes = Annotated[str, typer.Option(metavar="FILE", help="Boreholes: a row for each material of each hole.")]
Materials = Annotated[str, _option("NAMES", "Materials in order from above, commas between.")]
Pinch = Annotated[
    float, typer.Option(metavar="PART", help="Where a material ends on the way to a hole without it: 0.5 is half way.")
]
DownTo = Annotated[str, _option("HEIGHT|FILE", "Volumes by material down to this: a level, or a pit's surface.")]
UpTo = Annotated[str, _option("HEIGHT|FILE", "And up to this; the ground if not given.")]
WithinAreas = Annotated[str, _option("FILE", "Closed lines within which volumes count.")]
SectionLine = Annotated[str, _option("LINE", "The line of the section: places, or a file with one.")]
HoleReach = Annotated[float | None, _option("LENGTH", "How far from the line holes are drawn.")]
Tops = Annotated[Path | None, WRITES, _option("FOLDER", "The top of each material to write here (.xml).")]
