"""A surface on axes of one's own, in one call."""

from __future__ import annotations

from typing import TYPE_CHECKING

from evrin.draw.axes import axes_or_new
from evrin.draw.plan_layers import draw_contours, draw_lines, draw_triangles
from evrin.draw.shading import Shades, Shading, shade

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis.contours.contour_lines import Contours
    from evrin.surface.surface import Surface


def plot_surface(
    surface: Surface,
    ax: Axes | None = None,
    *,
    shading: Shading | Shades = "height",
    triangles: bool = True,
    contours: Contours | None = None,
) -> Axes:
    """Draw a surface in plan at equal scales: `Surface.plot`."""
    axes = axes_or_new(ax)
    west, south, east, north = surface.extent
    margin = 0.03 * max(east - west, north - south)
    axes.set_xlim(west - margin, east + margin)
    axes.set_ylim(south - margin, north + margin)
    axes.set_aspect("equal")
    shade(surface, shading, axes)
    if triangles:
        draw_triangles(surface, axes)
    if contours is not None:
        draw_contours(contours, axes)
    draw_lines(surface, axes)
    axes.set_xlabel(f"easting ({surface.units})")
    axes.set_ylabel(f"northing ({surface.units})")
    axes.ticklabel_format(style="plain", useOffset=False)
    return axes
