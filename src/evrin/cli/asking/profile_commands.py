"""`evrin profile`, `evrin sections`, `evrin points`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.base.errors import DataError
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import (
    Along,
    AsJson,
    Convert,
    Every,
    Exaggeration,
    Out,
    PictureOrTableOut,
    Start,
    SurfaceFile,
    SurfaceFiles,
    line_of,
    sorted_outputs,
    write_outputs,
    written,
)
from evrin.cli.terminal import (
    DONE,
    load_surface,
    load_surfaces,
    messages,
    open_because,
    print_answer,
    print_frame,
    records,
    say_written,
)

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from evrin.surface.surface import Surface

Changes = Annotated[
    float | None,
    typer.Option(
        metavar="PERCENT",
        help="Add a row wherever the grade changes by more than this many percent, and at bends; 0 for every change.",
    ),
]


def _grounds(paths: list[Path], *, convert: bool) -> dict[str, Surface]:
    """Surfaces by name, or by file where two have the same."""
    loaded = load_surfaces(paths, convert=convert)
    named = {ground.name: ground for ground in loaded.values()}
    if len(named) == len(loaded):
        return named
    by_file = {path.stem: ground for path, ground in loaded.items()}
    return by_file if len(by_file) == len(loaded) else {str(path): ground for path, ground in loaded.items()}


def profile(
    surfaces: SurfaceFiles,
    along: Along,
    out: PictureOrTableOut = None,
    every: Every = None,
    changes: Changes = None,
    start: Start = None,
    exaggeration: Exaggeration = None,
    together: Annotated[
        bool,
        typer.Option(
            "--together", help="Print one table with the heights of every surface at the places of all of them."
        ),
    ] = False,
    convert: Convert = False,
    as_json: AsJson = False,
) -> int:
    """Draw or print surfaces along a line. Exit code 1: part of the line lies outside one of them."""
    import pandas as pd

    from evrin.analysis.along.profile_tables import table_together

    wanted = sorted_outputs(out, pictures=True, tables=True)
    grounds = _grounds(surfaces, convert=convert)
    line = line_of(along, next(iter(grounds.values())), start)
    profiles = {name: ground.profile(line.points, start=line.start) for name, ground in grounds.items()}
    tables = [ground.table(every, changes).assign(surface=name) for name, ground in profiles.items()]
    heights = pd.concat([table["height"] for table in tables])
    if together:
        tables = [table_together(profiles, every, changes)]
    units = next(iter(grounds.values())).units

    def sheet() -> Figure:
        from evrin.draw.sheets.profile_sheets import profile_sheet

        credit = next(iter(grounds.values())).facts.line()
        return profile_sheet(profiles, units=units, interval=every, exaggeration=exaggeration, credit=credit)

    write_outputs(wanted, pd.concat(tables), sheet)
    if as_json:
        print_answer((row for table in tables for row in records(table)), next(iter(grounds.values())))
    else:
        for name, table in zip(profiles, tables, strict=False):
            print_frame(table.drop(columns="surface", errors="ignore"), " and ".join(profiles) if together else name)
    names = list(profiles)
    for name in names[1:]:
        above, below = profiles[name].area_between(profiles[names[0]])
        areas = f"{name} above {names[0]}: {above:.3f} {units}² of section; below it: {below:.3f} {units}²"
        messages().print(areas)
    return open_because(_off_surface(heights)) if heights.isna().any() else DONE


@dataclass(frozen=True)
class SectionsOptions:
    """What `evrin sections` is asked for."""

    surfaces: SurfaceFiles
    along: Along
    every: Annotated[float, typer.Option(metavar="LENGTH", help="Distance between sections along the line.")]
    left: Annotated[float, typer.Option(metavar="LENGTH", help="How far sections reach to the left of the line.")]
    right: Annotated[float, typer.Option(metavar="LENGTH", help="How far sections reach to the right of the line.")]
    angle: Annotated[float, typer.Option(metavar="DEGREES", help="Angle between the line and the sections.")] = 90.0
    at_bends: Annotated[bool, typer.Option("--at-bends", help="Put sections at the bends of the line as well.")] = False
    start: Start = None
    out: Annotated[
        Out, written("Pages (.pdf; .png and .svg, numbered) and tables (.csv) to write; may be given again.")
    ] = None
    step: Annotated[
        float | None,
        typer.Option(
            metavar="LENGTH",
            help="Distance between rows of the table along a section; if not given, a row at every edge crossed.",
        ),
    ] = None
    exaggeration: Exaggeration = None
    convert: Convert = False
    as_json: AsJson = False


@with_options
def sections(asked: SectionsOptions) -> int:
    """Draw or print cross-sections, six to a page. Exit code 1: part of one lies outside a surface."""
    import pandas as pd

    from evrin.analysis.along.sections import cross_sections

    wanted = sorted_outputs(asked.out, pictures=True, tables=True)
    grounds = _grounds(asked.surfaces, convert=asked.convert)
    line = line_of(asked.along, next(iter(grounds.values())), asked.start)
    cut = cross_sections(
        grounds, line, asked.every, left=asked.left, right=asked.right, angle_deg=asked.angle, at_bends=asked.at_bends
    )
    table = pd.concat([section.table(asked.step) for section in cut], ignore_index=True)
    write_outputs(wanted, table)
    for target in wanted.pictures:
        from evrin.draw.sheets.section_sheets import save_pages, section_sheets

        first = next(iter(grounds.values()))
        sheets = section_sheets(cut, units=first.units, exaggeration=asked.exaggeration, credit=first.facts.line())
        for page in save_pages(sheets, target):
            say_written(page)
    if asked.as_json:
        print_answer(records(table), next(iter(grounds.values())))
    else:
        print_frame(table, f"{len(cut)} cross-sections")
    return open_because(_off_surface(table["height"])) if table["height"].isna().any() else DONE


def points(
    surface: SurfaceFile,
    along: Along,
    out: Annotated[list[Path], written("The points to write (.csv), numbered.")],
    every: Every = None,
    changes: Changes = None,
    start: Start = None,
    first: Annotated[int, typer.Option(metavar="NUMBER", help="Number of the first point.")] = 1,
) -> int:
    """Write points along a line on a surface: at an interval, its bends and changes of grade, to be checked on site."""
    from evrin.analysis.along.points_on_line import points_along

    wanted = sorted_outputs(out, tables=True)
    if every is None and changes is None:
        raise DataError("no places for the points. Give --every, --changes or both")
    ground = load_surface(surface)
    frame = points_along(ground, line_of(along, ground, start), every, changes, first=first)
    missing = int(frame["height"].isna().sum())
    summary = f"{len(frame) - missing} points" + (f"; {missing} places lie off the surface" if missing else "")
    messages().print(summary)
    write_outputs(wanted, frame.dropna(subset="height"))
    return open_because(_off_surface(frame["height"])) if missing else DONE


def _off_surface(heights: pd.Series) -> str:
    missing = int(heights.isna().sum())
    return f"places off the surface: {missing:,} of {len(heights):,}"


COMMANDS = (profile, sections, points)
