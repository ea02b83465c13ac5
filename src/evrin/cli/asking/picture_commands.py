"""`evrin contours`, `evrin map`, `evrin view`, `evrin bands`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.base.errors import DataError
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import (
    AsJson,
    Bands,
    Base,
    Exaggeration,
    Highest,
    Index,
    Interval,
    Lowest,
    Out,
    Outputs,
    PictureNeeded,
    Shading,
    ShadingOption,
    ShotLabel,
    SlopeUnitOption,
    Smooth,
    SurfaceFile,
    TableOut,
    Tolerance,
    Unit,
    WindowText,
    contours_of,
    numbers,
    print_notes,
    shades_of,
    sorted_outputs,
    window_of,
    write_outputs,
    write_sheets,
    written,
)
from evrin.cli.terminal import (
    DONE,
    load_build,
    load_surface,
    messages,
    open_because,
    print_answer,
    print_frame,
    records,
    say_written,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.surface.surface import Surface


Window = tuple[float, float, float, float]
Plan = Callable[[Window | None, Sequence[str]], "Figure"]
_TITLES = {"slope": "slope", "relief": "relief", "aspect": "aspect: which way the ground falls"}
LabelHeight = Annotated[
    float | None,
    typer.Option("--label-height", metavar="LENGTH", help="Height of the digits of labels, in units of the ground."),
]
LabelSpacing = Annotated[
    float | None,
    typer.Option("--label-spacing", metavar="LENGTH", help="Distance between the labels of one contour."),
]

MapScale = Annotated[
    float | None,
    typer.Option(
        "--scale",
        metavar="GROUND",
        help="Draw at this scale, as in 500 for 1:500 on the paper of --size; on several sheets and an overview "
        "where it does not fit.",
    ),
]


@dataclass(frozen=True)
class ContoursOptions:
    """What `evrin contours` is asked for."""

    surface: SurfaceFile
    out: Annotated[
        Out,
        written("Contours (.dxf, .gpkg, .shp, .geojson, .csv) and plans (.png, .pdf, .svg); may be given again."),
    ] = None
    interval: Annotated[float, typer.Option(metavar="HEIGHT", help="Contour interval.")] = 0.5
    index: Index = None
    base: Base = 0.0
    lowest: Lowest = None
    highest: Highest = None
    smooth: Smooth = 0.0
    over: Annotated[
        str,
        typer.Option(
            metavar="FILE",
            help="Compare with contours: a file with them, or 'sources' for those that the recipe took in.",
            show_default=False,
        ),
    ] = ""
    window: WindowText = ""
    label_height: LabelHeight = None
    label_spacing: LabelSpacing = None
    tolerance: Tolerance = None
    as_json: AsJson = False


@with_options
def contours(asked: ContoursOptions) -> int:
    """Write contours, or compare them with given ones. Exit code 1: one lies farther off than the tolerance."""
    from evrin.analysis.contours.contour_labelling import check_labels
    from evrin.analysis.contours.contour_lines import levels_within
    from evrin.formats.door.writers import check_writable, write

    if not asked.out and not asked.over:
        raise DataError("nothing to do: give -o for a file or a plan, or --over to compare with others")
    wanted = sorted_outputs(asked.out, pictures=True, others=lambda path: check_writable(path, contours=True))
    levels_within(0.0, 0.0, asked.interval)
    check_labels(asked.label_height, asked.label_spacing)
    frame = window_of(asked.window)
    ground = load_surface(asked.surface)
    lines = contours_of(ground, asked.interval, asked.index, asked.base, asked.lowest, asked.highest, asked.smooth)
    lines = replace(lines, label_height=asked.label_height, label_spacing=asked.label_spacing)
    if wanted.others:
        count = f"{len(lines):,} lines on {len(set(lines.level_of.tolist())):,} levels"
        round_hollows = int(lines.is_depression.sum())
        messages().print(count + (f", {round_hollows:,} of them around depressions" if round_hollows else ""))
    for path in wanted.others:
        write(path, lines)
        say_written(path)
    if asked.over:
        return _compare(ground, asked.over, wanted, frame, asked.tolerance, asked.as_json)

    def sheet() -> Figure:
        from evrin.draw.sheets.plan_sheets import map_sheet

        return map_sheet(ground, shading="none", triangles=False, contours=lines, window=frame, title="contours")

    write_outputs(wanted, sheet=sheet)
    return DONE


def _compare(
    ground: Surface,
    over: str,
    wanted: Outputs,
    frame: tuple[float, float, float, float] | None,
    tolerance: float | None,
    as_json: bool,
) -> int:
    import numpy as np

    from evrin.analysis.contours.contour_agreement import contour_fit
    from evrin.formats.door.claims import Claim
    from evrin.formats.door.format_registry import How
    from evrin.formats.door.intake import take_in
    from evrin.recipe.sources.frame_findings import off_surface
    from evrin.surface.surface import SourceLine

    if over == "sources":
        given = [line for line in ground.lines if line.effect == "contour"]
        if not given:
            raise DataError("this surface took in no contours; name a file with some: --over FILE")
    else:
        file, claim = Claim.parsed(over)
        taken = take_in(file, ground.frame, claim, How(as_lines=True))
        given = [SourceLine(line.name, line.xyz, line.closed, "contour") for line in taken.contents.lines]
        off_ground = off_surface(file.name, np.concatenate([line.points for line in given]), ground) if given else []
        print_notes(taken.findings + off_ground)
    fit = contour_fit(ground, given)
    if as_json:
        print_answer(records(fit.table), ground, mean=fit.mean, largest=fit.largest)
    else:
        print_frame(fit.table, f"Distance between given contours and the surface's own, {ground.units}")
    mean, largest = (f"{value:.3f}" if np.isfinite(value) else "–" for value in (fit.mean, fit.largest))
    messages().print(f"all levels: mean {mean}, largest {largest} {ground.units}")

    def sheet() -> Figure:
        from evrin.draw.sheets.check_sheets import contour_fit_sheet

        return contour_fit_sheet(ground, fit, frame)

    write_outputs(wanted, sheet=sheet)
    if tolerance is not None and not fit.largest <= tolerance:
        return open_because(f"a contour is {largest} {ground.units} off, more than {tolerance:g}")
    return DONE


@dataclass(frozen=True)
class MapOptions:
    """What `evrin map` is asked for."""

    surface: SurfaceFile
    out: PictureNeeded
    shading: ShadingOption = Shading.height
    bands: Bands = ""
    smoothly: Annotated[bool, typer.Option("--smoothly", help="Shade slopes without bands.")] = False
    only: Annotated[
        str,
        typer.Option(
            "--range",
            metavar="FROM,TO",
            help="Colour only heights or slopes in this range: from,to.",
            show_default=False,
        ),
    ] = ""
    unit: SlopeUnitOption = Unit.percent
    arrows: Annotated[bool, typer.Option("--arrows", help="Draw arrows down the slope.")] = False
    interval: Interval = None
    index: Index = None
    smooth: Smooth = 0.0
    triangles: Annotated[bool, typer.Option(help="Draw triangle edges.")] = True
    findings: Annotated[bool, typer.Option(help="Mark the findings of a recipe.")] = False
    label: Annotated[
        ShotLabel, typer.Option(metavar="WHAT", help="What is written beside the shots, as far as there is room.")
    ] = ShotLabel.none
    window: WindowText = ""
    scale: MapScale = None


@with_options
def draw_map(asked: MapOptions) -> int:
    """Draw a plan of a surface."""
    from evrin.analysis.terrain.banding import areas_of
    from evrin.draw.arrows import flow_arrows
    from evrin.draw.sheets.plan_sheets import map_sheet
    from evrin.draw.sheets.sheet import arrow_spacing, window_of_most

    wanted = sorted_outputs(asked.out, pictures=True)
    frame = window_of(asked.window)
    shades = shades_of(asked.shading, asked.bands, asked.smoothly, asked.only, asked.unit)
    built = load_build(asked.surface) if asked.findings else None
    ground, findings = (built.surface, built.findings) if built else (load_surface(asked.surface), [])
    title = "findings" if asked.findings else _TITLES.get(asked.shading.value, "plan")
    lines = (
        contours_of(ground, asked.interval, asked.index, 0.0, None, None, asked.smooth)
        if asked.interval is not None
        else None
    )
    areas = areas_of(ground, shades.by, shades.limits, shades.unit) if shades.is_banded else None

    def plan(part: Window | None, facts: Sequence[str] = ()) -> Figure:
        spacing = arrow_spacing(ground, part)
        return map_sheet(
            ground,
            shading=shades,
            triangles=asked.triangles,
            contours=lines,
            arrows=flow_arrows(ground, spacing, part or window_of_most(ground)) if asked.arrows else None,
            arrow_length=0.6 * spacing,
            findings=findings,
            bands=areas,
            window=part,
            title=title,
            facts=facts,
            label=asked.label.value,
        )

    if asked.scale is None:
        write_outputs(wanted, sheet=lambda: plan(frame))
    else:
        _write_at_scale(wanted, ground, asked.scale, frame, plan)
    return DONE


def _write_at_scale(wanted: Outputs, ground: Surface, scale: float, frame: Window | None, plan: Plan) -> None:
    """Write as many sheets as a scale takes, with an overview where these are several."""
    from evrin.draw.sheets.scaled_sheets import overview_sheet, sheets_at_scale

    sheets = sheets_at_scale(ground, scale, frame)
    drawn = list(sheets.drawn(lambda part: plan(part, [sheets.words])))
    write_sheets(wanted, [("overview", overview_sheet(ground, sheets)), *drawn] if len(drawn) > 1 else drawn)


@dataclass(frozen=True)
class ViewOptions:
    """What `evrin view` is asked for."""

    surface: SurfaceFile
    out: PictureNeeded
    seen_from: Annotated[
        float,
        typer.Option(
            "--from", metavar="BEARING", help="Bearing of the eye, clockwise from north: 225 looks from the south-west."
        ),
    ] = 225.0
    above: Annotated[float, typer.Option(metavar="DEGREES", help="Angle of the eye above the horizon.")] = 30.0
    exaggeration: Exaggeration = None
    shading: ShadingOption = Shading.height
    bands: Bands = ""
    unit: SlopeUnitOption = Unit.percent
    triangles: Annotated[bool, typer.Option("--triangles", help="Draw triangle edges.")] = False
    interval: Interval = None
    index: Index = None


@with_options
def view(asked: ViewOptions) -> int:
    """Draw a surface in three dimensions, with its breaklines and, if asked for, contours draped on it."""
    from evrin.draw.sheets.view_sheet import view_of

    wanted = sorted_outputs(asked.out, pictures=True)
    shades = shades_of(asked.shading, asked.bands, False, "", asked.unit)
    ground = load_surface(asked.surface)
    lines = ground.contours(asked.interval, index=asked.index) if asked.interval is not None else None
    figure = view_of(
        ground,
        from_deg=asked.seen_from,
        above_deg=asked.above,
        exaggeration=asked.exaggeration,
        shading=shades,
        contours=lines,
        triangles=asked.triangles,
    )
    write_outputs(wanted, sheet=lambda: figure)
    return DONE


def print_bands(
    surface: SurfaceFile,
    of: Annotated[Shading, typer.Option(metavar="slope|height|aspect", help="What the bands are of.")] = Shading.slope,
    bands: Bands = "",
    unit: SlopeUnitOption = Unit.percent,
    out: TableOut = None,
    as_json: AsJson = False,
) -> int:
    """Print the plan and slope area of ground by band of slope, height or aspect."""
    from evrin.analysis.terrain.banding import areas_of

    wanted = sorted_outputs(out, tables=True)
    limits = numbers(bands, "limits")
    ground = load_surface(surface)
    frame = areas_of(ground, of.value, limits, unit.value)
    write_outputs(wanted, frame)
    if as_json:
        print_answer(records(frame), ground)
    elif not out:
        what = f"{of.value}, {unit.value}" if of is Shading.slope else of.value
        print_frame(frame, f"Areas by band of {what}, {ground.units}²")
    return DONE


draw_map.__name__ = "map"
print_bands.__name__ = "bands"
COMMANDS = (contours, draw_map, view, print_bands)
