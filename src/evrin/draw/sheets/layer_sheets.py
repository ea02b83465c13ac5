"""A section through layers under the ground, each material filled, with the holes beside the line."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure
from matplotlib.patches import Patch, Rectangle

from evrin.analysis.along.alignment import Alignment
from evrin.analysis.along.profiles import profile
from evrin.draw.colours import INK
from evrin.draw.paper import new_sheet
from evrin.draw.sheets.sheet import draw_title_block, frame_facts
from evrin.kernels import Floats

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.making.boreholes import Borehole
    from evrin.making.ground_layers import GroundLayers

_BOX = (0.075, 0.185, 0.89, 0.72)


def layer_section_sheet(
    layers: GroundLayers, along: Floats, *, reach: float | None = None, floor: float | None = None
) -> Figure:
    """Return a section along a line: each material filled, and holes within reach drawn with their offset.

    Parameters
    ----------
    layers : GroundLayers
        The layers to cut.
    along : (k, 2) float64
        The line of the section.
    reach : float, optional
        How far from the line holes are drawn; a quarter of its length if not given.
    floor : float, optional
        How far down the section is drawn; somewhat below the deepest hole if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import layers_under
    >>> from evrin.draw import layer_section_sheet
    >>> from evrin.making import Borehole, Boreholes
    >>> field = evrin.triangulate([[0, 0, 5], [30, 0, 5], [30, 30, 5], [0, 30, 5]])
    >>> hole = Borehole("A", 15.0, 15.0, 5.0, (("clay", 5.0), ("gravel", 3.0)), 1.0)
    >>> layers = layers_under(field, Boreholes.of([hole]))
    >>> type(layer_section_sheet(layers, [[1.0, 14.0], [29.0, 14.0]])).__name__
    'Sheet'
    """
    places = np.asarray(along, np.float64)[:, :2]
    line = Alignment.along(places)
    profiles = [profile(top, places) for top in layers.tops]
    chainage = np.unique(np.concatenate([each.chainage for each in profiles]))
    heights = [each.height(chainage) for each in profiles]
    width = float(chainage[-1] - chainage[0])
    near = _holes_near(layers, line, width / 4.0 if reach is None else reach)
    shown = [part for hole, _, _ in near for part in hole.parts()] or [("", 0.0, float(np.nanmin(heights[-1])))]
    lowest = min(float(np.nanmin(np.array(heights))), *(bottom for _, _, bottom in shown))
    highest = max(float(np.nanmax(heights[0])), *(hole.ground for hole, _, _ in near), float(np.nanmax(heights[0])))
    depth = max(highest - lowest, 1e-3)
    foot = lowest - 0.12 * depth if floor is None else floor
    figure = new_sheet()
    axes = figure.add_axes(_BOX)
    for k, colour in enumerate(layers.colours):
        under = heights[k + 1] if k + 1 < len(heights) else np.full(len(chainage), foot)
        axes.fill_between(chainage, heights[k], np.maximum(under, foot), facecolor=colour, linewidth=0.0, zorder=1)
        axes.plot(chainage, heights[k], color=INK, linewidth=1.8 if k == 0 else 0.8, zorder=3)
    for hole, at, offset in near:
        surface = float(np.nan_to_num(np.interp(at, chainage, heights[0]), nan=hole.ground))
        _draw_hole(axes, layers, hole, (at, max(surface, hole.ground)), offset, width)
    words = axes.text(0.008, 0.012, "nothing is known under the ends of the holes", transform=axes.transAxes)
    words.set(fontsize=7.5, fontstyle="italic", color=INK, zorder=6)
    axes.set_xlim(chainage[0], chainage[-1])
    axes.set_ylim(foot, highest + 0.34 * depth)
    axes.set_xlabel(f"chainage ({layers.tops[0].units})", fontsize=8)
    axes.set_ylabel(f"height ({layers.tops[0].units})", fontsize=8)
    axes.tick_params(labelsize=8)
    axes.ticklabel_format(style="plain", useOffset=False)
    axes.grid(color=INK, alpha=0.12, linewidth=0.6)
    handles = [Patch(facecolor=colour, edgecolor=INK, linewidth=0.5, label=name)
               for name, colour in zip(layers.materials, layers.colours, strict=True)]  # fmt: skip
    figure.legend(
        handles=handles, loc="upper left", bbox_to_anchor=(_BOX[0], 0.975), ncols=6, fontsize=8.5, frameon=False
    )
    _finish(figure, axes, layers, places)
    return figure


def _holes_near(layers: GroundLayers, line: Alignment, reach: float) -> list[tuple[Borehole, float, float]]:
    holes = layers.boreholes.holes
    places = np.array([[hole.easting, hole.northing] for hole in holes])
    at, offset = line.locate(places)
    kept = np.flatnonzero(np.abs(offset) <= reach)
    return [(holes[k], float(at[k]), float(offset[k])) for k in kept[np.argsort(at[kept], kind="stable")].tolist()]


def _draw_hole(
    axes: Axes, layers: GroundLayers, hole: Borehole, head: tuple[float, float], offset: float, width: float
) -> None:
    at, top_of_ground = head
    half = 0.006 * width
    colour_of = dict(zip(layers.materials, layers.colours, strict=True))
    for name, top, bottom in hole.parts():
        if top > bottom:
            box = Rectangle((at - half, bottom), 2.0 * half, top - bottom, facecolor=colour_of[name])
            box.set(edgecolor=INK, linewidth=1.1, zorder=5)
            axes.add_patch(box)
    side = "right" if offset > 0.0 else "left"
    text = f"{hole.name}\n{abs(offset):.1f} {side}" if abs(offset) >= 0.05 else hole.name
    label = axes.annotate(text, (at, top_of_ground), (0, 6), textcoords="offset points", fontsize=8, zorder=6)
    label.set(ha="center", va="bottom", color=INK, parse_math=False)


def _finish(figure: Figure, axes: Axes, layers: GroundLayers, places: Floats) -> None:
    ground = layers.tops[0]
    box, (west, east), (low, high) = axes.get_position(), axes.get_xlim(), axes.get_ylim()
    inches = figure.get_size_inches()
    across, up = (east - west) / (box.width * inches[0]), (high - low) / (box.height * inches[1])
    ends = [f"from {places[0, 0]:.2f}, {places[0, 1]:.2f} to {places[-1, 0]:.2f}, {places[-1, 1]:.2f}"]
    facts = [*frame_facts(ground), f"heights {across / up:.1f} times larger than lengths", *ends]
    draw_title_block(figure, layers.name, "section through layers", facts, ground.facts.line())
