"""The options of `evrin volume`."""

from __future__ import annotations

from enum import StrEnum
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
    typer.Argument(metavar="BASE TOP", help="Recipes or surface files: a base and a top, or the top alone."),
]
ToLevel = Annotated[float | None, _length("Measure from this level instead of a base.", "HEIGHT")]
ToPlane = Annotated[
    str,
    _text(
        "PLACES",
        'Measure from a plane: three places or more, as in "0,0,41 50,0,42 0,50,41", or one place with --grade.',
    ),
]
Grade = Annotated[float | None, _length("Grade of a plane through one place.", "PERCENT")]
RisingTo = Annotated[float | None, _length("Bearing that this plane rises towards.", "DEGREES")]
Heap = Annotated[
    str, _text("E,N|FILE", "Measure a heap: a place on it, from which its toe is found, or a file with its toe.")
]
Reach = Annotated[float | None, _length("Largest distance of the toe from that place.")]
Apart = Annotated[
    bool, typer.Option("--apart", help="Of several heaps that touch, measure only the one that the place is on.")
]
Within = Annotated[
    str,
    _text("FILE", "Areas to measure in: a file of closed lines. Each name is one area; rings within rings alternate."),
]
Strip = Annotated[float | None, _length("Depth that is taken off the base first, such as topsoil.", "DEPTH")]
StripWithin = Annotated[str, _text("FILE", "Closed lines within which it is taken off; everywhere if not given.")]
Bulking = Annotated[float, _length("Volume of loose earth from one volume of cut.", "FACTOR")]
Compaction = Annotated[float, _length("Volume of earth in the ground for one volume of fill.", "FACTOR")]
Density = Annotated[float | None, _length("Mass of one volume of earth in the ground.", "FACTOR")]
NoChange = Annotated[
    float | None, _length("Differences of height up to this count as no change; 1 mm if not given.", "HEIGHT")
]
TopSpread = Annotated[
    float | None, _length("Standard deviation of single heights of the top; 0.02 m if not given.", "HEIGHT")
]
BaseSpread = Annotated[
    float | None, _length("Standard deviation of single heights of the base; 0.02 m if not given.", "HEIGHT")
]
SharedSpread = Annotated[
    float | None, _length("Standard deviation that all heights of a surface share; 0.01 m if not given.", "HEIGHT")
]
Spacing = Annotated[float | None, _length("Measure by sections at this distance as well: end areas and prismoidal.")]
AlongLine = Annotated[str, _text("LINE", "Line that the sections are square to: places, or a file with a line.")]
Bearing = Annotated[
    float | None, _length("Bearing along which the sections follow each other, instead of a line.", "DEGREES")
]
Left = Annotated[float | None, _length("Length of sections to the left of the line.")]
Right = Annotated[float | None, _length("Length of sections to the right of the line.")]
Cell = Annotated[float | None, _length("Measure by grid cells of this side as well.")]


class VolumeMethod(StrEnum):
    """The method whose figure a record keeps."""

    EXACT = "exact"
    END_AREAS = "end-areas"
    PRISMOIDAL = "prismoidal"
    GRID_CORNERS = "grid-corners"
    GRID_MIDDLES = "grid-middles"


Method = Annotated[
    VolumeMethod | None,
    typer.Option(
        "--record-by",
        metavar="|".join(VolumeMethod),
        help="The method whose figure a record keeps, the others beside it; end-areas with --spacing, grid-corners "
        "with --cell, exact otherwise.",
    ),
]
DepthBands = Annotated[str, _text("LIMITS", "Limits of the bands of depth, as in -1,-0.5,0,0.5,1.")]
LevelTable = Annotated[
    float | None, _length("Print level, area and volume of one surface at this interval of height.", "HEIGHT")
]
SectionPages = Annotated[Path | None, WRITES, _text("FILE", "Write the sections as pages.")]
NoChangeLines = Annotated[Path | None, WRITES, _text("FILE", "Write the lines of no change, in three dimensions.")]
BandPolygons = Annotated[
    Path | None, WRITES, _text("FILE", "Write the bands as closed lines, one layer for each band.")
]
AllowUncovered = Annotated[
    bool, typer.Option("--allow-uncovered", help="Accept ground that only one of the two covers: exit code 0.")
]
ConvertBase = Annotated[
    bool, typer.Option("--convert", help="Convert the base to the unit and reference system of the top, measured to.")
]
Append = Annotated[Path | None, WRITES, _text("RECORD", "Add an entry to a record of volumes (.jsonl).")]
Called = Annotated[
    str, typer.Option("--called", metavar="NAME", help="Name of the entry in a record, or of the volume.")
]
Day = Annotated[str, _text("DAY", "Date of the entry, as in 2026-05-12; now if not given.")]
Again = Annotated[
    Path | None, _text("RECORD", "Measure every entry of this record again, and compare; nothing else is done.")
]
