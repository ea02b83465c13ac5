"""Plans on a sheet: one with legend and figures or findings beside it, or two side by side."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from evrin.draw import plan_layers
from evrin.draw.colours import CONTOUR, INK, MARK, WATER
from evrin.draw.paper import new_sheet
from evrin.draw.plan_layers import ShotLabel
from evrin.draw.shading import Shades, Shading, as_shades, draw_shading, shade, shading_text, slope_text
from evrin.draw.sheets.sheet import (
    PANEL,
    PANEL_FOOT,
    PANEL_TOP,
    Window,
    draw_north,
    draw_scale_bar,
    draw_title_block,
    finish_plan,
    frame_surface,
    new_plan,
    write_rows,
)

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.cm import ScalarMappable

    from evrin.analysis.contours.contour_lines import Contours
    from evrin.check import Finding
    from evrin.draw.arrows import Arrows
    from evrin.surface.surface import Surface

_PANEL_WIDTH = 46


def map_sheet(
    surface: Surface,
    *,
    shading: Shading | Shades = "height",
    triangles: bool = True,
    contours: Contours | None = None,
    arrows: Arrows | None = None,
    arrow_length: float = 1.0,
    findings: Sequence[Finding] = (),
    bands: pd.DataFrame | None = None,
    window: Window | None = None,
    title: str = "",
    facts: Sequence[str] = (),
    label: ShotLabel = "none",
) -> Figure:
    """Return a plan of a surface on one sheet.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    shading : {"height", "slope", "aspect", "relief", "none"} or Shades
        How triangles are coloured.
    triangles : bool
        Whether edges are drawn.
    contours : Contours, optional
        Contours to draw on top.
    arrows : Arrows, optional
        Down the slope.
    arrow_length : float
        Length of an arrow in units of the ground.
    findings : sequence of Finding
        Marked and listed, numbered from 1.
    bands : DataFrame, optional
        Areas by band, listed beside the plan.
    window : (west, south, east, north), optional
        The part to draw; all of it if not given.
    title : str
        Of the drawing.
    facts : sequence of str
        More for the title block, such as the scale.
    label : {"none", "number", "code", "height"}
        What is written beside the shots, as far as there is room.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import map_sheet
    >>> type(map_sheet(field, contours=field.contours(0.5), title="field")).__name__
    'Sheet'
    """
    figure, axes = new_plan(surface, window)
    shades = as_shades(shading)
    shown = shade(surface, shades, axes)
    if triangles:
        plan_layers.draw_triangles(surface, axes)
    if contours is not None:
        plan_layers.draw_contours(contours, axes)
    plan_layers.draw_lines(surface, axes, contours=contours is None)
    if arrows is not None:
        plan_layers.draw_arrows(arrows, arrow_length, axes)
    plan_layers.draw_findings(findings, axes)
    plan_layers.label_shots(surface, label, axes)
    handles = _handles(surface, triangles, contours, arrows)
    foot = legend_beside(figure, handles, shown, shades, surface.units)
    if findings:
        _list_findings(figure, findings, foot)
    elif bands is not None:
        write_bands(figure, foot, bands, shades, surface.units)
    else:
        write_rows(figure, foot, "The surface", figures_of(surface))
    return finish_plan(figure, axes, surface, title or "plan", [*facts, *_facts(contours, shades)])


def _facts(contours: Contours | None, shades: Shades) -> list[str]:
    """What the title block states of contours and colours."""
    facts = []
    if contours is not None and contours.interval is not None:
        smoothed = ", smoothed within their corridors" if contours.smoothed else ""
        facts.append(f"contour interval {contours.interval:g} {contours.units}{smoothed}")
    if shades.within is not None:
        facts.append(f"coloured: {shades.label} from {shades.within[0]:g} to {shades.within[1]:g}")
    return facts


def pair_sheet(
    sides: Sequence[tuple[Surface, Sequence[Finding], str]],
    window: Window,
    name: str,
    title: str,
    facts: Sequence[str],
) -> Figure:
    """Return two surfaces side by side at one scale, each with its findings marked and a caption above.

    Parameters
    ----------
    sides : sequence of (Surface, findings, caption)
        The two surfaces.
    window : (west, south, east, north)
        The part that both show.
    name, title, facts
        For the title block.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import pair_sheet
    >>> sides = [(field, [], "before"), (field, [], "after")]
    >>> type(pair_sheet(sides, (0, 0, 8, 8), name="field", title="both", facts=["4 vertices"])).__name__
    'Sheet'
    """
    figure = new_sheet()
    for k, (surface, findings, caption) in enumerate(sides):
        axes = figure.add_axes((0.045 + 0.49 * k, 0.17, 0.455, 0.73))
        frame_surface(axes, surface, window)
        draw_shading(surface, "relief", axes)
        plan_layers.draw_triangles(surface, axes)
        plan_layers.draw_lines(surface, axes)
        plan_layers.draw_findings(findings, axes)
        axes.set_xlabel("")
        axes.set_ylabel("")
        axes.set_title(caption, fontsize=10.5, color=INK, loc="left", linespacing=1.4)
    draw_title_block(figure, name, title, facts)
    draw_scale_bar(figure, axes, surface.units)
    draw_north(figure)
    return figure


def _handles(
    surface: Surface, triangles: bool, contours: Contours | None, arrows: Arrows | None
) -> list[Line2D | Patch]:
    handles = plan_layers.line_handles(surface, contours=contours is None)
    if triangles:
        handles.append(Line2D([], [], color=INK, linewidth=0.6, alpha=0.6, label="triangle edge"))
    if contours is not None and len(contours):
        heavy = contours.is_index[np.unique(contours.level_of)]
        if heavy.any():
            handles.append(Line2D([], [], color=CONTOUR, linewidth=1.2, label="index contour"))
        if not heavy.all():
            handles.append(Line2D([], [], color=CONTOUR, linewidth=0.5, label="contour"))
        if contours.is_depression.any():
            handles.append(Line2D([], [], color=CONTOUR, linewidth=0.6, marker="|", label="depression contour"))
    if arrows is not None:
        handles.append(Line2D([], [], color=WATER, linewidth=1.2, marker=">", markersize=4, label="falls this way"))
    return handles


def legend_beside(
    figure: Figure,
    handles: Sequence[Line2D | Patch],
    shown: ScalarMappable | None,
    shades: Shades,
    units: str,
) -> float:
    """Draw the legend beside the plan; return how far down it reaches."""
    top = PANEL_TOP
    if handles:
        wide = any(len(str(handle.get_label())) > 20 for handle in handles)
        columns = 1 if wide and len(handles) < 4 else 2
        figure.legend(
            handles=list(handles),
            loc="upper left",
            bbox_to_anchor=(0.735, top + 0.01),
            ncols=columns,
            fontsize=8,
            frameon=False,
            columnspacing=1.2,
        )
        top -= 0.03 * ((len(handles) + columns - 1) // columns) + 0.02
    if shown is not None:
        bar = figure.add_axes((PANEL, top - 0.035, 0.22, 0.016))
        extend = "both" if shades.by == "height" and not len(shades.band_limits) else None
        drawn = figure.colorbar(shown, cax=bar, orientation="horizontal", extend=extend)
        shading_text(drawn, shades, units)
        bar.tick_params(labelsize=7.5)
        top -= 0.115
    return top


def _list_findings(figure: Figure, findings: Sequence[Finding], top: float) -> None:
    open_count = sum(finding.is_open for finding in findings)
    head = f"Findings: {len(findings):,}, {open_count:,} open"
    head += f"; the first {plan_layers.NUMBERED} numbered" if len(findings) > plan_layers.NUMBERED else ""
    figure.text(0.74, top, head, fontsize=9, fontweight="bold", va="top")
    y = top - 0.034
    for number, finding in enumerate(findings, 1):
        state = "" if finding.is_open else " (accepted)" if finding.accepted else " (note)"
        lines = textwrap.wrap(f"{finding.code}{state}: {finding.message}", _PANEL_WIDTH)
        lines = [*lines[:2], lines[2][: _PANEL_WIDTH - 1] + "…"] if len(lines) > 3 else lines
        height = 0.0185 * len(lines) + 0.008
        if y - height < PANEL_FOOT and number <= len(findings):
            figure.text(
                0.74, y, f"… and {len(findings) - number + 1} more: evrin check lists all", fontsize=8, va="top"
            )
            return
        figure.text(0.74, y, f"{number}", fontsize=8, fontweight="bold", color=MARK, va="top")
        figure.text(0.762, y, "\n".join(lines), fontsize=7.5, va="top", linespacing=1.15)
        y -= height


def figures_of(surface: Surface) -> list[tuple[str, str]]:
    """Return the figures of a surface that are listed beside a plan."""
    z, unit = surface.vertices[:, 2], surface.units
    return [
        ("vertices", f"{len(surface.vertices):,}"),
        ("triangles", f"{len(surface.triangles):,}"),
        ("plan area", f"{surface.plan_area:,.1f} {unit}²"),
        ("slope area", f"{surface.slope_area:,.1f} {unit}²"),
        ("lowest", f"{z.min():.3f} {unit}"),
        ("highest", f"{z.max():.3f} {unit}"),
        ("median slope", f"{100.0 * np.nanmedian(surface.triangle_slopes):.1f} %"),
    ]


def write_bands(figure: Figure, top: float, bands: pd.DataFrame, shades: Shades, units: str) -> float:
    """Write areas by band into the panel; return how far down they reach."""
    names = band_names(bands, shades)
    measures = ("plan_area", "slope_area", "share_percent")
    rows = [
        (name, f"{plan_area:,.0f}", f"{slope_area:,.0f}", f"{share:.1f}")
        for name, plan_area, slope_area, share in zip(names, *(bands[each] for each in measures), strict=True)
    ]
    plan_area, slope_area, share = (float(bands[each].sum()) for each in measures)
    rows.append(("all", f"{plan_area:,.0f}", f"{slope_area:,.0f}", f"{share:.1f}"))
    heads = (shades.label, f"plan {units}²", f"slope {units}²", "%")
    return write_rows(figure, top, "Areas by band", rows, heads)


def band_names(bands: pd.DataFrame, shades: Shades) -> list[str]:
    """Return what each band of a table is called."""
    if "falls" in bands:
        return [str(name) for name in bands["falls"]]
    is_slope = shades.by == "slope"
    marks = [
        tuple(slope_text(end, shades.unit) if is_slope else f"{end:.5g}" for end in ends)
        for ends in zip(bands["from"], bands["to"], strict=True)
    ]
    names = [f"{a} – {b}" for a, b in marks]
    names[0], names[-1] = f"below {marks[0][1]}", f"{marks[-1][0]} and over"
    if is_slope and shades.unit == "one_in":
        names[0], names[-1] = f"flatter than {marks[0][1]}", f"{marks[-1][0]} and steeper"
    return names
