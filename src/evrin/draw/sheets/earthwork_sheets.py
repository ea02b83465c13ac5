"""Sheets of surfaces put together, and of pads built into their ground."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.collections import LineCollection, PolyCollection
from matplotlib.colors import BoundaryNorm
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from evrin.analysis.contours.contour_lines import contours
from evrin.analysis.terrain.banding import usual_interval
from evrin.base.tolerances import METRES
from evrin.base.wording import signed
from evrin.draw.colours import CUT, FILL, INK, LINE, RING, lightened
from evrin.draw.plan_layers import draw_contours
from evrin.draw.shading import Shades
from evrin.draw.sheets.plan_sheets import legend_beside
from evrin.draw.sheets.sheet import finish_plan, new_plan, write_rows
from evrin.kernels import Floats

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.making.combining.combined_surfaces import Combined
    from evrin.making.pads.pads import PadToGround
    from evrin.surface.surface import SourceLine, Surface

# Even in grey: the newest is the darkest of these light tints.
_PIECES = ("#f3ead9", "#cfe0e8", "#e3d3e8", "#d6e5d0", "#f0d6c8", "#d9d9d9")
_STEPS = (0.0, 0.005, 0.02, 0.05, 0.1, 0.25)
_LISTED = 7


def combined_sheet(combined: Combined, interval: float | None = None) -> Figure:
    """Return a plan of combined surfaces: which is used where, contours, and how large the step is along each join.

    Parameters
    ----------
    combined : Combined
        The surfaces combined.
    interval : float, optional
        Of contours; a usual one if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import combine
    >>> from evrin.draw import combined_sheet
    >>> old = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 1]], name="old")
    >>> new = evrin.triangulate([[4, -1, 2], [9, -1, 2], [9, 9, 2], [4, 9, 2]], name="new")
    >>> type(combined_sheet(combine([old, new]))).__name__
    'Sheet'
    """
    surface = combined.surface
    figure, axes = new_plan(surface)
    handles: list[Line2D | Patch] = []
    for number in range(len(combined.parts) + (combined.gaps_filled > 0.0)):
        colour = _PIECES[number % len(_PIECES)]
        corners = surface.vertices[surface.triangles[combined.pieces == number], :2]
        axes.add_collection(
            PolyCollection(list(corners), facecolors=colour, edgecolors=colour, linewidths=0.3, zorder=1)
        )
        is_part = number < len(combined.parts)
        name = f"{number + 1} {combined.parts['surface'].iloc[number]}" if is_part else "across gaps"
        handles.append(Patch(facecolor=colour, edgecolor="#9aa3ab", label=name))
    draw_contours(contours(surface, interval or usual_interval(surface)), axes)
    limits = [limit / METRES[surface.units] for limit in _STEPS]
    colours = _draw_joins(axes, combined, limits) if combined.joins else None
    foot = legend_beside(figure, handles, colours, Shades("none"), surface.units)
    if colours is not None:
        # The bar has no name of its own kind; it is that of what it shows.
        figure.axes[-1].set_xlabel(f"step along the join ({surface.units})", fontsize=8)
    rows = [
        (f"{k}", f"{row.area_used:,.1f}", f"{row.triangles_used:,}")
        for k, row in enumerate(combined.parts.itertuples(), 1)
    ]
    foot = write_rows(figure, foot, f"What is used ({surface.units}²)", rows, ("surface", "area", "triangles"))
    table = combined.table.head(_LISTED)
    joins = [(f"{k}", f"{row.length:,.1f}", f"{row.largest_step:.3f}", f"{row.mean_step:.3f}")
            for k, row in enumerate(table.itertuples(), 1)]  # fmt: skip
    if len(combined.table) > _LISTED:
        joins.append(
            (f"{len(combined.table) - _LISTED} more", f"{combined.table['length'][_LISTED:].sum():,.1f}", "", "")
        )
    write_rows(figure, foot, f"Joins ({surface.units})", joins, ("join", "length", "largest", "mean"))
    return finish_plan(figure, axes, surface, "surfaces combined")


def _draw_joins(axes: Axes, combined: Combined, limits: Sequence[float]) -> LineCollection:
    segments, sizes = [], []
    for join in combined.joins:
        places, steps = join.points[:, :2], np.abs(join.steps)
        segments.append(np.stack((places[:-1], places[1:]), axis=1))
        sizes.append((steps[:-1] + steps[1:]) / 2.0)
    lines = np.concatenate(segments)
    colours = lightened("viridis_r")
    norm = BoundaryNorm(limits, colours.N, extend="max")
    axes.add_collection(LineCollection(list(lines), colors=INK, linewidths=3.4, zorder=4))
    drawn = LineCollection(list(lines), cmap=colours, norm=norm, linewidths=2.2, zorder=5)
    drawn.set_array(np.concatenate(sizes))
    axes.add_collection(drawn)
    for number, join in enumerate(combined.joins[:_LISTED], 1):
        if len(combined.joins) > 1:
            x, y = join.points[len(join.points) // 2, :2]
            axes.annotate(str(number), (x, y), (6, 6), textcoords="offset points", fontsize=8, color=INK, zorder=6)
    return drawn


def pad_sheet(built: Sequence[PadToGround], ground: Surface, interval: float | None = None) -> Figure:
    """Return a plan of pads on their ground: cut and fill, outline, daylight line, contours of the ground.

    Parameters
    ----------
    built : sequence of PadToGround
        Pads on their ground.
    ground : Surface
        The ground before.
    interval : float, optional
        Of contours; a usual one if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import Pad, pad_to_ground
    >>> from evrin.draw import pad_sheet
    >>> field = evrin.triangulate([[0, 0, 0], [60, 0, 2], [60, 60, 2], [0, 60, 0]])
    >>> pad = Pad.of([[20, 20], [40, 20], [40, 40], [20, 40]], 1.0)
    >>> type(pad_sheet([pad_to_ground(field, pad)], field)).__name__
    'Sheet'
    """
    places = np.concatenate([each.earthwork.vertices[:, :2] for each in built])
    low, high = places.min(axis=0), places.max(axis=0)
    margin = 0.25 * float((high - low).max())
    window = (*(low - margin).tolist(), *(high + margin).tolist())
    figure, axes = new_plan(ground, window)
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    near = ground.clip(keep=[[west, south], [east, south], [east, north], [west, north]])
    step = interval or usual_interval(near)
    for each in built:
        _draw_pad(axes, each, ground)
    draw_contours(contours(near, step), axes)
    handles: list[Line2D | Patch] = [
        Patch(facecolor=CUT, alpha=0.35, label="cut"),
        Patch(facecolor=FILL, alpha=0.35, label="fill"),
        Line2D([], [], color=INK, linewidth=2.0, label="outline of the pad"),
        Line2D([], [], color=LINE, linewidth=1.6, linestyle="--", label="daylight line"),
    ]
    if any(len(each.ends) for each in built):
        handles.append(Line2D([], [], color=RING, marker="X", linestyle="", label="the ground ends first"))
    foot = legend_beside(figure, handles, None, Shades("none"), ground.units)
    unit = ground.units
    for each in built:
        z = each.pad.outline[:, 2]
        levels = f"{z.min():.3f}" if z.min() == z.max() else f"{z.min():.3f} to {z.max():.3f}"
        rows = [("height", levels), (f"cut ({unit}³)", f"{each.cut:,.1f}"), (f"fill ({unit}³)", f"{each.fill:,.1f}")]
        rows += [("fill less cut", signed(each.net, 1)), (f"cut, plan ({unit}²)", f"{each.cut_area:,.1f}")]
        rows += [(f"fill, plan ({unit}²)", f"{each.fill_area:,.1f}")]
        rows += [("daylight line", f"{_length(each):,.1f} {unit}")]
        foot = write_rows(figure, foot, each.pad.name, rows)
    return finish_plan(figure, axes, ground, "pad to ground: " + ", ".join(each.pad.name for each in built),
                       [f"contours of the ground, {step:g} {unit}"])  # fmt: skip


def _length(built: PadToGround) -> float:
    return sum(float(np.hypot(*np.diff(_path(line), axis=0).T).sum()) for line in built.daylight)


def _path(line: SourceLine) -> Floats:
    """The places of a line in plan, the first again at the end of a closed one."""
    return np.vstack((line.points, line.points[:1]))[:, :2] if line.closed else line.points[:, :2]


def _draw_pad(axes: Axes, built: PadToGround, ground: Surface) -> None:
    apart = built.earthwork.less(ground)
    corners = apart.vertices[apart.triangles]
    rise = corners[:, :, 2].mean(axis=1)
    for colour, is_one in ((CUT, rise < 0.0), (FILL, rise > 0.0)):
        places = list(corners[is_one][:, :, :2])
        axes.add_collection(PolyCollection(places, facecolors=colour, edgecolors="none", alpha=0.3, zorder=2))
    for line in built.daylight:
        axes.plot(*_path(line).T, color=LINE, linewidth=1.6, linestyle="--", zorder=5)
    ring = np.vstack((built.pad.outline, built.pad.outline[:1]))
    axes.plot(*ring[:, :2].T, color=INK, linewidth=2.0, zorder=6)
    if len(built.ends):
        axes.plot(built.ends[:, 0], built.ends[:, 1], color=RING, marker="X", linestyle="", markersize=9, zorder=7)
