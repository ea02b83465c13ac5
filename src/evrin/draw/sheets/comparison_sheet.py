"""The sheet that shows two variants and the difference of their heights, all at one scale."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib import colormaps
from matplotlib.colors import TwoSlopeNorm
from matplotlib.figure import Figure

from evrin.draw import plan_layers
from evrin.draw.axes import axes_or_new
from evrin.draw.colours import INK, LINE, MARK
from evrin.draw.paper import new_sheet
from evrin.draw.shading import draw_shading
from evrin.draw.sheets.sheet import (
    draw_north,
    draw_scale_bar,
    draw_title_block,
    frame_axes,
    frame_facts,
    window_of_most,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.image import AxesImage

    from evrin.analysis.volumes.differences import Difference
    from evrin.check import Finding
    from evrin.surface.surface import Surface

_FOOT, _LETTERS = 0.11, 80


def draw_difference(difference: Difference, ax: Axes | None = None) -> AxesImage:
    """Colour where one surface lies above (orange) or below (violet) another; white where they agree."""
    axes = axes_or_new(ax)
    rows, columns = difference.grid.shape
    half = difference.step / 2.0
    depths = np.abs(difference.grid[np.isfinite(difference.grid)])
    changed = depths[depths > 1e-6]
    limit = float(np.quantile(changed, 0.98)) if len(changed) else 0.001
    return axes.imshow(
        difference.grid,
        origin="lower",
        extent=(
            difference.west - half,
            difference.west + columns * difference.step - half,
            difference.south - half,
            difference.south + rows * difference.step - half,
        ),
        cmap=colormaps["PuOr_r"],
        norm=TwoSlopeNorm(0.0, -max(limit, 1e-6), max(limit, 1e-6)),
        interpolation="nearest",
        zorder=1,
    )


def comparison_sheet(
    sides: Sequence[tuple[Surface, Sequence[Finding], str]],
    difference: Difference,
    figures: Sequence[tuple[str, str]],
    lines: Sequence[str],
    *,
    name: str,
) -> Figure:
    """Return two variants above, the difference of their heights and where their recipes differ below.

    Parameters
    ----------
    sides : two of (Surface, findings, caption)
        The two variants.
    difference : Difference
        Of their heights.
    figures : sequence of (str, str)
        Rows of the panel: a name and its value.
    lines : sequence of str
        Where the recipes differ.
    name : str
        For the title block.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> from evrin.draw import comparison_sheet
    >>> found = build.compare(build)
    >>> sides = [(build.surface, [], "before"), (build.surface, [], "after")]
    >>> type(comparison_sheet(sides, found.difference, found.figures(), found.lines, name="field")).__name__
    'Sheet'
    """
    figure = new_sheet()
    window = _window([surface for surface, _, _ in sides])
    for k, (surface, findings, caption) in enumerate(sides):
        axes = _panel(figure, (0.045 + 0.49 * k, 0.565, 0.455, 0.385), window, caption)
        draw_shading(surface, "relief", axes)
        plan_layers.draw_triangles(surface, axes)
        plan_layers.draw_lines(surface, axes)
        plan_layers.draw_findings(findings, axes)
    below = _panel(figure, (0.045, 0.125, 0.455, 0.385), window, "height of the second above the first")
    image = draw_difference(difference, below)
    for surface, _, _ in sides:
        for loop in surface.rim():
            ring = surface.vertices[np.append(loop, loop[0])]
            below.plot(ring[:, 0], ring[:, 1], color=INK, linewidth=0.6, zorder=3)
    bar = figure.add_axes((0.508, 0.145, 0.010, 0.345))
    figure.colorbar(image, cax=bar, extend="both").ax.tick_params(labelsize=7.5)
    bar.set_title(sides[0][0].units, fontsize=8)
    _tell(figure, figures, lines)
    first = sides[0][0]
    draw_title_block(figure, name, "two variants at one scale", frame_facts(first), first.facts.line())
    draw_scale_bar(figure, below, sides[0][0].units)
    draw_north(figure)
    return figure


def _window(surfaces: Sequence[Surface]) -> tuple[float, float, float, float]:
    extents = np.array([window_of_most(surface) for surface in surfaces])
    west, south = extents[:, :2].min(axis=0)
    east, north = extents[:, 2:].max(axis=0)
    margin = 0.03 * max(east - west, north - south)
    return float(west - margin), float(south - margin), float(east + margin), float(north + margin)


def _panel(
    figure: Figure, box: tuple[float, float, float, float], window: tuple[float, float, float, float], caption: str
) -> Axes:
    axes = figure.add_axes(box)
    frame_axes(axes, window)
    axes.set_xlabel("")
    axes.set_ylabel("")
    axes.tick_params(labelsize=7)
    axes.set_title(caption, fontsize=9.5, color=INK, loc="left")
    return axes


def _tell(figure: Figure, figures: Sequence[tuple[str, str]], lines: Sequence[str]) -> None:
    top = 0.515
    for k, (what, value) in enumerate(figures):
        figure.text(0.575, top - 0.021 * k, what, fontsize=8.5, va="top", color=INK)
        figure.text(0.985, top - 0.021 * k, value, fontsize=8.5, va="top", ha="right", color=INK)
    top -= 0.021 * len(figures) + 0.016
    figure.text(0.575, top, "Where the recipes differ", fontsize=8.5, fontweight="bold", va="top")
    short = [textwrap.shorten(line, _LETTERS, placeholder=" …") if len(line) > _LETTERS else line for line in lines]
    room = int((top - 0.024 - _FOOT) / 0.0165)
    if len(short) > room:
        short = [*short[: room - 1], f"… and {len(short) - room + 1} more: evrin compare prints all"]
    for k, line in enumerate(short or ["nothing"]):
        colour = MARK if line.startswith("-") else LINE if line.startswith("+") else INK
        figure.text(
            0.575,
            top - 0.024 - 0.0165 * k,
            line,
            fontsize=6.8,
            family="monospace",
            va="top",
            color=colour,
            parse_math=False,
        )
