"""Whole sheets: a plan or a profile in a frame, with legend, findings, scale bar, north and title block."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Rectangle

from evrin.draw import plan
from evrin.draw.profile import draw_profile, label_stations
from evrin.errors import DataError
from evrin.formats.files import whole_file
from evrin.formats.registry import check_folder

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.cm import ScalarMappable

    from evrin.analysis import Contours, Profile
    from evrin.check import Finding
    from evrin.surface import Surface

SIZE, DPI = (12.8, 8.0), 100
UNIT_NAMES = {"m": "metres", "ft": "international feet", "ftUS": "US survey feet"}
_PANEL_WIDTH = 46
_TITLE_LETTERS = 36
_EXAGGERATIONS = (1, 2, 5, 10, 20, 50, 100)


def check_picture(path: Path) -> None:
    """Refuse a picture nobody can write, before any work is done.

    Raises
    ------
    DataError
        For an extension other than PNG, PDF or SVG, or a folder that cannot be written to.
    """
    if path.suffix.lower() not in (".png", ".pdf", ".svg"):
        raise DataError(f"{path}: a picture is .png, .pdf or .svg")
    check_folder(path)


def save_sheet(figure: Figure, path: Path) -> None:
    """Write a figure as PNG, PDF or SVG; it appears whole or not at all.

    Raises
    ------
    DataError
        As `check_picture` does.
    """
    check_picture(path)
    with whole_file(path) as stream:
        figure.savefig(stream, format=path.suffix.lower()[1:], dpi=DPI)


def map_sheet(
    surface: Surface,
    *,
    shading: plan.Shading = "height",
    triangles: bool = True,
    contours: Contours | None = None,
    interval: float | None = None,
    findings: Sequence[Finding] = (),
    window: tuple[float, float, float, float] | None = None,
    title: str = "",
) -> Figure:
    """Return a plan of a surface on one sheet.

    Parameters
    ----------
    surface : Surface
    shading : {"height", "slope", "relief", "none"}
    triangles : bool
    contours : Contours, optional
    interval : float, optional
        Contour interval, for the title block.
    findings : sequence of Finding
        Marked and listed, numbered from 1.
    window : (west, south, east, north), optional
        The part to draw; all of it if not given.
    title : str

    Returns
    -------
    Figure
    """
    figure = Figure(figsize=SIZE, dpi=DPI)
    axes = figure.add_axes((0.065, 0.165, 0.655, 0.795))
    _frame(axes, surface, window)
    shades = plan.draw_shading(surface, shading, axes)
    if triangles:
        plan.draw_triangles(surface, axes)
    if contours is not None:
        plan.draw_contours(contours, axes)
    plan.draw_lines(surface, axes)
    plan.draw_findings(findings, axes)
    lowest = _panel(figure, axes, surface, shading, shades, triangles, contours)
    if findings:
        _list_findings(figure, findings, lowest)
    else:
        _list_figures(figure, surface, lowest)
    facts = [f"units: {UNIT_NAMES[surface.units]}", f"reference system: {surface.crs}"]
    if interval is not None:
        facts.append(f"contour interval {interval:g} {surface.units}")
    draw_title_block(figure, surface.name, title or "plan", facts)
    draw_scale_bar(figure, axes, surface.units)
    draw_north(figure)
    return figure


def pair_sheet(
    sides: Sequence[tuple[Surface, Sequence[Finding], str]],
    window: tuple[float, float, float, float],
    name: str,
    title: str,
    facts: Sequence[str],
) -> Figure:
    """Return two surfaces side by side at one scale, each with its findings marked and a caption above.

    Parameters
    ----------
    sides : sequence of (Surface, findings, caption)
    window : (west, south, east, north)
    name, title, facts
        For the title block.
    """
    figure = Figure(figsize=SIZE, dpi=DPI)
    for k, (surface, findings, caption) in enumerate(sides):
        axes = figure.add_axes((0.045 + 0.49 * k, 0.17, 0.455, 0.73))
        _frame(axes, surface, window)
        plan.draw_shading(surface, "relief", axes)
        plan.draw_triangles(surface, axes)
        plan.draw_lines(surface, axes)
        plan.draw_findings(findings, axes)
        axes.set_xlabel("")
        axes.set_ylabel("")
        axes.set_title(caption, fontsize=10.5, color=plan.INK, loc="left", linespacing=1.4)
    draw_title_block(figure, name, title, facts)
    draw_scale_bar(figure, axes, surface.units)
    draw_north(figure)
    return figure


def _frame(axes: Axes, surface: Surface, window: tuple[float, float, float, float] | None) -> None:
    """Set limits that fill the axes at equal scales."""
    west, south, east, north = window or surface.extent
    margin = 0.03 * max(east - west, north - south) if window is None else 0.0
    frame_axes(axes, (west - margin, south - margin, east + margin, north + margin))


def frame_axes(axes: Axes, window: tuple[float, float, float, float]) -> None:
    """Fill the axes with a window, or somewhat more, at equal scales.

    Raises
    ------
    DataError
        Where the window has no area.
    """
    west, south, east, north = window
    if not (east > west and north > south):
        raise DataError(f"a window runs west, south, east, north; {window} has no area")
    box = axes.get_position()
    shape = (box.height * SIZE[1]) / (box.width * SIZE[0])
    width = max(east - west, (north - south) / shape)
    middle_x, middle_y = (west + east) / 2.0, (south + north) / 2.0
    axes.set_xlim(middle_x - width / 2.0, middle_x + width / 2.0)
    axes.set_ylim(middle_y - width * shape / 2.0, middle_y + width * shape / 2.0)
    axes.set_aspect("equal")
    axes.autoscale(False)
    axes.ticklabel_format(style="plain", useOffset=False)
    axes.tick_params(labelsize=8, direction="in", top=True, right=True)
    axes.locator_params(nbins=7)
    axes.set_xlabel("easting", fontsize=8)
    axes.set_ylabel("northing", fontsize=8)
    axes.tick_params(axis="y", labelrotation=90)
    for label in axes.get_yticklabels():
        label.set(verticalalignment="center")


def _panel(
    figure: Figure,
    axes: Axes,
    surface: Surface,
    shading: plan.Shading,
    shades: ScalarMappable | None,
    triangles: bool,
    contours: Contours | None,
) -> float:
    """Draw the legend beside the plan; return how far down it reaches."""
    handles = []
    if any(not line.is_ring for line in surface.lines):
        handles.append(Line2D([], [], color=plan.LINE, linewidth=1.3, label="breakline"))
    if any(line.is_ring for line in surface.lines):
        handles.append(Line2D([], [], color=plan.RING, linewidth=1.6, linestyle=(0, (4, 2)), label="boundary"))
    if triangles:
        handles.append(Line2D([], [], color=plan.INK, linewidth=0.6, alpha=0.6, label="triangle edge"))
    if contours is not None and len(contours):
        handles.append(Line2D([], [], color=plan.CONTOUR, linewidth=1.2, label="index contour"))
        handles.append(Line2D([], [], color=plan.CONTOUR, linewidth=0.5, label="contour"))
    top = 0.96
    if handles:
        figure.legend(
            handles=handles, loc="upper left", bbox_to_anchor=(0.735, top + 0.01), ncols=2, fontsize=8, frameon=False
        )
        top -= 0.03 * ((len(handles) + 1) // 2) + 0.02
    if shades is not None:
        bar = figure.add_axes((0.745, top - 0.035, 0.22, 0.016))
        label = f"height ({surface.units})" if shading == "height" else "slope (%)"
        drawn = figure.colorbar(
            shades, cax=bar, orientation="horizontal", extend="both" if shading == "height" else None
        )
        drawn.set_label(label, fontsize=8)
        if shading == "slope":
            drawn.set_ticks([0.0, *plan.SLOPE_LIMITS], labels=[f"{100 * s:g}" for s in (0.0, *plan.SLOPE_LIMITS)])
        bar.tick_params(labelsize=7.5)
        top -= 0.115
    return top


def _list_findings(figure: Figure, findings: Sequence[Finding], top: float) -> None:
    open_count = sum(finding.is_open for finding in findings)
    figure.text(0.74, top, f"Findings: {len(findings)}, {open_count} open", fontsize=9, fontweight="bold", va="top")
    y = top - 0.034
    for number, finding in enumerate(findings, 1):
        state = "" if finding.is_open else " (accepted)" if finding.accepted else " (note)"
        lines = textwrap.wrap(f"{finding.code}{state}: {finding.message}", _PANEL_WIDTH)
        lines = [*lines[:2], lines[2][: _PANEL_WIDTH - 1] + "…"] if len(lines) > 3 else lines
        height = 0.0185 * len(lines) + 0.008
        if y - height < 0.17 and number <= len(findings):
            figure.text(
                0.74, y, f"… and {len(findings) - number + 1} more: evrin check lists all", fontsize=8, va="top"
            )
            return
        figure.text(0.74, y, f"{number}", fontsize=8, fontweight="bold", color=plan.MARK, va="top")
        figure.text(0.762, y, "\n".join(lines), fontsize=7.5, va="top", linespacing=1.15)
        y -= height


def _list_figures(figure: Figure, surface: Surface, top: float) -> None:
    z, unit = surface.vertices[:, 2], surface.units
    rows = [
        ("vertices", f"{len(surface.vertices):,}"),
        ("triangles", f"{len(surface.triangles):,}"),
        ("plan area", f"{surface.plan_area:,.1f} {unit}²"),
        ("slope area", f"{surface.slope_area:,.1f} {unit}²"),
        ("lowest", f"{z.min():.3f} {unit}"),
        ("highest", f"{z.max():.3f} {unit}"),
        ("median slope", f"{100.0 * np.nanmedian(surface.triangle_slopes):.1f} %"),
    ]
    figure.text(0.745, top, "The surface", fontsize=9, fontweight="bold", va="top")
    for k, (name, value) in enumerate(rows):
        y = top - 0.034 - 0.024 * k
        figure.text(0.745, y, name, fontsize=8.5, va="top")
        figure.text(0.965, y, value, fontsize=8.5, va="top", ha="right")


def draw_title_block(figure: Figure, name: str, title: str, facts: Sequence[str]) -> None:
    """Draw the block at the foot of a sheet: a name, what the sheet shows, and facts."""
    figure.add_artist(Rectangle((0.012, 0.015), 0.976, 0.085, fill=False, edgecolor=plan.INK, linewidth=1.0))
    # A long name is set smaller, to end before the facts begin.
    size = 14.0 * min(1.0, _TITLE_LETTERS / max(len(name), 1))
    figure.text(0.03, 0.068, name, fontsize=size, fontweight="bold", color=plan.INK, va="center")
    figure.text(0.03, 0.036, title, fontsize=9.5, color=plan.INK, va="center")
    figure.text(0.40, 0.0575, "\n".join(facts), fontsize=8.5, color=plan.INK, va="center", linespacing=1.35)


def draw_scale_bar(figure: Figure, axes: Axes, units: str) -> None:
    """Draw a scale bar for some axes in the title block."""
    box = axes.get_position()
    west, east = axes.get_xlim()
    per_unit = box.width / (east - west)
    wanted = 0.14 / per_unit
    power = 10.0 ** np.floor(np.log10(wanted))
    length = max(step * power for step in (1.0, 2.0, 5.0) if step * power <= wanted)
    left, width = 0.70, length * per_unit
    for k in range(4):
        face = plan.INK if k % 2 == 0 else "white"
        figure.add_artist(
            Rectangle(
                (left + k * width / 4, 0.062), width / 4, 0.012, facecolor=face, edgecolor=plan.INK, linewidth=0.8
            )
        )
    for part, text in ((0.0, "0"), (0.5, f"{length / 2:g}"), (1.0, f"{length:g} {units}")):
        figure.text(left + part * width, 0.056, text, fontsize=8, ha="center", va="top", color=plan.INK)


def draw_north(figure: Figure) -> None:
    """Draw a north arrow in the title block."""
    axes = figure.add_axes((0.945, 0.022, 0.03, 0.07))
    axes.set_axis_off()
    axes.set_xlim(-1, 1)
    axes.set_ylim(0, 3)
    axes.annotate("", xy=(0, 2.1), xytext=(0, 0), arrowprops={"arrowstyle": "-|>", "color": plan.INK, "linewidth": 1.4})
    axes.text(0, 2.2, "N", ha="center", va="bottom", fontsize=10, fontweight="bold", color=plan.INK)


def profile_sheet(
    profiles: dict[str, Profile],
    *,
    units: str = "m",
    exaggeration: float | None = None,
    interval: float | None = None,
    name: str = "",
    title: str = "profile",
) -> Figure:
    """Return a profile on one sheet, with a strip of ground heights and chainages.

    Parameters
    ----------
    profiles : dict of str to Profile
        By surface name, all along one line.
    units : str
    exaggeration : float, optional
        Vertical over horizontal scale; the largest usual one that fits if not given.
    interval : float, optional
        Distance between labelled stations; chosen to be readable if not given.
    name, title : str
        For the title block; the surfaces' names if not given.

    Raises
    ------
    DataError
        Where no surface has ground on the line, or the exaggeration asked for does not fit the sheet.
    """
    figure = Figure(figsize=SIZE, dpi=DPI)
    axes = figure.add_axes((0.105, 0.345, 0.865, 0.60))
    first = next(iter(profiles.values()))
    heights = np.concatenate([profile.heights for profile in profiles.values()])
    heights = heights[np.isfinite(heights)]
    if len(heights) == 0:
        raise DataError("the line runs off the surface all along; there is no ground to draw")
    low, high = float(heights.min()), float(heights.max())
    scale = first.length / (0.865 * SIZE[0])
    room = 0.60 * SIZE[1] * scale
    chosen = _exaggeration(exaggeration, room, max(high - low, 1e-6))
    span = room / chosen
    base = _round_down((low + high) / 2.0 - span / 2.0 if span > 2.5 * (high - low) else low - 0.15 * span, span)
    axes.set_ylim(base, base + span)
    draw_profile(profiles, base, axes)
    axes.set_ylim(base, base + span)
    axes.set_ylabel(f"height ({units})", fontsize=9)
    axes.tick_params(labelsize=8)
    axes.ticklabel_format(axis="y", style="plain", useOffset=False)
    label_stations(axes, first, _stations(first, interval), units)
    if len(profiles) > 1:
        axes.legend(fontsize=8, frameon=False, loc="upper right")
    facts = [
        f"units: {UNIT_NAMES[units]}",
        f"length {first.length:,.2f} {units}, heights {low:.2f} to {high:.2f}",
        f"vertical exaggeration {chosen:g}",
    ]
    draw_title_block(figure, name or " and ".join(profiles), title, facts)
    return figure


def _exaggeration(asked: float | None, room: float, relief: float) -> float:
    most = room / (1.25 * relief)
    if asked is None:
        fitting = [step for step in _EXAGGERATIONS if step <= most]
        return float(fitting[-1]) if fitting else most
    if not 0.0 < asked <= most:
        raise DataError(f"an exaggeration of {asked:g} does not fit the sheet; the most that does is {most:.3g}")
    return asked


def _round_down(value: float, span: float) -> float:
    step = 10.0 ** np.floor(np.log10(span)) / 10.0
    return float(np.floor(value / step) * step)


def _stations(profile: Profile, interval: float | None) -> np.ndarray:
    """Stations at an interval and at bends, without two so close that their labels collide."""
    least = profile.length / 55.0
    if interval is None:
        power = 10.0 ** np.floor(np.log10(profile.length / 20.0))
        interval = next(step * power for step in (1.0, 2.0, 5.0, 10.0) if step * power >= profile.length / 25.0)
    if not interval > 0.0:
        raise DataError(f"the interval must be above 0; it is {interval:g}")
    regular = np.arange(0.0, profile.length, max(interval, least))
    keys = profile.bends
    clear = [s for s in regular if np.abs(keys - s).min() >= least or np.abs(keys - s).min() == 0.0]
    return np.unique(np.concatenate((clear, keys)))
