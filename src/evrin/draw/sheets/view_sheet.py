"""The surface in three dimensions: a lit solid with lines draped on it, on a sheet."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.colors import to_rgb
from matplotlib.figure import Figure

from evrin.analysis.terrain.slopes import aspects
from evrin.base.wording import compass_point
from evrin.draw.axes import axes_or_new
from evrin.draw.colours import CONTOUR, INK, LINE, RING
from evrin.draw.paper import new_sheet, sheet_paper
from evrin.draw.projection import Viewpoint, see, usual_exaggeration
from evrin.draw.shading import Shades, Shading, as_shades, colouring, light_on, shading_text
from evrin.draw.sheets.sheet import UNIT_NAMES, draw_title_block, window_of_most
from evrin.surface.components import only

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.cm import ScalarMappable

    from evrin.analysis.contours.contour_lines import Contours
    from evrin.draw.projection import View
    from evrin.kernels import Floats
    from evrin.surface.surface import Surface

BOX = (0.02, 0.115, 0.96, 0.79)
_CUT = "#8d8478"
_AMBIENT = 0.30


def draw_view(
    view: View,
    surface: Surface,
    layers: tuple[str, ...] = (),
    *,
    shading: Shading | Shades = "height",
    samples: int = 1,
    ax: Axes | None = None,
) -> Axes:
    """Show what is seen of a surface, lit from the north-west.

    Parameters
    ----------
    view : View
        What is seen.
    surface : Surface
        The one seen.
    layers : tuple of str
        Colour of each of the view's line layers.
    shading : {"height", "slope", "aspect", "relief", "none"} or Shades
        How triangles are coloured.
    samples : int
        Samples in a row and in a column of each dot of the picture.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.

    Returns
    -------
    Axes

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from matplotlib.figure import Figure
    >>> from evrin.draw import draw_view
    >>> from evrin.draw.projection import Viewpoint, see
    >>> axes = draw_view(see(field, Viewpoint(), 80, 60), field, ax=Figure().add_subplot())
    """
    axes = axes_or_new(ax)
    show_view(view, surface, layers, shading, samples, axes)
    return axes


def show_view(
    view: View, surface: Surface, layers: tuple[str, ...], shading: Shading | Shades, samples: int, axes: Axes
) -> ScalarMappable | None:
    """Show a view, and return what a legend can be made from; None for relief and for none."""
    shades = as_shades(shading)
    mappable = colouring(shades, surface)
    ground = (view.triangle >= 0) & (view.triangle < len(surface.triangles))
    picture = np.ones((*view.triangle.shape, 3))
    triangle = view.triangle[ground]
    light = light_on(surface)
    if mappable is None:
        picture[ground] = 0.93
    else:
        colours = mappable.to_rgba(_values(view, surface, shades)[ground])[:, :3]
        picture[ground] = np.where(shades.chosen(_values(view, surface, shades)[ground])[:, None], colours, 0.93)
    picture[ground] *= (_AMBIENT + (1.0 - _AMBIENT) * 1.25 * np.clip(light[triangle], 0.0, 1.0))[:, None]
    picture[view.triangle == len(surface.triangles)] = to_rgb(_CUT)
    for entry, colour in enumerate(layers):
        picture[view.line == entry] = to_rgb(colour)
    shown = _averaged(np.clip(picture, 0.0, 1.0), samples)
    axes.imshow(shown, extent=view.extent, origin="lower", interpolation="antialiased", zorder=1)
    axes.set_aspect("equal")
    axes.set_axis_off()
    return mappable


def _values(view: View, surface: Surface, shades: Shades) -> Floats:
    """What each sample is coloured by."""
    if shades.by == "height":
        return view.height
    values = aspects(surface) if shades.by == "aspect" else surface.triangle_slopes
    return np.asarray(np.append(values, np.nan)[view.triangle])


def _averaged(picture: Floats, samples: int) -> Floats:
    rows, columns = (n // samples for n in picture.shape[:2])
    cut = picture[: rows * samples, : columns * samples]
    return np.asarray(cut.reshape(rows, samples, columns, samples, 3).mean(axis=(1, 3)))


def view_sheet(
    surface: Surface,
    view: View,
    layers: tuple[tuple[str, str], ...],
    *,
    shading: Shading | Shades = "height",
    samples: int = 2,
) -> Figure:
    """Return a view of a surface on one sheet, with legend, compass and title block.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    view : View
        What is seen.
    layers : tuple of (colour, name)
        Of the view's line layers; those of the same name appear in the legend once.
    shading : {"height", "slope", "aspect", "relief", "none"} or Shades
        How triangles are coloured.
    samples : int
        As the view was made.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import view_sheet
    >>> from evrin.draw.projection import Viewpoint, see
    >>> type(view_sheet(field, see(field, Viewpoint(), 80, 60), ())).__name__
    'Sheet'
    """
    from matplotlib.lines import Line2D

    figure = new_sheet()
    axes = figure.add_axes(BOX)
    colours = tuple(colour for colour, _ in layers)
    shades = show_view(view, surface, colours, shading, samples, axes)
    if shades is not None:
        bar = figure.add_axes((0.035, 0.945, 0.24, 0.016))
        drawn = figure.colorbar(shades, cax=bar, orientation="horizontal")
        shading_text(drawn, shading, surface.units)
        bar.tick_params(labelsize=7.5)
    named = dict(reversed([(name, colour) for colour, name in layers]))
    handles = [Line2D([], [], color=colour, linewidth=1.6, label=name) for name, colour in reversed(named.items())]
    if handles:
        figure.legend(
            handles=handles, loc="upper left", bbox_to_anchor=(0.30, 0.985), ncols=5, fontsize=8, frameon=False
        )
    _draw_compass(figure, view)
    eye = view.viewpoint
    heights = surface.vertices[:, 2]
    facts = [
        f"seen from the {compass_point(eye.from_deg)} ({eye.from_deg % 360:g}°), {eye.above_deg:g}° above the horizon",
        f"units: {UNIT_NAMES[surface.units]}; heights {heights.min():.2f} to {heights.max():.2f}",
        f"heights stretched {eye.exaggeration:g} times" if eye.exaggeration != 1.0 else "heights true to scale",
    ]
    draw_title_block(figure, surface.name, "view", facts, surface.facts.line())
    return figure


def _draw_compass(figure: Figure, view: View) -> None:
    """Draw a north arrow as it lies on the ground of the view."""
    axes = figure.add_axes((0.915, 0.885, 0.075, 0.105))
    axes.set_xlim(-1.6, 1.6)
    axes.set_ylim(-1.4, 1.4)
    axes.set_aspect("equal")
    axes.set_axis_off()
    turns = np.linspace(0.0, 2.0 * np.pi, 73)
    ring = view.viewpoint.project(np.column_stack((np.cos(turns), np.sin(turns), 0.0 * turns)))
    axes.plot(ring[:, 0], ring[:, 1], color=INK, linewidth=0.9)
    head, tail, west, east = view.viewpoint.project(
        np.array([[0.0, 0.95, 0.0], [0.0, -0.95, 0.0], [-0.3, 0.0, 0.0], [0.3, 0.0, 0.0]])
    )[:, :2]
    axes.fill(*np.array([head, west, east]).T, color=INK)
    axes.fill(*np.array([tail, west, east]).T, facecolor="white", edgecolor=INK, linewidth=0.8)
    axes.text(
        float(head[0]) * 1.32,
        float(head[1]) * 1.32,
        "N",
        ha="center",
        va="center",
        fontsize=9,
        fontweight="bold",
        color=INK,
    )


_SAMPLES = 2
# Finer than this, lines hide behind the ground no better.
_MOST_DOTS = 200
_WIDTHS = {"line": 2.8, "contour": 1.8, "index": 3.0, "ring": 3.0, "edge": 1.2}
_EDGE = "#4a5560"


def view_of(
    surface: Surface,
    *,
    from_deg: float = 225.0,
    above_deg: float = 30.0,
    exaggeration: float | None = None,
    shading: Shading | Shades = "height",
    contours: Contours | None = None,
    triangles: bool = False,
) -> Figure:
    """Look at a surface from a direction, its breaklines and contours draped on it, and return the sheet.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    from_deg : float
        Bearing of the eye, clockwise from north.
    above_deg : float
        How far the eye is above the horizon.
    exaggeration : float, optional
        By how much heights are stretched; a usual factor that shows the relief if not given.
    shading : {"height", "slope", "aspect", "relief", "none"} or Shades
        How triangles are coloured.
    contours : Contours, optional
        Contours to draw on top.
    triangles : bool
        Whether to draw the edges of triangles.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import view_of
    >>> type(view_of(field, from_deg=135.0)).__name__
    'Sheet'
    """
    surface = _site_only(surface)
    stretch = exaggeration if exaggeration is not None else usual_exaggeration(surface)
    layers: list[tuple[str, str, list[Floats], float]] = []
    if triangles:
        layers.append((_EDGE, "triangle edge", list(surface.vertices[surface.edges]), _WIDTHS["edge"]))
    if contours is not None:
        for is_index, kind in ((False, "contour"), (True, "index")):
            lines = [
                np.column_stack((line.points, np.full(len(line.points), line.level)))
                for line in contours
                if line.is_index == is_index
            ]
            layers.append((CONTOUR, "contour", lines, _WIDTHS[kind]))
    rows, sides = np.nonzero(surface.edge_lines >= 0)
    ends = np.stack((surface.triangles[rows, sides], surface.triangles[rows, (sides + 1) % 3]), axis=1)
    layers.append((LINE, "breakline", list(surface.vertices[ends]), _WIDTHS["line"]))
    rim = [surface.vertices[np.append(loop, loop[0])] for loop in surface.rim()]
    layers.append((RING, "edge of the surface", rim, _WIDTHS["ring"]))
    layers = [layer for layer in layers if layer[2]]
    columns, dots = (
        int(_SAMPLES * min(sheet_paper().dpi, _MOST_DOTS) * side * part)
        for side, part in zip(sheet_paper().size, BOX[2:], strict=True)
    )
    view = see(
        surface,
        Viewpoint(from_deg, above_deg, stretch),
        columns,
        dots,
        [(lines, width) for _, _, lines, width in layers],
    )
    named = tuple((colour, name) for colour, name, _, _ in layers)
    return view_sheet(surface, view, named, shading=shading, samples=_SAMPLES)


def _site_only(surface: Surface) -> Surface:
    """Leave away triangles that reach to vertices far away from all the rest, such as control."""
    west, south, east, north = window_of_most(surface)
    x, y = surface.vertices[surface.triangles, 0], surface.vertices[surface.triangles, 1]
    near = ((x >= west) & (x <= east) & (y >= south) & (y <= north)).all(axis=1)
    return surface if near.all() or not near.any() else only(surface, near)
