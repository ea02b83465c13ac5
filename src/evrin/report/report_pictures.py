"""The report's pictures, as data within the page."""

from __future__ import annotations

import base64
import io
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.figure import Figure
from PIL import Image

from evrin.analysis.along.alignment import Alignment
from evrin.analysis.contours.contour_agreement import contour_fit, level_of
from evrin.analysis.quality.shot_distances import too_large, trust
from evrin.analysis.terrain.banding import areas_of
from evrin.analysis.terrain.drainage import hollows, summits, water_paths
from evrin.draw.arrows import flow_arrows, lattice
from evrin.draw.shading import Shades
from evrin.draw.sheets.check_sheets import check_point_sheet, contour_fit_sheet, drainage_sheet, trust_sheet
from evrin.draw.sheets.plan_sheets import map_sheet
from evrin.draw.sheets.profile_sheets import profile_sheet
from evrin.draw.sheets.sheet import arrow_spacing, window_of_most
from evrin.draw.sheets.view_sheet import view_of
from evrin.recipe.build import Build

_DPI = 130
_COLOURS = 256
_LEAST_DEPTH = 0.1
_PATHS = 2.5


@dataclass(frozen=True)
class Along:
    """A line along which the report shows a profile.

    Parameters
    ----------
    name : str
        What the profile is called.
    line : Alignment
        The line.

    Examples
    --------
    >>> import evrin
    >>> from evrin.report import Along
    >>> Along("across", evrin.Alignment.along([(0, 10), (20, 10)])).name
    'across'
    """

    name: str
    line: Alignment


@dataclass(frozen=True)
class Picture:
    """A picture in the page: where it belongs, what it shows, and the picture itself as a data address."""

    place: str
    caption: str
    data: str


def picture(place: str, caption: str, figure: Figure) -> Picture:
    """Turn a figure into a picture of the page."""
    drawn, stream = io.BytesIO(), io.BytesIO()
    figure.savefig(drawn, format="png", dpi=_DPI, metadata={"Software": None})
    # A plan has few colours: a quarter of the bytes, and nothing that the eye would miss.
    few = Image.open(drawn).convert("RGB").quantize(_COLOURS, Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE)
    few.save(stream, "PNG", optimize=True)
    return Picture(place, caption, "data:image/png;base64," + base64.b64encode(stream.getvalue()).decode("ascii"))


def pictures(
    build: Build, interval: float, along: Sequence[Along], progress: Callable[[str], None]
) -> Iterator[Picture]:
    """Yield the pictures of a report, one after another."""
    ground = build.surface
    lines = ground.contours(interval, smooth=1.0)
    window = window_of_most(ground)
    if build.findings:
        progress("draw findings")
        sheet = map_sheet(ground, shading="relief", findings=build.findings, title="findings")
        yield picture("findings", "Findings, numbered as in the list; open ones filled.", sheet)
    progress("draw contours")
    unit = ground.units
    sheet = map_sheet(ground, contours=lines, triangles=False, title="existing ground")
    yield picture("first", f"Heights, and contours every {interval:g} {unit}, smoothed within their corridors.", sheet)
    progress("draw the view")
    sheet = view_of(ground, contours=ground.contours(interval * 2.0))
    yield picture("maps", "The ground from the south-west, heights exaggerated as the sheet states.", sheet)
    progress("draw slopes")
    shades = Shades("slope")
    spacing = arrow_spacing(ground)
    sheet = map_sheet(
        ground,
        shading=shades,
        triangles=False,
        arrows=flow_arrows(ground, spacing, window),
        arrow_length=0.6 * spacing,
        bands=areas_of(ground, "slope"),
        title="slope",
    )
    yield picture("slopes", "Slope in bands, with arrows down the slope.", sheet)
    progress("draw where water runs")
    paths = water_paths(ground, lattice(ground, _PATHS * spacing, window))
    sheet = drainage_sheet(ground, paths, hollows(ground, _LEAST_DEPTH), summits(ground, _LEAST_DEPTH))
    yield picture("maps", f"Paths of water; hollows and summits of at least {_LEAST_DEPTH:g} {unit}.", sheet)
    progress("draw the trust map")
    sheet = trust_sheet(ground, trust(ground, window=window), too_large(ground))
    yield picture("trust", "How far each place is from a measured shot.", sheet)
    given = [line for line in ground.lines if line.effect == "contour" and np.isfinite(level_of(line))]
    if given:
        progress("draw contours over the given ones")
        sheet = contour_fit_sheet(ground, contour_fit(ground, given))
        yield picture("contours", "The surface's contours over those it was given.", sheet)
    for name, checked in build.checked:
        progress(f"draw check points {name}")
        yield picture("checked", f"Check points {name}.", check_point_sheet(ground, checked))
    for each in along:
        progress(f"draw profile {each.name}")
        profile = ground.profile(each.line.points, start=each.line.start)
        if np.isfinite(profile.heights).any():
            sheet = profile_sheet({ground.name: profile}, units=unit, title=f"profile {each.name}")
            yield picture("profiles", f"Profile {each.name}.", sheet)


def usual_lines(build: Build) -> list[Along]:
    """Return a line from west to east and one from south to north, through the middle of the surface."""
    west, south, east, north = window_of_most(build.surface)
    middle = ((west + east) / 2.0, (south + north) / 2.0)
    return [
        Along("from west to east", Alignment.along([(west, middle[1]), (east, middle[1])])),
        Along("from south to north", Alignment.along([(middle[0], south), (middle[0], north)])),
    ]
