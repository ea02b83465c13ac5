"""`evrin height` and `evrin profile`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.building import AsJson
from evrin.cli.terminal import DONE, OPEN, load_surface, output, place, print_frame, print_json, say_written
from evrin.errors import DataError

if TYPE_CHECKING:
    import pandas as pd

    from evrin.analysis import Profile

SurfaceFile = Annotated[Path, typer.Argument(metavar="SURFACE", help="A recipe or a surface file.")]


def height(
    surface: SurfaceFile,
    at: Annotated[list[str], typer.Option(help="A place, as in 4120.6,2877.3; may be given again.")],
    as_json: AsJson = False,
) -> int:
    """Print height, slope and the shots behind them. Exit code 1: a place lies outside the surface."""
    import pandas as pd

    from evrin.analysis.places import at_place

    places = [place(text) for text in at]
    ground = load_surface(surface)
    answers = [at_place(ground, x, y) for x, y in places]
    if as_json:
        print_json([vars(answer) for answer in answers])
    else:
        columns = ["easting", "northing", "height", "slope_percent"]
        frame = pd.DataFrame([[getattr(answer, name) for name in columns] for answer in answers], columns=columns)
        print_frame(frame)
        for number, answer in enumerate(answers, 1):
            for text in answer.held_by:
                output().print(f"{number}: {text}", markup=False)
    return DONE if all(answer.height is not None for answer in answers) else OPEN


def profile(
    surfaces: Annotated[list[Path], typer.Argument(metavar="SURFACE…", help="Recipes or surface files.")],
    along: Annotated[str, typer.Option(help='Places of the line, as in "4060,2905 4100,2850".')],
    out: Annotated[
        Path | None, typer.Option("--out", "-o", help="A picture (.png, .pdf, .svg) or a table (.csv).")
    ] = None,
    interval: Annotated[float | None, typer.Option(help="Distance between stations.")] = None,
    exaggeration: Annotated[float | None, typer.Option(help="Vertical over horizontal scale.")] = None,
    as_json: AsJson = False,
) -> int:
    """Draw or print surfaces along a line. Exit code 1: part of the line lies outside one of them."""
    line = [place(text) for text in along.split()]
    if len(line) < 2:
        raise DataError(f"a line needs at least 2 places; {along!r} has {len(line)}")
    if out is not None and out.suffix.lower() != ".csv":
        from evrin.draw.sheet import check_picture

        check_picture(out)
    grounds = {path: load_surface(path) for path in surfaces}
    profiles = {ground.name: ground.profile(line) for ground in grounds.values()}
    if len(profiles) < len(grounds):
        profiles = {path.stem: ground.profile(line) for path, ground in grounds.items()}
    tables = [ground.table(interval).assign(surface=name) for name, ground in profiles.items()]
    if out is not None:
        _write(out, profiles, tables, next(iter(grounds.values())).units, interval, exaggeration)
        say_written(out)
    if as_json:
        print_json([row for table in tables for row in table.to_dict(orient="records")])
    elif out is None:
        for name, table in zip(profiles, tables, strict=True):
            print_frame(table.drop(columns="surface"), name)
    return OPEN if any(table["height"].isna().any() for table in tables) else DONE


COMMANDS = (height, profile)


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
