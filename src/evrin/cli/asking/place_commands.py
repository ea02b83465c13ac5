"""`evrin height`, `evrin water`, `evrin trust`, `evrin figures`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.base.wording import unsigned
from evrin.cli.options.shared_options import (
    AsJson,
    Columns,
    Outputs,
    PictureOrTableOut,
    PictureOut,
    Places,
    SurfaceFile,
    Tolerance,
    WindowText,
    print_notes,
    sorted_outputs,
    window_of,
    write_outputs,
)
from evrin.cli.terminal import (
    DONE,
    load_surface,
    messages,
    open_because,
    output,
    place,
    print_answer,
    print_frame,
    print_records,
    print_rows,
    records,
    worked_out,
)

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from evrin.analysis.terrain.drainage import WaterPath
    from evrin.surface.surface import Surface

_SHOWN = 6


def height(
    surface: SurfaceFile,
    at: Places = None,
    points: Annotated[Path | None, typer.Option(metavar="FILE", help="Independent check points; - is stdin.")] = None,
    columns: Columns = None,
    tolerance: Tolerance = None,
    out: PictureOrTableOut = None,
    as_json: AsJson = False,
) -> int:
    """Print height, slope and the shots behind them, or compare with check points.

    Exit code 1: a place lies outside the surface, or a check point fails the tolerance.
    """
    if (points is None) == (not at):
        raise DataError("give either places (--at) or a file of check points (--points)")
    wanted = sorted_outputs(out, tables=True, pictures=points is not None)
    if points is not None:
        return _check(surface, points, columns, tolerance, wanted, as_json)
    if tolerance is not None or columns is not None:
        raise DataError("--tolerance and --columns go with check points: --points FILE")
    return _heights(surface, at or [], wanted, as_json)


def _heights(surface: Path, at: list[str], wanted: Outputs, as_json: bool) -> int:
    from evrin.analysis.terrain.place_query import at_place

    places = [place(text) for text in at]
    ground = load_surface(surface)
    answers = [at_place(ground, x, y) for x, y in places]
    columns = ["easting", "northing", "height", "slope_percent", "nearest_shot"]
    rows = [[getattr(answer, name) for name in columns] for answer in answers]
    if wanted.tables:
        import pandas as pd

        write_outputs(wanted, table=pd.DataFrame(rows, columns=columns))
    if as_json:
        held = [[vars(corner) for corner in answer.held_by] for answer in answers]
        print_answer(
            [{**vars(answer), "held_by": corners} for answer, corners in zip(answers, held, strict=True)], ground
        )
    else:
        print_records(columns, rows)
        for number, answer in enumerate(answers, 1):
            for corner in answer.held_by:
                nearest_corner = f"height {corner.height:.3f}, {corner.distance:.2f} {ground.units} away"
                output().print(f"{number}: {corner.shot}: {nearest_corner}")
    off = sum(answer.height is None for answer in answers)
    return open_because(f"places off the surface: {off} of {len(answers)}") if off else DONE


def _check(
    surface: Path,
    points: Path,
    columns: str | None,
    tolerance: float | None,
    wanted: Outputs,
    as_json: bool,
) -> int:
    from evrin.formats.door.claims import Claim
    from evrin.recipe.sources.measured import measured_points
    from evrin.recipe.sources.source_table import Source

    file, claim = Claim.parsed(str(points))
    given = {key: value for key, value in claim._asdict().items() if value}
    chosen = {key: given.pop(key) for key in ("layers", "kinds", "codes") if key in given}
    given |= {"keep": chosen} if chosen else {}
    given |= {"columns": columns} if columns else {}
    ground = load_surface(surface)
    measured = measured_points(Path(), Source(file=str(file), role="points", **given), ground, tolerance)
    print_notes(measured.findings)
    for refusal in measured.refused[:_SHOWN]:
        messages().print(f"not used: {refusal.where}: {refusal.reason}")
    checked = measured.checked
    figures = checked.figures()

    def sheet() -> Figure:
        from evrin.draw.sheets.check_sheets import check_point_sheet

        return check_point_sheet(ground, checked)

    write_outputs(wanted, checked.table, sheet)
    if as_json:
        print_answer(records(checked.table), ground, figures=figures)
    else:
        print_frame(checked.table, "Check points: deviation is surface less measured")
        output().print()
        print_rows(["figure", ground.units], [[_spoken(key), _figure(value)] for key, value in figures.items()])
    reasons = [f"check points off the surface: {checked.off_surface}"] if checked.off_surface else []
    reasons += [f"rows not used: {len(measured.refused)}"] if measured.refused else []
    reasons += ["check points are further off than the tolerance"] if checked.passed is False else []
    return open_because("; ".join(reasons)) if reasons else DONE


def _spoken(key: str) -> str:
    answers = {
        "own": "shots of the surface",
        "accuracy_95": "95 %: 1.96 RMSE",
        "percentile_95": "95 % lie within",
        "rmse": "RMSE",
    }
    return answers.get(key, key.replace("_", " "))


def _figure(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if value is None:
        return "–"
    return unsigned(value) if isinstance(value, float) else str(value)


def water(
    surface: SurfaceFile,
    at: Places = None,
    least_depth: Annotated[
        float, typer.Option(metavar="HEIGHT", help="Shallower hollows and lower summits are left out.")
    ] = 0.05,
    out: PictureOut = None,
    window: WindowText = "",
    as_json: AsJson = False,
) -> int:
    """Print where water runs from a place, hollows it cannot leave, summits and level ground."""
    import numpy as np

    from evrin.analysis.terrain.drainage import hollows, level_ground, summits, water_paths

    wanted, frame = sorted_outputs(out, pictures=True), window_of(window)
    places = [place(text) for text in at or []]
    ground = load_surface(surface)
    paths = water_paths(ground, np.array(places).reshape(-1, 2))
    pits, peaks, level = hollows(ground, least_depth), summits(ground, least_depth), level_ground(ground)

    def sheet() -> Figure:
        from evrin.draw.arrows import lattice
        from evrin.draw.sheets.check_sheets import drainage_sheet
        from evrin.draw.sheets.sheet import arrow_spacing, window_of_most

        spacing = 2.0 * arrow_spacing(ground, frame)
        drawn = paths or water_paths(ground, lattice(ground, spacing, frame or window_of_most(ground)))
        return drainage_sheet(ground, drawn, pits, peaks, frame)

    write_outputs(wanted, sheet=sheet)
    if as_json:
        names = ("easting", "northing", "height")
        path_rows = [
            {
                "ends_at": p.end,
                "length": p.length,
                "fall": p.fall,
                "places": [dict(zip(names, row, strict=True)) for row in p.points.tolist()],
            }
            for p in paths
        ]
        tables = {
            "hollows": pits.drop(columns="vertex"),
            "summits": peaks.drop(columns="vertex"),
            "level_ground": level,
        }
        print_answer(path_rows, ground, **{name: records(table) for name, table in tables.items()})
        return DONE
    _print_water(ground, paths, pits, peaks, level, least_depth)
    return DONE


def _print_water(
    ground: Surface,
    paths: list[WaterPath],
    pits: pd.DataFrame,
    peaks: pd.DataFrame,
    level: pd.DataFrame,
    least_depth: float,
) -> None:
    import pandas as pd

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


def show_trust(
    surface: SurfaceFile,
    out: PictureOut = None,
    window: WindowText = "",
    as_json: AsJson = False,
) -> int:
    """Print how far the ground is from measured shots, and where triangles are too large for those around them."""
    import numpy as np
    import pandas as pd

    from evrin.analysis.quality.shot_distances import too_large, trust
    from evrin.draw.sheets.sheet import window_of_most

    wanted, frame = sorted_outputs(out, pictures=True), window_of(window)
    ground = load_surface(surface)
    trusted, large = trust(ground, window=frame or window_of_most(ground)), too_large(ground)

    def sheet() -> Figure:
        from evrin.draw.sheets.check_sheets import trust_sheet

        return trust_sheet(ground, trusted, large, frame)

    write_outputs(wanted, sheet=sheet)
    far, east, north = trusted.largest
    places = ground.vertices[ground.triangles[large], :2].mean(axis=1)
    areas = ground.triangle_areas[large]
    order = np.argsort(-areas, kind="stable")
    frame_large = pd.DataFrame(np.column_stack((places, areas))[order], columns=["easting", "northing", "plan_area"])
    if as_json:
        print_answer(
            records(trusted.bands()),
            ground,
            spacing=trusted.spacing,
            farthest={"distance": far, "easting": east, "northing": north},
            too_large=records(frame_large),
        )
        return DONE
    print_frame(trusted.bands(), f"Ground by distance to the nearest shot, {ground.units}")
    output().print(
        f"\nusual distance between shots {trusted.spacing:.2f} {ground.units}; farthest from any shot {far:.2f} "
        f"{ground.units}, at {east:.1f}, {north:.1f}\n"
    )
    print_frame(frame_large.head(20), f"Triangles too large for those around them: {int(large.sum())}")
    return DONE


def print_figures(surface: SurfaceFile, as_json: AsJson = False) -> int:
    """Print counts, areas, heights, slopes and edge lengths, and what each source gave."""
    from evrin.analysis.quality.statistics import figures_by_source, surface_figures

    def asked(of: Surface) -> tuple[Row, list[Row]]:
        # As plain rows: what makes tables takes longer to load than the rest of the answer.
        return surface_figures(of), records(figures_by_source(of))

    ground, (figures, sources) = worked_out(surface, "figures", asked)
    if as_json:
        print_answer(sources, ground, name=ground.name, figures=figures)
        return DONE
    rows = [[key.replace("_", " "), f"{value:,}" if isinstance(value, int) else f"{value:,.3f}"]
            for key, value in figures.items()]  # fmt: skip
    print_rows(["figure", ground.units], rows, ground.name, [False, True])
    output().print()
    print_records(list(sources[0]), [list(row.values()) for row in sources], title="By source")
    return DONE


show_trust.__name__ = "trust"
print_figures.__name__ = "figures"
COMMANDS = (height, water, show_trust, print_figures)
