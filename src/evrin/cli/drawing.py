"""`evrin contours`, `evrin map`, `evrin view`, `evrin bands`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.options import (
    AsJson,
    Bands,
    Base,
    Highest,
    Lowest,
    Picture,
    Shading,
    SlopeUnitOption,
    Smooth,
    SurfaceFile,
    Unit,
    WindowText,
    contours_of,
    numbers,
    shades_of,
    window_of,
)
from evrin.cli.terminal import DONE, OPEN, load_surface, messages, print_frame, print_json, progress, say_written
from evrin.errors import DataError

if TYPE_CHECKING:
    from evrin.surface import Surface

Interval = Annotated[float | None, typer.Option(help="Contour interval.")]
Index = Annotated[float | None, typer.Option(help="Index interval; four or five intervals if not given.")]


def contours(
    surface: SurfaceFile,
    out: Annotated[
        Path | None, typer.Option("--out", "-o", help="The file to write (.dxf, .gpkg, .shp, .geojson or .csv).")
    ] = None,
    interval: Annotated[float, typer.Option(help="Contour interval.")] = 0.5,
    index: Index = None,
    base: Base = 0.0,
    lowest: Lowest = None,
    highest: Highest = None,
    smooth: Smooth = 0.0,
    over: Annotated[
        str,
        typer.Option(help="Compare with contours: a file with them, or 'sources' for those that the recipe took in."),
    ] = "",
    picture: Picture = None,
    window: WindowText = "",
    tolerance: Annotated[float | None, typer.Option(help="Of the distance from the contours compared with.")] = None,
    as_json: AsJson = False,
) -> int:
    """Write contours, or compare them with given ones. Exit code 1: one lies farther off than the tolerance."""
    from evrin.analysis import levels_within
    from evrin.draw.sheet import check_picture
    from evrin.formats import write
    from evrin.formats.registry import check_writable

    if out is None and not over and picture is None:
        raise DataError("nothing to do: give -o for a file, --picture for a plan, or --over to compare with others")
    if out is not None:
        check_writable(out, contours=True)
    if picture is not None:
        check_picture(picture)
    levels_within(0.0, 0.0, interval)
    frame = window_of(window)
    ground = load_surface(surface)
    lines = contours_of(ground, interval, index, base, lowest, highest, smooth)
    if out is not None:
        write(out, lines)
        count = f"{len(lines):,} lines on {len(set(lines.level_of.tolist())):,} levels"
        round_hollows = int(lines.is_depression.sum())
        messages().print(count + (f", {round_hollows:,} of them round depressions" if round_hollows else ""))
        say_written(out)
    if over:
        return _compare(ground, over, picture, frame, tolerance, as_json)
    if picture is not None:
        from evrin.draw import map_sheet
        from evrin.draw.sheet import save_sheet

        sheet = map_sheet(ground, shading="none", triangles=False, contours=lines, window=frame, title="contours")
        save_sheet(sheet, picture)
        say_written(picture)
    return DONE


def _compare(
    ground: Surface,
    over: str,
    picture: Path | None,
    frame: tuple[float, float, float, float] | None,
    tolerance: float | None,
    as_json: bool,
) -> int:
    from evrin.analysis import contour_fit
    from evrin.formats.registry import How, read
    from evrin.surface import SourceLine

    if over == "sources":
        given = [line for line in ground.lines if line.effect == "contour"]
        if not given:
            raise DataError("this surface took in no contours; name a file with some: --over FILE")
    else:
        given = [
            SourceLine(line.name, line.xyz, line.closed, "contour") for line in read(over, How(as_lines=True)).lines
        ]
    fit = contour_fit(ground, given)
    if as_json:
        print_json(fit.table.to_dict(orient="records"))
    else:
        print_frame(fit.table, f"Distance between given contours and the surface's own, {ground.units}")
    messages().print(f"all levels: mean {fit.mean:.3f}, largest {fit.largest:.3f} {ground.units}")
    if picture is not None:
        from evrin.draw import contour_fit_sheet
        from evrin.draw.sheet import save_sheet

        save_sheet(contour_fit_sheet(ground, fit, frame), picture)
        say_written(picture)
    return OPEN if tolerance is not None and not fit.largest <= tolerance else DONE


def draw_map(
    surface: SurfaceFile,
    out: Annotated[Path, typer.Option("--out", "-o", help="The picture to write (.png, .pdf, .svg).")],
    shading: Annotated[Shading, typer.Option(help="What triangles are coloured by.")] = Shading.height,
    bands: Bands = "",
    smoothly: Annotated[bool, typer.Option("--smoothly", help="Shade slopes without bands.")] = False,
    only: Annotated[str, typer.Option(help="Colour only heights or slopes from,to.")] = "",
    unit: SlopeUnitOption = Unit.percent,
    arrows: Annotated[bool, typer.Option("--arrows", help="Draw arrows down the slope.")] = False,
    interval: Interval = None,
    index: Index = None,
    smooth: Smooth = 0.0,
    triangles: Annotated[bool, typer.Option(help="Draw triangle edges.")] = True,
    findings: Annotated[bool, typer.Option(help="Mark the findings of a recipe.")] = False,
    window: WindowText = "",
) -> int:
    """Draw a plan of a surface."""
    from evrin.analysis import flow_arrows
    from evrin.analysis.banding import areas_of
    from evrin.draw import map_sheet
    from evrin.draw.sheet import arrow_spacing, check_picture, save_sheet, window_of_most

    check_picture(out)
    frame = window_of(window)
    shades = shades_of(shading, bands, smoothly, only, unit)
    found = []
    if findings:
        from evrin.recipe import Recipe

        with progress() as step:
            built = Recipe.read(surface).build(step, keep=True)
        ground, found = built.surface, built.findings
    else:
        ground = load_surface(surface)
    spacing = arrow_spacing(ground, frame)
    titles = {"slope": "slope", "relief": "relief", "aspect": "aspect: which way the ground falls"}
    figure = map_sheet(
        ground,
        shading=shades,
        triangles=triangles,
        contours=contours_of(ground, interval, index, 0.0, None, None, smooth) if interval is not None else None,
        arrows=flow_arrows(ground, spacing, frame or window_of_most(ground)) if arrows else None,
        arrow_length=0.6 * spacing,
        findings=found,
        bands=areas_of(ground, shades.by, shades.limits, shades.unit) if shades.is_banded else None,
        window=frame,
        title="findings" if findings else titles.get(shading.value, "plan"),
    )
    save_sheet(figure, out)
    say_written(out)
    return DONE


def view(
    surface: SurfaceFile,
    out: Annotated[Path, typer.Option("--out", "-o", help="The picture to write (.png, .pdf, .svg).")],
    seen_from: Annotated[
        float, typer.Option("--from", help="Bearing of the eye, clockwise from north: 225 looks from the south-west.")
    ] = 225.0,
    above: Annotated[float, typer.Option(help="Degrees above the horizon.")] = 30.0,
    exaggeration: Annotated[
        float | None, typer.Option(help="By how much heights are stretched; chosen to be readable if not given.")
    ] = None,
    shading: Annotated[Shading, typer.Option(help="What triangles are coloured by.")] = Shading.height,
    bands: Bands = "",
    unit: SlopeUnitOption = Unit.percent,
    triangles: Annotated[bool, typer.Option("--triangles", help="Draw triangle edges.")] = False,
    interval: Interval = None,
    index: Index = None,
) -> int:
    """Draw a surface in three dimensions, with its breaklines and, if asked for, contours draped on it."""
    from evrin.draw.sheet import check_picture, save_sheet
    from evrin.draw.view import view_of

    check_picture(out)
    shades = shades_of(shading, bands, False, "", unit)
    ground = load_surface(surface)
    lines = ground.contours(interval, index=index) if interval is not None else None
    figure = view_of(
        ground,
        from_deg=seen_from,
        above_deg=above,
        exaggeration=exaggeration,
        shading=shades,
        contours=lines,
        triangles=triangles,
    )
    save_sheet(figure, out)
    say_written(out)
    return DONE


def print_bands(
    surface: SurfaceFile,
    by: Annotated[Shading, typer.Option(help="height, slope or aspect.")] = Shading.slope,
    bands: Bands = "",
    unit: SlopeUnitOption = Unit.percent,
    out: Annotated[Path | None, typer.Option("--out", "-o", help="A table to write (.csv).")] = None,
    as_json: AsJson = False,
) -> int:
    """Print the plan and slope area of ground by band of slope, height or aspect."""
    from evrin.analysis.banding import areas_of

    if out is not None and out.suffix.lower() != ".csv":
        raise DataError(f"{out}: the table is written as .csv")
    limits = numbers(bands, "limits")
    ground = load_surface(surface)
    frame = areas_of(ground, by.value, limits, unit.value)
    if out is not None:
        from evrin.formats.table import write_frame

        write_frame(out, frame)
        say_written(out)
    if as_json:
        print_json(frame.to_dict(orient="records"))
    elif out is None:
        what = f"{by.value}, {unit.value}" if by is Shading.slope else by.value
        print_frame(frame, f"Areas by band of {what}, {ground.units}²")
    return DONE


draw_map.__name__ = "map"
print_bands.__name__ = "bands"
COMMANDS = (contours, draw_map, view, print_bands)
