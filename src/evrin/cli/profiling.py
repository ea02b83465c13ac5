"""`evrin profile`, `evrin sections`, `evrin points`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.options import Along, AsJson, Exaggeration, Start, SurfaceFile, SurfaceFiles, line_of
from evrin.cli.terminal import DONE, OPEN, load_surface, messages, print_frame, print_json, say_written
from evrin.errors import DataError

if TYPE_CHECKING:
    import pandas as pd

    from evrin.analysis import Profile
    from evrin.surface import Surface

Changes = Annotated[
    float | None,
    typer.Option(help="Rows where the grade changes by more than this many percent, and at bends; 0 for all."),
]


def _grounds(paths: list[Path]) -> dict[str, Surface]:
    """Surfaces by name, or by file where two have the same."""
    loaded = {path: load_surface(path) for path in paths}
    named = {ground.name: ground for ground in loaded.values()}
    if len(named) == len(loaded):
        return named
    by_file = {path.stem: ground for path, ground in loaded.items()}
    return by_file if len(by_file) == len(loaded) else {str(path): ground for path, ground in loaded.items()}


def _check_out(out: Path | None) -> None:
    if out is not None and out.suffix.lower() != ".csv":
        from evrin.draw.sheet import check_picture

        check_picture(out)


def profile(
    surfaces: SurfaceFiles,
    along: Along,
    out: Annotated[
        list[Path] | None,
        typer.Option("--out", "-o", help="A picture (.png, .pdf, .svg) or a table (.csv); may be given again."),
    ] = None,
    interval: Annotated[float | None, typer.Option(help="Distance between stations.")] = None,
    changes: Changes = None,
    start: Start = 0.0,
    exaggeration: Exaggeration = None,
    as_json: AsJson = False,
) -> int:
    """Draw or print surfaces along a line. Exit code 1: part of the line lies outside one of them."""
    for target in out or []:
        _check_out(target)
    line = line_of(along, start)
    grounds = _grounds(surfaces)
    profiles = {name: ground.profile(line.points, start=start) for name, ground in grounds.items()}
    tables = [ground.table(interval, changes).assign(surface=name) for name, ground in profiles.items()]
    units = next(iter(grounds.values())).units
    for target in out or []:
        _write(target, profiles, tables, units, interval, exaggeration)
        say_written(target)
    if as_json:
        print_json([row for table in tables for row in table.to_dict(orient="records")])
    elif not out:
        for name, table in zip(profiles, tables, strict=True):
            print_frame(table.drop(columns="surface"), name)
    names = list(profiles)
    for name in names[1:]:
        above, below = profiles[name].area_between(profiles[names[0]])
        told = f"{name} lies above {names[0]} by {above:.3f} {units}² of section and below it by {below:.3f} {units}²"
        messages().print(told, markup=False)
    return OPEN if any(table["height"].isna().any() for table in tables) else DONE


def _write(
    out: Path,
    profiles: dict[str, Profile],
    tables: list[pd.DataFrame],
    units: str,
    interval: float | None,
    exaggeration: float | None,
) -> None:
    import pandas as pd

    if out.suffix.lower() == ".csv":
        from evrin.formats.table import write_frame

        write_frame(out, pd.concat(tables))
        return
    from evrin.draw import profile_sheet
    from evrin.draw.sheet import save_sheet

    save_sheet(profile_sheet(profiles, units=units, interval=interval, exaggeration=exaggeration), out)


def sections(
    surfaces: SurfaceFiles,
    along: Along,
    interval: Annotated[float, typer.Option(help="Distance between sections.")],
    left: Annotated[float, typer.Option(help="How far sections reach to the left of the line.")],
    right: Annotated[float, typer.Option(help="How far they reach to the right.")],
    angle: Annotated[float, typer.Option(help="Between line and sections, in degrees.")] = 90.0,
    at_bends: Annotated[bool, typer.Option("--at-bends", help="Sections at the line's bends as well.")] = False,
    start: Start = 0.0,
    out: Annotated[
        list[Path] | None,
        typer.Option("--out", "-o", help="Pages (.pdf; .png, numbered) or a table (.csv); may be given again."),
    ] = None,
    step: Annotated[
        float | None, typer.Option(help="Distance between rows of the table; every edge otherwise.")
    ] = None,
    exaggeration: Exaggeration = None,
    as_json: AsJson = False,
) -> int:
    """Draw or print cross-sections, six to a page. Exit code 1: part of one lies outside a surface."""
    import pandas as pd

    from evrin.analysis import cross_sections

    for target in out or []:
        _check_out(target)
    line = line_of(along, start)
    grounds = _grounds(surfaces)
    found = cross_sections(grounds, line, interval, left=left, right=right, angle_deg=angle, at_bends=at_bends)
    table = pd.concat([section.table(step) for section in found], ignore_index=True)
    for target in out or []:
        if target.suffix.lower() == ".csv":
            from evrin.formats.table import write_frame

            write_frame(target, table)
            say_written(target)
            continue
        from evrin.draw.sections import save_pages, section_sheets

        units = next(iter(grounds.values())).units
        for page in save_pages(section_sheets(found, units=units, exaggeration=exaggeration), target):
            say_written(page)
    if as_json:
        print_json(table.to_dict(orient="records"))
    elif not out:
        print_frame(table, f"{len(found)} cross-sections")
    return OPEN if table["height"].isna().any() else DONE


def points(
    surface: SurfaceFile,
    along: Along,
    out: Annotated[Path, typer.Option("--out", "-o", help="The points to write (.csv), numbered.")],
    interval: Annotated[float | None, typer.Option(help="Distance between points.")] = None,
    changes: Changes = None,
    start: Start = 0.0,
    first: Annotated[int, typer.Option(help="Number of the first point.")] = 1,
) -> int:
    """Write points along a line on a surface: at an interval, its bends and changes of grade, to be checked on site."""
    from evrin.analysis import points_along
    from evrin.formats.table import write_frame

    if out.suffix.lower() != ".csv":
        raise DataError(f"{out}: points are written as .csv")
    if interval is None and changes is None:
        raise DataError("where are the points to stand? give --interval, --changes or both")
    line = line_of(along, start)
    frame = points_along(load_surface(surface), line, interval, changes, first=first)
    write_frame(out, frame.dropna(subset="height"))
    missing = int(frame["height"].isna().sum())
    told = f"{len(frame) - missing} points" + (f"; {missing} places lie off the surface" if missing else "")
    messages().print(told)
    say_written(out)
    return OPEN if missing else DONE


COMMANDS = (profile, sections, points)
