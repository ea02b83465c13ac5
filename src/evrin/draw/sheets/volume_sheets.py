"""Sheets of volumes: a map of cut and fill, a curve of level, area and volume, and a record over time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib import colormaps
from matplotlib.collections import LineCollection
from matplotlib.colors import to_hex
from matplotlib.dates import AutoDateLocator, DateFormatter
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, PathPatch
from matplotlib.path import Path
from matplotlib.ticker import StrMethodFormatter
from matplotlib.tri import Triangulation

from evrin.analysis.volumes.difference_surface import depth_bands, no_change_lines, usual_bands
from evrin.base.named_values import Row
from evrin.base.quantity_units import QuantityUnits
from evrin.base.tolerances import CHANGED
from evrin.base.wording import signed, unsigned
from evrin.draw.colours import INK, LINE, PROFILES, RING
from evrin.draw.paper import new_sheet
from evrin.draw.shading import Shades
from evrin.draw.sheets.plan_sheets import legend_beside
from evrin.draw.sheets.sheet import PANEL, PANEL_END, draw_title_block, finish_plan, new_plan, write_rows

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

    from evrin.analysis.volumes.cut_and_fill import Volume
    from evrin.analysis.volumes.level_volumes import LevelVolumes
    from evrin.making.limits.limit_cells import Area
    from evrin.making.pads.planes import Base
    from evrin.surface.surface import Surface

_FILL_END, _CUT_END = 0.97, 0.03
_MOST_ROWS, _LISTED = 8, 12


def band_colours(limits: Sequence[float]) -> list[str]:
    """Return a colour for each band of a difference: fill in one hue, cut in another, deeper where there is more."""
    edges = np.array([-np.inf, *limits, np.inf])
    below, above = int((edges[1:] <= 0.0).sum()), int((edges[:-1] >= 0.0).sum())
    most = max(below, above, 1)
    colours = [0.42 - (0.42 - _CUT_END) * (below - k - 0.5) / most for k in range(below)]
    # Between the two lies, where there is such a band, what has not changed.
    colours += [0.5] * (len(edges) - 1 - below - above)
    colours += [0.58 + (_FILL_END - 0.58) * (k + 0.5) / most for k in range(above)]
    return [to_hex(colormaps["PuOr_r"](part)) for part in colours]


def volume_sheet(
    difference: Surface,
    volume: Volume,
    limits: Sequence[float] = (),
    *,
    areas: Sequence[Area] = (),
    surfaces: Sequence[Surface] = (),
    base: Base | None = None,
    top: Base | None = None,
    net_95: Sequence[float] = (),
    quantities: QuantityUnits | None = None,
) -> Figure:
    """Return a map of cut and fill in bands that part at nothing, with the figures of each.

    Parameters
    ----------
    difference : Surface
        See `evrin.analysis.volumes.difference_surface`.
    volume : Volume
        Cut and fill.
    limits : sequence of float
        Of the bands; usual ones if not given.
    areas : sequence of Area
        Drawn as they are named.
    surfaces : sequence of Surface
        Base and top, of which is drawn what one of them alone covers.
    base, top : Surface, Plane or float, optional
        For their areas on the ground, by band.
    net_95 : sequence of float
        The ± of each area's net volume where more than heights is in it, as of a heap.
    quantities : QuantityUnits, optional
        Units of the figures; those of the surface if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.draw import volume_sheet
    >>> ramp = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]], name="ramp")
    >>> type(volume_sheet(ramp.less(1.0), ramp.volume_above(1.0))).__name__
    'Sheet'
    """
    frame = surfaces[0] if surfaces and not areas else difference
    figure, axes = new_plan(frame)
    bands = list(limits) or usual_bands(difference)
    if volume.tolerance > 0.0 and 0.0 in bands:
        near = (-volume.tolerance, volume.tolerance)
        bands = sorted({each for each in bands if abs(each) > volume.tolerance} | set(near))
    colours = band_colours(bands)
    edges = [-np.inf, *bands, np.inf]
    heights = difference.vertices[:, 2]
    low, high = float(heights.min()) - 1.0, float(heights.max()) + 1.0
    plan = Triangulation(difference.vertices[:, 0], difference.vertices[:, 1], difference.triangles)
    levels = [min(low, bands[0] - 1.0), *bands, max(high, bands[-1] + 1.0)]
    axes.tricontourf(plan, heights, levels=levels, colors=colours, zorder=2)
    handles = _outlines(axes, difference, surfaces, areas, volume)
    # With a tolerance of its own, what has not changed has a colour, and no line through noise.
    plain = volume.tolerance <= CHANGED.in_units(volume.frame.units)
    line = [each.points[:, :2] for each in no_change_lines(difference)] if plain else []
    if line:
        axes.add_collection(LineCollection(line, colors=INK, linewidths=1.1, zorder=4))
        handles.append(Line2D([], [], color=INK, linewidth=1.2, label="no change"))
    foot = legend_beside(figure, handles, None, Shades("none"), volume.frame.units)
    stated = quantities or QuantityUnits.of("", volume.frame.units)
    foot = _bands(figure, foot, depth_bands(difference, bands, base, top), edges, colours, stated)
    foot = _totals(figure, foot, volume, net_95, stated)
    title = f"cut and fill: {volume.top} above {volume.base}"
    facts = [f"no change: within {volume.tolerance:g} {volume.frame.units}"]
    return finish_plan(figure, axes, difference, title, facts)


def _outlines(
    axes: Axes, difference: Surface, surfaces: Sequence[Surface], areas: Sequence[Area], volume: Volume
) -> list[Line2D | Patch]:
    handles: list[Line2D | Patch] = []
    alone = (volume.total.only_base, volume.total.only_top)
    for surface, hatch, bare, what in zip(surfaces, ("///", "\\\\\\"), alone, ("base", "top"), strict=False):
        if bare > 0.0 and not areas:
            axes.add_patch(_covered(surface, hatch))
            handles.append(Patch(facecolor="white", edgecolor="#9aa3ab", hatch=hatch, label=f"{what} alone"))
    for loop in difference.rim():
        ring = difference.vertices[np.append(loop, loop[0])]
        axes.plot(ring[:, 0], ring[:, 1], color=RING, linewidth=0.9, zorder=3)
    for area in areas:
        for ring in area.rings:
            closed = np.vstack((ring, ring[:1]))
            axes.plot(closed[:, 0], closed[:, 1], color=LINE, linewidth=1.4, zorder=5)
        if len(areas) > 1:
            east, north = area.rings[0][:, :2].mean(axis=0).tolist()
            name = axes.text(east, north, area.name, fontsize=8.5, fontweight="bold", color=INK, zorder=6)
            name.set(ha="center", va="center", parse_math=False)
    if areas:
        handles.append(Line2D([], [], color=LINE, linewidth=1.4, label="limit of an area"))
    return handles


def _covered(surface: Surface, hatch: str) -> PathPatch:
    """The ground that a surface covers, hatched; what is drawn over it hides the rest."""
    rings = [surface.vertices[np.append(loop, loop[0]), :2] for loop in surface.rim()]
    codes = [[Path.MOVETO, *[Path.LINETO] * (len(ring) - 2), Path.CLOSEPOLY] for ring in rings]
    path = Path(np.concatenate(rings), np.concatenate(codes))
    return PathPatch(path, facecolor="white", edgecolor="#9aa3ab", hatch=hatch, linewidth=0.8, zorder=1)


def _bands(
    figure: Figure,
    top: float,
    table: pd.DataFrame,
    edges: Sequence[float],
    colours: Sequence[str],
    stated: QuantityUnits,
) -> float:
    """Write the bands with their colours, highest first."""
    rows, shown = [], []
    for k in range(len(table) - 1, -1, -1):
        row = table.iloc[k]
        if row["plan_area"] > 0.0:
            figures = [_figure(float(row[name]), str(name), stated) for name in table.columns[2:]]
            rows.append((_between(edges[k], edges[k + 1]), *figures))
            shown.append(colours[k])
    named = {"plan_area": "plan", "base_slope_area": "base", "top_slope_area": "top", "volume": "volume"}
    heads = ["depth", *(named[str(name)] for name in table.columns[2:])]
    title = f"Cut (below 0), fill (above 0): {stated.area}, {stated.volume}"
    _write_band_rows(figure, top, title, heads, rows, shown)
    return top - 0.032 - 0.022 * (len(rows) + 1) - 0.018


def _figure(value: float, name: str, stated: QuantityUnits) -> str:
    if name == "volume":
        return unsigned(value * stated.volume_factor, 1)
    return unsigned(value * stated.area_factor, 3 if stated.area in ("acre", "ha") else 1)


def _between(low: float, high: float) -> str:
    if low < 0.0 < high and low == -high:
        return "no change"
    if np.isinf(low):
        return f"below {high:g}"
    return f"above {low:g}" if np.isinf(high) else f"{low:g} to {high:g}"


def _write_band_rows(
    figure: Figure,
    top: float,
    title: str,
    heads: Sequence[str],
    rows: Sequence[Sequence[str]],
    colours: Sequence[str],
) -> None:
    figure.text(PANEL, top, title, fontsize=9, fontweight="bold", va="top", color=INK)
    last = PANEL_END + 0.008
    ends = [PANEL + 0.082, *np.linspace(PANEL + 0.082, last, len(heads))[1:].tolist()]
    foot = _write_cells(figure, top - 0.032, ends, [heads, *rows], step=0.022, size=7.0)
    for k, colour in enumerate(colours):
        patch = figure.add_axes((PANEL, foot + 0.022 * (len(colours) - k) - 0.014, 0.018, 0.013))
        patch.set(facecolor=colour, xticks=[], yticks=[])


def _write_cells(
    figure: Figure, top: float, ends: Sequence[float], rows: Sequence[Sequence[str]], *, step: float, size: float = 8.0
) -> float:
    """Write rows of cells, each to the left of its end, the heads in italics; return how far down they reach."""
    for number, cells in enumerate(rows):
        style = "italic" if number == 0 else "normal"
        for end, cell in zip(ends, cells, strict=True):
            figure.text(end, top - step * number, cell, ha="right", va="top", fontsize=size, color=INK, fontstyle=style)
    return top - step * len(rows)


def _totals(figure: Figure, top: float, volume: Volume, net_95: Sequence[float], stated: QuantityUnits) -> float:
    rows = []
    listed = volume.rows if len(volume.rows) == 1 else [*volume.rows, volume.total]
    spreads = list(net_95) or [row.net_spread.within_95 for row in listed]
    for row, within in list(zip(listed, spreads, strict=True))[-_MOST_ROWS:]:
        cut, fill, net, spread = (stated.volume_factor * each for each in (row.cut, row.fill, row.net, within))
        rows.append((row.name[:14], f"{cut:,.1f}", f"{fill:,.1f}", signed(net, 1), f"± {spread:,.1f}"))
    return write_rows(
        figure, top, f"Volumes ({stated.volume}), ± at 95 %", rows, ("area", "cut", "fill", "net", "of net")
    )


def level_sheet(volumes: LevelVolumes, table: pd.DataFrame) -> Figure:
    """Return the curve of level, area and volume, with the table beside it.

    Parameters
    ----------
    volumes : LevelVolumes
        Area and volume at any level.
    table : DataFrame
        See `evrin.analysis.LevelVolumes.table`.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.draw import level_sheet
    >>> bowl = evrin.triangulate([[0, 0, 3], [6, 0, 3], [6, 6, 3], [0, 6, 3], [3, 3, 0]], name="bowl")
    >>> curve = bowl.level_volumes()
    >>> type(level_sheet(curve, curve.table(0.5))).__name__
    'Sheet'
    """
    figure, units = new_sheet(), volumes.surface.units
    axes = figure.add_axes((0.075, 0.215, 0.53, 0.66))
    low, high = float(table["level"].min()), float(table["level"].max())
    fine = np.linspace(low, high, 400)
    axes.plot(volumes.volume_below(fine), fine, color=PROFILES[1], linewidth=1.8)
    axes.set_xlabel(f"volume below the level ({units}³)", fontsize=9, color=PROFILES[1])
    axes.set_ylabel(f"level ({units})", fontsize=9)
    other = axes.twiny()
    other.plot(volumes.area_below(fine), fine, color=PROFILES[0], linewidth=1.6, linestyle=(0, (6, 2)))
    other.set_xlabel(f"area at the level ({units}²)", fontsize=9, color=PROFILES[0])
    for each in (axes, other):
        each.set_xlim(left=0.0)
        each.tick_params(labelsize=8)
        each.xaxis.set_major_formatter(StrMethodFormatter("{x:,g}"))
        each.yaxis.set_major_formatter(StrMethodFormatter("{x:g}"))
    axes.set_ylim(low, high)
    axes.grid(color=INK, alpha=0.15, linewidth=0.6)
    most = 27
    step = -(-len(table) // most)
    shown = table.iloc[::-1].iloc[::step]
    left = 0.655
    figure.text(left, 0.955, "Level, area and volume", fontsize=10, fontweight="bold", va="top", color=INK)
    ends = (left + 0.06, left + 0.18, left + 0.32)
    rows = [("level", f"area {units}²", f"volume {units}³")]
    rows += [(f"{row.level:.3f}", f"{row.area_below:,.1f}", f"{row.volume_below:,.1f}") for row in shown.itertuples()]
    _write_cells(figure, 0.92, ends, rows, step=0.0265)
    facts = [
        f"units: {units}; exact at every level",
        f"every {step}th level listed" if step > 1 else "all levels listed",
    ]
    draw_title_block(figure, volumes.surface.name, "level, area and volume", facts, volumes.surface.facts.line())
    return figure


def series_sheet(series: pd.DataFrame, units: str) -> Figure:
    """Return volumes over time, each with its ± and its change since the last and the first entry.

    Parameters
    ----------
    series : DataFrame
        Columns ``date`` (ISO), ``name``, ``net``, ``net_95``, ``since_last``, ``since_first``, in order of the dates.
    units : str
        Unit of lengths.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import pandas as pd
    >>> from evrin.draw import series_sheet
    >>> rows = [("2026-01-05", "heap", 300.0, 9.0, None, None), ("2026-02-02", "heap", 340.0, 9.0, 40.0, 40.0)]
    >>> columns = ["date", "name", "net", "net_95", "since_last", "since_first"]
    >>> type(series_sheet(pd.DataFrame(rows, columns=columns), "m")).__name__
    'Sheet'
    """
    figure = new_sheet()
    axes = figure.add_axes((0.075, 0.215, 0.50, 0.72))
    left, y = 0.615, 0.945
    ends = (left + 0.075, left + 0.16, left + 0.22, left + 0.29, left + 0.36)
    for number, (name, own) in enumerate(series.groupby("name", sort=False)):
        style: Row = {"color": PROFILES[number % len(PROFILES)], "marker": "o", "markersize": 5.0}
        days = own["date"].to_numpy("datetime64[D]")
        axes.errorbar(days, own["net"], yerr=own["net_95"], label=str(name), capsize=4.0, **style)
        figure.text(left, y, f"{name} ({units}³)", fontsize=9, fontweight="bold", va="top", color=INK)
        rows = [("date", "net", "±", "since last", "since first")]
        columns = ["date", "net", "net_95", "since_last", "since_first"]
        for date, net, spread, *since in own.tail(_LISTED)[columns].itertuples(index=False, name=None):
            last, first = ("" if np.isnan(change) else signed(change, 1) for change in since)
            rows.append((date, f"{net:,.1f}", f"{spread:,.1f}", last, first))
        y = _write_cells(figure, y - 0.026, ends, rows, step=0.026) - 0.024
    axes.set_ylabel(f"net volume ({units}³), ± at 95 %", fontsize=9)
    axes.tick_params(labelsize=8)
    axes.xaxis.set_major_locator(AutoDateLocator(minticks=3, maxticks=6))  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(DateFormatter("%Y-%m-%d"))  # type: ignore[no-untyped-call]
    axes.margins(x=0.08, y=0.15)
    axes.ticklabel_format(axis="y", style="plain", useOffset=False)
    axes.grid(color=INK, alpha=0.15, linewidth=0.6)
    names = list(dict.fromkeys(series["name"]))
    if len(names) > 1:
        axes.legend(fontsize=8, frameon=False, loc="best")
    facts = [f"{len(series)} entries, {series['date'].min()} to {series['date'].max()}", f"units: {units}"]
    draw_title_block(figure, " and ".join(names)[:60], "volumes on record", facts)
    return figure
