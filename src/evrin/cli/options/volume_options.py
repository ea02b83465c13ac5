"""The options of `evrin volume`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from evrin.cli.options.what_is_written import WRITES


def _length(text: str, metavar: str = "LENGTH") -> object:
    return typer.Option(metavar=metavar, help=text)


def _text(metavar: str, text: str) -> object:
    return typer.Option(metavar=metavar, help=text, show_default=False)


Surfaces = Annotated[
    list[Path] | None,
    typer.Argument(metavar="BASE TOP", help="Recipes or surface files; the top alone without a base."),
]
ToLevel = Annotated[float | None, _length("Measure from a level.", "HEIGHT")]
ToPlane = Annotated[
    str, _text("PLACES", 'Measure from a plane: three places or more, as in "0,0,41 50,0,42 0,50,41"; or one.')
]
Grade = Annotated[float | None, _length("Of a plane through one place.", "PERCENT")]
RisingTo = Annotated[float | None, _length("Bearing that this plane rises to.", "DEGREES")]
Heap = Annotated[str, _text("E,N|FILE", "A heap: a place on it, from which its toe is found, or a file with its toe.")]
Reach = Annotated[float | None, _length("How far from that place its toe can be.")]
Within = Annotated[str, _text("FILE", "Areas to measure in: closed lines, each name is one; rings in rings alternate.")]
Strip = Annotated[float | None, _length("Taken off the base first, such as topsoil.", "DEPTH")]
StripWithin = Annotated[str, _text("FILE", "Closed lines within which that is.")]
Bulking = Annotated[float, _length("Volume of loose earth for one of cut.", "FACTOR")]
Compaction = Annotated[float, _length("Volume in the ground for one of fill.", "FACTOR")]
Density = Annotated[float | None, _length("Mass of one volume in the ground.", "FACTOR")]
NoChange = Annotated[float | None, _length("Differences up to this are no change.", "HEIGHT")]
TopSpread = Annotated[float | None, _length("Standard deviation of single heights of the top.", "HEIGHT")]
BaseSpread = Annotated[float | None, _length("The same of the base.", "HEIGHT")]
SharedSpread = Annotated[float | None, _length("Standard deviation of what all heights share.", "HEIGHT")]
Spacing = Annotated[float | None, _length("Volumes by sections as well, so far apart: end areas and prismoidal.")]
AlongLine = Annotated[str, _text("LINE", "Sections square to this line: places, or a file with one.")]
Bearing = Annotated[float | None, _length("Or sections one behind another this way.", "DEGREES")]
Left = Annotated[float | None, _length("How far sections reach to the left.")]
Right = Annotated[float | None, _length("And to the right.")]
Cell = Annotated[float | None, _length("Volumes by grid cells of this side as well.")]
DepthBands = Annotated[str, _text("LIMITS", "Limits of bands of depth, as in -1,-0.5,0,0.5,1.")]
LevelTable = Annotated[float | None, _length("Level, area and volume of one surface, at this interval.", "HEIGHT")]
SectionPages = Annotated[Path | None, WRITES, _text("FILE", "Pages of the sections to write.")]
NoChangeLines = Annotated[Path | None, WRITES, _text("FILE", "The lines of no change to write, in three dimensions.")]
BandPolygons = Annotated[Path | None, WRITES, _text("FILE", "The bands to write as closed lines, a layer for each.")]
AllowUncovered = Annotated[
    bool, typer.Option("--allow-uncovered", help="Ground that only one of the two covers is meant: exit code 0.")
]
Append = Annotated[Path | None, WRITES, _text("RECORD", "Add an entry to a record of volumes (.jsonl).")]
Called = Annotated[str, typer.Option("--called", metavar="NAME", help="What the entry is called.")]
Day = Annotated[str, _text("DAY", "The date of the entry; now if not given.")]
Again = Annotated[Path | None, _text("RECORD", "Instead of all else: measure every entry of this record anew.")]
