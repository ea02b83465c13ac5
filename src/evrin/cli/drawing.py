"""`evrin map` and `evrin contours`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from evrin.cli.querying import SurfaceFile
from evrin.cli.terminal import DONE, load_surface, messages, progress, say_written
from evrin.errors import DataError

Interval = Annotated[float | None, typer.Option(help="Contour interval.")]
Index = Annotated[float | None, typer.Option(help="Index interval; four or five intervals if not given.")]


class Shading(StrEnum):
    """What triangles are coloured by."""

    height = "height"
    slope = "slope"
    relief = "relief"
    none = "none"


def contours(
    surface: SurfaceFile,
    out: Annotated[Path, typer.Option("--out", "-o", help="The file to write (.dxf, .gpkg, .shp, .geojson or .csv).")],
    interval: Annotated[float, typer.Option(help="Contour interval.")] = 0.5,
    index: Index = None,
) -> int:
    """Write a surface's contours."""
    from evrin.analysis import levels_within
    from evrin.formats import write
    from evrin.formats.registry import check_writable

    check_writable(out, contours=True)
    levels_within(0.0, 0.0, interval)
    ground = load_surface(surface)
    lines = ground.contours(interval, index=index)
    write(out, lines)
    messages().print(f"{len(lines):,} lines on {len(set(lines.level_of.tolist())):,} levels")
    say_written(out)
    return DONE


def draw_map(
    surface: SurfaceFile,
    out: Annotated[Path, typer.Option("--out", "-o", help="The picture to write (.png, .pdf, .svg).")],
    shading: Annotated[Shading, typer.Option(help="What triangles are coloured by.")] = Shading.height,
    interval: Interval = None,
    index: Index = None,
    triangles: Annotated[bool, typer.Option(help="Draw triangle edges.")] = True,
    findings: Annotated[bool, typer.Option(help="Mark the findings of a recipe.")] = False,
    window: Annotated[str, typer.Option(help="Only this part: west,south,east,north.")] = "",
) -> int:
    """Draw a plan of a surface."""
    from evrin.draw import map_sheet
    from evrin.draw.sheet import check_picture, save_sheet

    check_picture(out)
    frame = _window(window) if window else None
    found = []
    if findings:
        from evrin.recipe import Recipe

        with progress() as step:
            built = Recipe.read(surface).build(step, keep=True)
        ground, found = built.surface, built.findings
    else:
        ground = load_surface(surface)
    figure = map_sheet(
        ground,
        shading=shading.value,
        triangles=triangles,
        contours=ground.contours(interval, index=index) if interval is not None else None,
        interval=interval,
        findings=found,
        window=frame,
        title="findings" if findings else {"slope": "slope bands", "relief": "relief"}.get(shading.value, "plan"),
    )
    save_sheet(figure, out)
    say_written(out)
    return DONE


draw_map.__name__ = "map"
COMMANDS = (contours, draw_map)


def _window(text: str) -> tuple[float, float, float, float]:
    try:
        west, south, east, north = (float(part) for part in text.split(","))
    except ValueError as error:
        raise DataError(f"{text!r} is not a window; write west,south,east,north") from error
    return west, south, east, north
