"""`evrin height`, `evrin water`, `evrin trust`, `evrin figures`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from evrin.cli.options import AsJson, Picture, SurfaceFile, WindowText, window_of
from evrin.cli.terminal import (
    DONE,
    OPEN,
    load_surface,
    output,
    place,
    print_frame,
    print_json,
    print_rows,
    say_written,
)
from evrin.errors import DataError


def height(
    surface: SurfaceFile,
    at: Annotated[list[str] | None, typer.Option(help="A place, as in 4120.6,2877.3; may be given again.")] = None,
    points: Annotated[Path | None, typer.Option(help="A file of independent check points.")] = None,
    columns: Annotated[str | None, typer.Option(help="Its columns, as in PNEZD, where no header names them.")] = None,
    tolerance: Annotated[float | None, typer.Option(help="The largest deviation that passes.")] = None,
    picture: Picture = None,
    out: Annotated[
        Path | None, typer.Option("--out", "-o", help="A table of the check points to write (.csv).")
    ] = None,
    as_json: AsJson = False,
) -> int:
    """Print height, slope and the shots behind them, or compare with check points.

    Exit code 1: a place lies outside the surface, or a check point fails the tolerance.
    """
    if (points is None) == (not at):
        raise DataError("give either places (--at) or a file of check points (--points)")
    if points is not None:
        return _check(surface, points, columns, tolerance, picture, out, as_json)
    if picture is not None or out is not None or tolerance is not None:
        raise DataError("--picture, --out and --tolerance go with check points: --points FILE")
    return _heights(surface, at or [], as_json)


def _heights(surface: Path, at: list[str], as_json: bool) -> int:
    import pandas as pd

    from evrin.analysis.places import at_place

    places = [place(text) for text in at]
    ground = load_surface(surface)
    answers = [at_place(ground, x, y) for x, y in places]
    if as_json:
        print_json([vars(answer) for answer in answers])
    else:
        columns = ["easting", "northing", "height", "slope_percent", "nearest_shot"]
        frame = pd.DataFrame([[getattr(answer, name) for name in columns] for answer in answers], columns=columns)
        print_frame(frame)
        for number, answer in enumerate(answers, 1):
            for text in answer.held_by:
                output().print(f"{number}: {text}", markup=False)
    return DONE if all(answer.height is not None for answer in answers) else OPEN


def _check(
    surface: Path,
    points: Path,
    columns: str | None,
    tolerance: float | None,
    picture: Path | None,
    out: Path | None,
    as_json: bool,
) -> int:
    from evrin.analysis import check_points
    from evrin.draw.sheet import check_picture
    from evrin.formats.registry import How, read

    if picture is not None:
        check_picture(picture)
    if out is not None and out.suffix.lower() != ".csv":
        raise DataError(f"{out}: the table is written as .csv")
    contents = read(points, How(columns=columns))
    found = contents.points
    if found.refused:
        told = "; ".join(f"{refusal.where}: {refusal.reason}" for refusal in found.refused[:3])
        raise DataError(f"{points}: {len(found.refused)} rows are no check points: {told}")
    names = [name or str(k) for k, name in enumerate(found.shots.numbers.tolist(), 1)]
    ground = load_surface(surface)
    checked = check_points(ground, found.xyz, names, tolerance)
    figures = checked.figures()
    if out is not None:
        from evrin.formats.table import write_frame

        write_frame(out, checked.table)
        say_written(out)
    if picture is not None:
        from evrin.draw import check_point_sheet
        from evrin.draw.sheet import save_sheet

        save_sheet(check_point_sheet(ground, checked), picture)
        say_written(picture)
    if as_json:
        print_json({"figures": figures, "points": checked.table.to_dict(orient="records")})
    else:
        print_frame(checked.table, "Check points: deviation is surface less measured")
        output().print()
        print_rows(["figure", ground.units], [[_spoken(key), _figure(value)] for key, value in figures.items()])
    return OPEN if checked.off_surface or checked.passed is False else DONE


def _spoken(key: str) -> str:
    known = {"accuracy_95": "95 %: 1.96 RMSE", "percentile_95": "95 % lie within", "rmse": "RMSE"}
    return known.get(key, key.replace("_", " "))


def _figure(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.3f}" if isinstance(value, float) else "–" if value is None else str(value)


def water(
    surface: SurfaceFile,
    at: Annotated[list[str] | None, typer.Option(help="Follow water from here; may be given again.")] = None,
    least_depth: Annotated[float, typer.Option(help="Shallower hollows and lower summits are left out.")] = 0.05,
    picture: Picture = None,
    window: WindowText = "",
    as_json: AsJson = False,
) -> int:
    """Print where water runs from a place, hollows it cannot leave, summits and level ground."""
    import numpy as np
    import pandas as pd

    from evrin.analysis import hollows, level_ground, summits, water_paths
    from evrin.draw.sheet import check_picture

    if picture is not None:
        check_picture(picture)
    frame = window_of(window)
    places = [place(text) for text in at or []]
    ground = load_surface(surface)
    paths = water_paths(ground, np.array(places).reshape(-1, 2))
    pits, peaks, level = hollows(ground, least_depth), summits(ground, least_depth), level_ground(ground)
    if picture is not None:
        from evrin.analysis.arrows import lattice
        from evrin.draw import drainage_sheet
        from evrin.draw.sheet import arrow_spacing, save_sheet, window_of_most

        drawn = paths or water_paths(
            ground, lattice(ground, 2.0 * arrow_spacing(ground, frame), frame or window_of_most(ground))
        )
        save_sheet(drainage_sheet(ground, drawn, pits, peaks, frame), picture)
        say_written(picture)
    if as_json:
        told = [{"end": p.end, "length": p.length, "fall": p.fall, "points": p.points.tolist()} for p in paths]
        tables = {"hollows": pits, "summits": peaks, "level_ground": level}
        print_json({"paths": told, **{name: table.to_dict(orient="records") for name, table in tables.items()}})
        return DONE
    if paths:
        rows = [(*p.points[0].tolist(), p.length, p.fall, *p.points[-1].tolist(), p.end) for p in paths]
        heads = ["easting", "northing", "height", "length", "fall", "to_easting", "to_northing", "to_height", "ends_at"]
        print_frame(pd.DataFrame(rows, columns=heads), "Water from these places")
        output().print()
    print_frame(pits.drop(columns="vertex"), f"Hollows at least {least_depth:g} {ground.units} deep: {len(pits)}")
    output().print()
    print_frame(
        peaks.drop(columns="vertex"), f"Summits that rise at least {least_depth:g} {ground.units}: {len(peaks)}"
    )
    output().print()
    print_frame(level, f"Level ground: {len(level)} parts")
    return DONE


def show_trust(
    surface: SurfaceFile,
    picture: Picture = None,
    window: WindowText = "",
    as_json: AsJson = False,
) -> int:
    """Print how far the ground is from measured shots, and where triangles are too large for those round them."""
    import numpy as np
    import pandas as pd

    from evrin.analysis import too_large, trust
    from evrin.draw.sheet import check_picture, window_of_most

    if picture is not None:
        check_picture(picture)
    frame = window_of(window)
    ground = load_surface(surface)
    known, large = trust(ground, window=frame or window_of_most(ground)), too_large(ground)
    if picture is not None:
        from evrin.draw import trust_sheet
        from evrin.draw.sheet import save_sheet

        save_sheet(trust_sheet(ground, known, large, frame), picture)
        say_written(picture)
    far, east, north = known.largest
    places = ground.vertices[ground.triangles[large], :2].mean(axis=1)
    areas = ground.triangle_areas[large]
    order = np.argsort(-areas, kind="stable")
    frame_large = pd.DataFrame(np.column_stack((places, areas))[order], columns=["easting", "northing", "plan_area"])
    if as_json:
        print_json(
            {
                "spacing": known.spacing,
                "farthest": {"distance": far, "easting": east, "northing": north},
                "bands": known.bands().to_dict(orient="records"),
                "too_large": frame_large.to_dict(orient="records"),
            }
        )
        return DONE
    print_frame(known.bands(), f"Ground by distance to the nearest shot, {ground.units}")
    output().print(
        f"\nusual distance between shots {known.spacing:.2f} {ground.units}; farthest from any shot {far:.2f} "
        f"{ground.units}, at {east:.1f}, {north:.1f}\n"
    )
    print_frame(frame_large.head(20), f"Triangles too large for those round them: {int(large.sum())}")
    return DONE


def print_figures(surface: SurfaceFile, as_json: AsJson = False) -> int:
    """Print counts, areas, heights, slopes and edge lengths, and what each source gave."""
    from evrin.analysis import figures_by_source, surface_figures

    ground = load_surface(surface)
    figures, sources = surface_figures(ground), figures_by_source(ground)
    if as_json:
        print_json({"units": ground.units, "figures": figures, "sources": sources.to_dict(orient="records")})
        return DONE
    rows = [[key.replace("_", " "), f"{value:,}" if isinstance(value, int) else f"{value:,.3f}"]
            for key, value in figures.items()]  # fmt: skip
    print_rows(["figure", ground.units], rows, ground.name, [False, True])
    output().print()
    print_frame(sources, "By source")
    return DONE


show_trust.__name__ = "trust"
print_figures.__name__ = "figures"
COMMANDS = (height, water, show_trust, print_figures)
