"""A section through layers under the ground, each material filled, with the holes beside the line."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, Rectangle

from evrin.analysis.along.alignment import Alignment
from evrin.analysis.along.profiles import profile
from evrin.base.errors import DataError
from evrin.draw.colours import INK
from evrin.draw.paper import new_sheet
from evrin.draw.sheets.sheet import draw_title_block, frame_facts
from evrin.kernels import Floats
from evrin.making.pads.planes import base_surface

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.making.layers.boreholes import Borehole
    from evrin.making.layers.ground_layers import GroundLayers
    from evrin.making.pads.planes import Base

_BOX = (0.075, 0.185, 0.89, 0.72)
_ENDS: dict[str, Any] = {"color": INK, "linewidth": 0.9, "linestyle": (0, (7, 3, 1, 3))}
_DESIGN: dict[str, Any] = {"color": "#8b1a1a", "linewidth": 2.0}
# A hole nearer to the line than this part of its length stands on it.
_ON_THE_LINE = 0.02


def layer_section_sheet(
    layers: GroundLayers,
    along: Floats,
    *,
    start: float = 0.0,
    reach: float | None = None,
    floor: float | None = None,
    down_to: Base | None = None,
    up_to: Base | None = None,
) -> Figure:
    """Return a section along a line: each material filled as far down as holes reach, and the holes beside the line.

    A hole away from the line is drawn broken where it is projected onto it, with its offset.

    Parameters
    ----------
    layers : GroundLayers
        The layers to cut.
    along : (k, 2) float64
        The line of the section.
    start : float
        Chainage of its beginning.
    reach : float, optional
        How far from the line holes are drawn; a quarter of its length if not given.
    floor : float, optional
        How far down the section is drawn; somewhat below the deepest hole if not given.
    down_to, up_to : Surface, Plane or float, optional
        A design: what is dug between the two is hatched; up to the ground if only the first is given.

    Returns
    -------
    Figure

    Raises
    ------
    DataError
        For a reach below 0, or a line that is nowhere on the ground.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import layers_under
    >>> from evrin.draw import layer_section_sheet
    >>> from evrin.making import Borehole, Boreholes
    >>> field = evrin.triangulate([[0, 0, 5], [30, 0, 5], [30, 30, 5], [0, 30, 5]])
    >>> hole = Borehole("A", 15.0, 15.0, 5.0, (("clay", 5.0), ("gravel", 3.0)), 1.0)
    >>> layers = layers_under(field, Boreholes.of([hole]))
    >>> type(layer_section_sheet(layers, [[1.0, 14.0], [29.0, 14.0]], down_to=3.5)).__name__
    'Sheet'
    """
    if reach is not None and reach < 0.0:
        raise DataError(f"the reach of holes is a distance, 0 or more; it is {reach:g}")
    places = np.asarray(along, np.float64)[:, :2]
    line = Alignment.along(places, start)
    ground = layers.tops[0]
    design = [None if each is None else base_surface(ground, each)[0] for each in (down_to, up_to)]
    shown = [*layers.tops, layers.ends, *(each for each in design if each is not None)]
    profiles = [profile(each, places, start=start) for each in shown]
    if np.isnan(profiles[0].heights).all():
        raise DataError("the line of the section does not meet the surface")
    chainage = np.unique(np.concatenate([each.chainage for each in profiles]))
    cut = dict(zip(map(id, shown), (each.height(chainage) for each in profiles), strict=True))
    heights, ends = [cut[id(top)] for top in layers.tops], cut[id(layers.ends)]
    width = float(chainage[-1] - chainage[0])
    near = _holes_near(layers, line, width / 4.0 if reach is None else reach)
    bottoms = [hole.parts()[-1][2] for hole, _, _ in near] or [float(np.nanmin(heights[-1]))]
    designed = [cut[id(each)] for each in design if each is not None and np.isfinite(cut[id(each)]).any()]
    lowest = min([*(float(np.nanmin(each)) for each in (*heights, *designed)), *bottoms])
    tops = [float(np.nanmax(each)) for each in (heights[0], *designed)]
    highest = max([*tops, *(hole.ground for hole, _, _ in near)])
    depth = max(highest - lowest, 1e-3)
    foot = lowest - 0.12 * depth if floor is None else floor
    figure = new_sheet()
    axes = figure.add_axes(_BOX)
    _fill_layers(axes, layers, chainage, heights, np.maximum(ends, foot))
    handles = _hatch_design(axes, chainage, heights[0], [None if d is None else cut[id(d)] for d in design])
    _draw_holes(axes, layers, near, chainage, heights[0])
    words = axes.text(0.008, 0.012, "nothing is known under the ends of the holes", transform=axes.transAxes)
    words.set(fontsize=7.5, fontstyle="italic", color=INK, zorder=6)
    axes.set_xlim(chainage[0], chainage[-1])
    axes.set_ylim(foot, highest + 0.34 * depth)
    _label_axes(axes, ground.units)
    materials = [Patch(facecolor=colour, edgecolor=INK, linewidth=0.5, label=name)
                 for name, colour in zip(layers.materials, layers.colours, strict=True)]  # fmt: skip
    handles = [*materials, Line2D([], [], **_ENDS, label="ends of the holes"), *handles]
    figure.legend(
        handles=handles, loc="upper left", bbox_to_anchor=(_BOX[0], 0.975), ncols=6, fontsize=8.5, frameon=False
    )
    _finish(figure, axes, layers, places)
    return figure


def _fill_layers(axes: Axes, layers: GroundLayers, chainage: Floats, heights: list[Floats], ends: Floats) -> None:
    """Each material down to the next, and none of them under the ends of the holes."""
    known = [np.maximum(each, ends) for each in heights]
    for k, colour in enumerate(layers.colours):
        under = known[k + 1] if k + 1 < len(heights) else np.minimum(ends, known[k])
        axes.fill_between(chainage, known[k], under, facecolor=colour, linewidth=0.0, zorder=1)
        axes.plot(chainage, np.where(heights[k] >= ends, heights[k], np.nan), color=INK,
                  linewidth=1.8 if k == 0 else 0.8, zorder=3)  # fmt: skip
        if k:
            axes.plot(chainage, np.where(heights[k] < ends, heights[k], np.nan), color=INK, linewidth=0.7,
                      linestyle=(0, (2, 3)), zorder=3)  # fmt: skip
    axes.plot(chainage, np.minimum(ends, heights[0]), **_ENDS, zorder=3)


def _hatch_design(axes: Axes, chainage: Floats, ground: Floats, design: list[Floats | None]) -> list[Patch | Line2D]:
    """The design as a line, and what is dug hatched; return what the legend says of it."""
    floor, roof = design
    if floor is None:
        return []
    top = ground if roof is None else np.minimum(ground, roof)
    is_dug = top > floor
    handles: list[Patch | Line2D] = [Line2D([], [], **_DESIGN, label="design")]
    for each in (floor, roof):
        if each is not None:
            axes.plot(chainage, each, **_DESIGN, zorder=4)
    if is_dug.any():
        axes.fill_between(chainage, top, floor, where=is_dug, interpolate=True, facecolor="none", edgecolor=INK,
                          hatch="////", linewidth=0.0, alpha=0.55, zorder=2)  # fmt: skip
        handles.append(Patch(facecolor="none", edgecolor=INK, hatch="////", linewidth=0.4, label="dug"))
    return handles


def _holes_near(layers: GroundLayers, line: Alignment, reach: float) -> list[tuple[Borehole, float, float]]:
    holes = layers.boreholes.holes
    places = np.array([[hole.easting, hole.northing] for hole in holes])
    at, offset = line.locate(places)
    kept = np.flatnonzero(np.abs(offset) <= reach)
    return [(holes[k], float(at[k]), float(offset[k])) for k in kept[np.argsort(at[kept], kind="stable")].tolist()]


def _label_axes(axes: Axes, units: str) -> None:
    axes.set_xlabel(f"chainage ({units})", fontsize=8)
    axes.set_ylabel(f"height ({units})", fontsize=8)
    axes.tick_params(labelsize=8)
    axes.ticklabel_format(style="plain", useOffset=False)
    axes.grid(color=INK, alpha=0.12, linewidth=0.6)


def _draw_holes(
    axes: Axes, layers: GroundLayers, near: list[tuple[Borehole, float, float]], chainage: Floats, ground: Floats
) -> None:
    """Draw holes, their labels in two rows where they would run into each other."""
    width = float(chainage[-1] - chainage[0])
    figure = axes.get_figure(root=True)
    inches = figure.get_size_inches()[0] if figure is not None else 1.0
    points = _BOX[2] * inches * 72.0 / max(width, 1e-9)
    right_end = [-np.inf, -np.inf]
    for hole, at, offset in near:
        surface = float(np.nan_to_num(np.interp(at, chainage, ground), nan=hole.ground))
        text = _said_of(hole, offset, width)
        half = 0.28 * 8.0 * max(len(line) for line in text.splitlines()) / points
        # A label that would run into the one before it stands above it.
        row = 0 if at - half > right_end[0] else 1
        right_end[row] = at + half
        _draw_hole(axes, layers, hole, at, width, is_projected="projected" in text)
        label = axes.annotate(text, (at, max(surface, hole.ground)), (0, 6 + 24 * row), textcoords="offset points")
        label.set(fontsize=8, ha="center", va="bottom", color=INK, parse_math=False, zorder=6)


def _said_of(hole: Borehole, offset: float, width: float) -> str:
    if abs(offset) < 0.05:
        return hole.name
    projected = "projected, " if abs(offset) > _ON_THE_LINE * width else ""
    return f"{hole.name}\n{projected}{abs(offset):.1f} {'right' if offset > 0.0 else 'left'}"


def _draw_hole(
    axes: Axes, layers: GroundLayers, hole: Borehole, at: float, width: float, *, is_projected: bool
) -> None:
    half = 0.006 * width
    colour_of = dict(zip(layers.materials, layers.colours, strict=True))
    for name, top, bottom in hole.parts():
        if top > bottom:
            box = Rectangle((at - half, bottom), 2.0 * half, top - bottom, facecolor=colour_of[name])
            box.set(edgecolor=INK, linewidth=1.1, linestyle=(0, (2, 1.5)) if is_projected else "-", zorder=5)
            axes.add_patch(box)


def _finish(figure: Figure, axes: Axes, layers: GroundLayers, places: Floats) -> None:
    ground = layers.tops[0]
    box, (west, east), (low, high) = axes.get_position(), axes.get_xlim(), axes.get_ylim()
    inches = figure.get_size_inches()
    across, up = (east - west) / (box.width * inches[0]), (high - low) / (box.height * inches[1])
    ends = [f"from {places[0, 0]:.2f}, {places[0, 1]:.2f} to {places[-1, 0]:.2f}, {places[-1, 1]:.2f}"]
    facts = [
        *frame_facts(ground),
        *layers.notes[0].split("; "),
        f"heights {across / up:.1f} times larger than lengths",
        *ends,
    ]
    draw_title_block(figure, layers.name, "section through layers", facts, ground.facts.line())
