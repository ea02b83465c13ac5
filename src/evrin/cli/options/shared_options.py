"""Options that several commands share, and reading them."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from evrin.base.errors import DataError
from evrin.cli.terminal import messages, place, say_written

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from evrin.analysis.along.alignment import Alignment
    from evrin.analysis.contours.contour_lines import Contours
    from evrin.check import Finding
    from evrin.draw.shading import Shades
    from evrin.surface.surface import Surface

SurfaceFile = Annotated[Path, typer.Argument(metavar="SURFACE", help="A recipe or a surface file.")]
SurfaceFiles = Annotated[list[Path], typer.Argument(metavar="SURFACE…", help="Recipes or surface files.")]
Convert = Annotated[
    bool, typer.Option("--convert", help="Convert every surface to the unit and reference system of the first.")
]
RecipeFile = Annotated[Path, typer.Argument(metavar="RECIPE", help="A recipe (.toml).")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON instead of tables.")]


def writes_pictures(command: Callable[..., int]) -> bool:
    """Whether a command can write pictures."""
    out = inspect.signature(command, eval_str=True).parameters.get("out")
    notes = getattr(out.annotation, "__metadata__", ()) if out is not None else ()
    return any(".png" in (getattr(note, "help", "") or "") for note in notes)


def written(what: str) -> Any:
    """Return the option that names what a command writes."""
    return typer.Option("--out", "-o", metavar="FILE", help=f"{what} The extension names the format; - is stdout.")


_LARGEST, _LEAST_SIDE = 1e12, 1e-6
PICTURE_ENDINGS = (".png", ".pdf", ".svg")
Out = list[Path] | None
PictureOut = Annotated[Out, written("Pictures to write (.png, .pdf, .svg); may be given again.")]
TableOut = Annotated[Out, written("Tables to write (.csv); may be given again.")]
PictureOrTableOut = Annotated[
    Out, written("Pictures (.png, .pdf, .svg) and tables (.csv) to write; may be given again.")
]
PictureNeeded = Annotated[list[Path], written("The picture to write (.png, .pdf, .svg); may be given again.")]
PageNeeded = Annotated[Path, typer.Option("--out", "-o", metavar="FILE", help="The page to write (.html).")]
Places = Annotated[
    list[str] | None, typer.Option("--at", metavar="E,N", help="A place, as in 4120.6,2877.3; may be given again.")
]
WindowText = Annotated[
    str,
    typer.Option("--window", metavar="W,S,E,N", help="Show only this part: west,south,east,north.", show_default=False),
]
Along = Annotated[
    str,
    typer.Option(
        metavar="LINE",
        help='The line: places, as in "4060,2905 4100,2850", or a file with one.',
    ),
]
Quantities = Annotated[
    str,
    typer.Option(
        "--in",
        metavar="UNITS",
        help="Units of volumes, areas and masses, as in yd3,acre,ton: m3, ft3 or yd3; m2, ft2, yd2, ha or acre; t, ton "
        "(2000 lb) or long-ton. Densities are for one of that volume.",
        show_default=False,
    ),
]
Start = Annotated[
    float | None,
    typer.Option(
        metavar="LENGTH", help="Chainage of the beginning of the line; if not given, what its file states, or 0."
    ),
]
Every = Annotated[float | None, typer.Option("--every", metavar="LENGTH", help="Distance between rows along the line.")]
Interval = Annotated[float | None, typer.Option("--interval", metavar="HEIGHT", help="Contour interval.")]
Index = Annotated[
    float | None,
    typer.Option(metavar="HEIGHT", help="Interval of index contours; four or five contour intervals if not given."),
]
Columns = Annotated[
    str | None,
    typer.Option(metavar="LETTERS", help="Columns of a text file that has no header, as in PNEZD."),
]
Tolerance = Annotated[float | None, typer.Option(metavar="HEIGHT", help="Largest deviation that passes.")]
Exaggeration = Annotated[
    float | None,
    typer.Option(
        metavar="FACTOR",
        help="Vertical scale over horizontal scale; if not given, a round one that suits the drawing.",
    ),
]


class Shading(StrEnum):
    """What triangles are coloured by."""

    height = "height"
    slope = "slope"
    aspect = "aspect"
    relief = "relief"
    none = "none"


class Label(StrEnum):
    """What is written beside shots."""

    none = "none"
    number = "number"
    code = "code"
    height = "height"
    layer = "layer"


class ShotLabel(StrEnum):
    """What is written beside the vertices of a surface."""

    none = "none"
    number = "number"
    code = "code"
    height = "height"


class Unit(StrEnum):
    """Units of slope."""

    percent = "percent"
    degrees = "degrees"
    one_in = "one_in"
    ratio = "ratio"


ShadingOption = Annotated[Shading, typer.Option(metavar="|".join(Shading), help="What triangles are coloured by.")]
SlopeUnitOption = Annotated[
    Unit, typer.Option(metavar="|".join(Unit), help="Unit of slopes; one_in is the run for a rise of 1.")
]
Bands = Annotated[
    str,
    typer.Option(
        metavar="LIMITS",
        help="Limits of the bands of height or slope, as in 2,5,10; flatter slopes first.",
        show_default=False,
    ),
]
Smooth = Annotated[
    float,
    typer.Option(
        min=0.0,
        max=1.0,
        metavar="0…1",
        help="How much contours are smoothed, from 0 to 1. None crosses another, or a breakline.",
    ),
]
Base = Annotated[float, typer.Option(metavar="HEIGHT", help="A level that intervals are counted from; 0 if not given.")]
Lowest = Annotated[float | None, typer.Option(metavar="HEIGHT", help="Lowest contour.")]
Highest = Annotated[float | None, typer.Option(metavar="HEIGHT", help="Highest contour.")]


@dataclass
class Outputs:
    """What a command is to write, by kind."""

    pictures: list[Path] = field(default_factory=list)
    tables: list[Path] = field(default_factory=list)
    others: list[Path] = field(default_factory=list)


def sorted_outputs(
    paths: Sequence[Path] | None,
    *,
    pictures: bool = False,
    tables: bool = False,
    others: Callable[[Path], None] | None = None,
) -> Outputs:
    """Return by extension what a command is to write, and refuse what cannot be written before any work is done.

    Parameters
    ----------
    paths : sequence of Path or None
        Files named by ``-o``.
    pictures, tables : bool
        Whether the command writes them.
    others : callable, optional
        Refuses what is neither.

    Raises
    ------
    DataError
        For a kind that the command does not write, or a place where nothing can be written.
    """
    outputs = Outputs()
    for path in paths or ():
        ending = path.suffix.lower()
        if pictures and ending in PICTURE_ENDINGS:
            from evrin.draw.sheets.sheet import check_picture

            check_picture(path)
            outputs.pictures.append(path)
        elif tables and ending == ".csv":
            from evrin.formats.door.writers import check_folder

            check_folder(path)
            outputs.tables.append(path)
        elif others is not None:
            others(path)
            outputs.others.append(path)
        else:
            kinds = [".csv"] * tables + list(PICTURE_ENDINGS) * pictures
            raise DataError(f"{path}: this command writes {', '.join(kinds)}")
    return outputs


def write_outputs(
    wanted: Outputs, table: pd.DataFrame | None = None, sheet: Callable[[], Figure] | None = None
) -> None:
    """Write a table and a sheet to the files asked for; the sheet is drawn once, and only where it is wanted."""
    if table is not None and wanted.tables:
        from evrin.formats.text.table_writing import write_frame

        for path in wanted.tables:
            write_frame(path, table)
            say_written(path)
    if sheet is not None and wanted.pictures:
        from evrin.draw.sheets.sheet import save_sheet

        drawn = sheet()
        for path in wanted.pictures:
            save_sheet(drawn, path)
            say_written(path)


def write_sheets(wanted: Outputs, sheets: Iterable[tuple[str, Figure]]) -> None:
    """Write several sheets: a .pdf holds all of them; of other kinds there is a file for each, with its name added."""
    from evrin.draw.sheets.section_sheets import save_pages

    names, figures = zip(*sheets, strict=True)
    for path in wanted.pictures:
        for written in save_pages(figures, path, names):
            say_written(written)


def numbers(text: str, what: str) -> tuple[float, ...]:
    """Return numbers from ``2,5,10``.

    Raises
    ------
    DataError
        For anything else.
    """
    try:
        values = tuple(float(part) for part in text.split(",")) if text else ()
    except ValueError as error:
        raise DataError(f"{text!r} is not a list of {what}; write numbers with commas between, as in 2,5,10") from error
    if not all(abs(number) <= _LARGEST for number in values):
        raise DataError(f"{text!r}: a number is not finite, or far beyond any survey")
    return values


def window_of(text: str) -> tuple[float, float, float, float] | None:
    """Return west, south, east, north, or None for an empty text.

    Raises
    ------
    DataError
        For anything else.
    """
    if not text:
        return None
    ends = numbers(text, "window's sides") if text.count(",") == 3 else ()
    if len(ends) != 4:
        raise DataError(f"{text!r} is not a window; write west,south,east,north")
    west, south, east, north = ends
    if not (east - west > _LEAST_SIDE and north - south > _LEAST_SIDE):
        raise DataError(f"a window runs west, south, east, north; {text!r} has no area")
    return west, south, east, north


def shades_of(by: Shading, bands: str, smooth: bool, within: str, unit: Unit) -> Shades:
    """Return the shading that options ask for."""
    from evrin.draw.shading import Shades

    ends = numbers(within, "two ends")
    if within and len(ends) != 2:
        raise DataError(f"{within!r} is not a range; write from,to as in 40.5,42")
    inside = (ends[0], ends[1]) if within else None
    return Shades(by.value, numbers(bands, "limits"), smooth, inside, unit.value)


def contours_of(
    ground: Surface,
    interval: float,
    index: float | None,
    base: float,
    lowest: float | None,
    highest: float | None,
    smooth: float,
) -> Contours:
    """Return the contours that options ask for."""
    from evrin.analysis.contours.contour_lines import contours

    return contours(ground, interval, index=index, base=base, lowest=lowest, highest=highest, smooth=smooth)


def names_file(text: str) -> bool:
    """Whether a text names a file, alone or with what its coordinates are; otherwise it is places."""
    first = text.split(",")[0].strip()
    return "," not in text or Path(text).is_file() or not _is_number(first)


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def print_notes(findings: Sequence[Finding]) -> None:
    """Print what contradicts the site about a file that an option names."""
    for finding in findings:
        messages().print(f"note: {finding.message}; {finding.fix}", soft_wrap=True)


def line_of(text: str, ground: Surface, start: float | None = None) -> Alignment:
    """Return a line from places, or from a file that holds one, in the coordinates of a surface.

    Raises
    ------
    DataError
        For neither, or a file with another number of lines than one.
    """
    from evrin.analysis.along.alignment import Alignment

    if names_file(text):
        from evrin.formats.door.claims import Claim
        from evrin.recipe.handover.lines_named import alignment_of

        line, findings = alignment_of(*Claim.parsed(text), ground, start)
        print_notes(findings)
        return line
    places = [place(part) for part in text.split()]
    if len(places) < 2:
        raise DataError(f"a line needs at least 2 places; {text!r} has {len(places)}")
    return Alignment.along(places, start or 0.0)
