"""Layers of a plan: shading, triangles, lines, contours with labels, findings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from matplotlib import colormaps
from matplotlib.cm import ScalarMappable
from matplotlib.collections import LineCollection
from matplotlib.colors import BoundaryNorm, Colormap, ListedColormap, Normalize

from evrin.tin.types import Floats

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis import Contours
    from evrin.check import Finding
    from evrin.surface import Surface

Shading = Literal["height", "slope", "relief", "none"]
SLOPE_LIMITS = (0.02, 0.05, 0.10, 0.20, 0.33, 0.50)
INK = "#22303c"
CONTOUR = "#7a4a21"
LINE = "#0b6e69"
RING = "#5b2a86"
MARK = "#c2185b"
_LABEL_SIZE = 7.0
_SUN = np.array([-1.0, 1.0, 1.6]) / np.sqrt(1.0 + 1.0 + 1.6**2)


def axes_or_new(ax: Axes | None) -> Axes:
    """Return the axes given, or new ones on the current figure."""
    if ax is not None:
        return ax
    import matplotlib.pyplot as plt

    return plt.subplots()[1]


def _lightened(name: str) -> Colormap:
    """Return a colour map a third of the way to white, so that lines and labels stand out on it."""
    colours = colormaps[name](np.linspace(0.0, 1.0, 256))
    colours[:, :3] += (1.0 - colours[:, :3]) * 0.3
    return ListedColormap(colours)


def draw_shading(surface: Surface, shading: Shading, ax: Axes | None = None) -> ScalarMappable | None:
    """Colour triangles by height, by slope in bands, or as relief lit from the north-west.

    Returns
    -------
    ScalarMappable or None
        What a legend can be made from; None for relief and for none.
    """
    axes = axes_or_new(ax)
    if shading == "none":
        return None
    if shading == "relief":
        normals = np.column_stack((-surface.gradients, np.ones(len(surface.triangles))))
        light = np.nan_to_num(normals @ _SUN / np.linalg.norm(normals, axis=1), nan=0.5)
        _colour(axes, surface, light, colormaps["gray"], Normalize(-0.2, 1.0))
        return None
    if shading == "slope":
        bounds = (0.0, *SLOPE_LIMITS)
        norm: Normalize = BoundaryNorm(bounds, 256, extend="max")
        return _colour(axes, surface, np.nan_to_num(surface.triangle_slopes), colormaps["YlOrBr"], norm)
    middles = surface.vertices[surface.triangles].mean(axis=1)
    low, high = np.quantile(_in_frame(axes, middles)[:, 2], [0.005, 0.995])
    return _colour(axes, surface, middles[:, 2], _lightened("cividis"), Normalize(low, max(high, low + 1e-9)))


def _in_frame(axes: Axes, places: Floats) -> Floats:
    """The places that the axes show, all of them if there is none, so that colours are spent on what is seen."""
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    x, y = places[:, 0], places[:, 1]
    seen = (x >= west) & (x <= east) & (y >= south) & (y <= north)
    return places[seen] if seen.any() else places


def _colour(axes: Axes, surface: Surface, values: Floats, cmap: Colormap, norm: Normalize) -> ScalarMappable:
    x, y = surface.vertices[:, 0], surface.vertices[:, 1]
    # Edges in the colour of the face close the hairlines that smoothing leaves between neighbours.
    style: dict[str, Any] = {"edgecolors": "face", "linewidth": 0.3, "rasterized": True, "zorder": 1}
    drawn: ScalarMappable = axes.tripcolor(x, y, surface.triangles, facecolors=values, cmap=cmap, norm=norm, **style)
    return drawn


def draw_triangles(surface: Surface, ax: Axes | None = None) -> Axes:
    """Draw every edge once, thinly."""
    axes = axes_or_new(ax)
    mates = surface.mates
    once = np.flatnonzero((mates < 0) | (np.arange(len(mates)) < mates))
    flat = surface.triangles.ravel()
    ends = np.stack((flat[once], flat[once - once % 3 + (once + 1) % 3]), axis=1)
    width = float(np.clip(40.0 / np.sqrt(len(surface.triangles)), 0.1, 0.5))
    lines = LineCollection(list(surface.vertices[ends, :2]), colors=INK, linewidths=width, alpha=0.55, zorder=2)
    axes.add_collection(lines, autolim=True)
    return axes


def draw_lines(surface: Surface, ax: Axes | None = None) -> Axes:
    """Draw breaklines full, as far as they are edges of the surface, and boundaries dashed."""
    axes = axes_or_new(ax)
    rows, sides = np.nonzero(surface.edge_lines >= 0)
    ends = np.stack((surface.triangles[rows, sides], surface.triangles[rows, (sides + 1) % 3]), axis=1)
    segments = surface.vertices[ends, :2]
    axes.add_collection(LineCollection(list(segments), colors=LINE, linewidths=1.1, zorder=4), autolim=True)
    for line in surface.lines:
        if line.is_ring:
            ring = np.vstack((line.points, line.points[:1])) if line.closed else line.points
            axes.plot(ring[:, 0], ring[:, 1], color=RING, linewidth=1.6, linestyle=(0, (6, 2)), zorder=5)
    return axes


def draw_contours(contours: Contours, ax: Axes | None = None, *, label_spacing: float | None = None) -> Axes:
    """Draw contours, the index ones heavier and labelled along the line.

    Parameters
    ----------
    contours : Contours
    ax : Axes, optional
    label_spacing : float, optional
        Plan distance between labels on one line; a third of the drawing's width if not given.
    """
    axes = axes_or_new(ax)
    lines = list(contours)
    for chosen, width, alpha in ((False, 0.5, 0.85), (True, 1.1, 1.0)):
        drawn = [line.points for line in lines if line.is_index == chosen]
        axes.add_collection(
            LineCollection(drawn, colors=CONTOUR, linewidths=width, alpha=alpha, zorder=3), autolim=True
        )
    west, east = axes.get_xlim()
    spacing = label_spacing if label_spacing is not None else (east - west) / 3.0
    taken: list[tuple[float, float]] = []
    for line in sorted(lines, key=lambda item: -len(item.points)):
        if line.is_index:
            _label_line(axes, line.points, f"{line.level:g}", spacing, taken)
    return axes


def _label_line(axes: Axes, points: Floats, text: str, spacing: float, taken: list[tuple[float, float]]) -> None:
    """Write the level along a line, top uphill where that can be read, clear of other labels and of the frame."""
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    room = (east - west) / 18.0
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))))
    if along[-1] < 2.0 * room:
        return
    for place in np.arange(min(spacing, along[-1]) / 2.0, along[-1], spacing):
        x, y = (float(np.interp(place, along, points[:, k])) for k in range(2))
        inside = west + room / 2 < x < east - room / 2 and south + room / 2 < y < north - room / 2
        if not inside or any((x - a) ** 2 + (y - b) ** 2 < room**2 for a, b in taken):
            continue
        ends = [[float(np.interp(place + s * room / 4, along, points[:, k])) for k in range(2)] for s in (-1, 1)]
        # High ground is on the right of a contour, so reading against it puts the top of the text uphill.
        angle = np.degrees(np.arctan2(ends[0][1] - ends[1][1], ends[0][0] - ends[1][0]))
        upright = (angle + 90.0) % 180.0 - 90.0
        axes.text(
            x,
            y,
            text,
            rotation=upright,
            rotation_mode="anchor",
            ha="center",
            va="center",
            fontsize=_LABEL_SIZE,
            color=CONTOUR,
            zorder=6,
            bbox={"boxstyle": "round,pad=0.12", "facecolor": "white", "edgecolor": "none", "alpha": 0.85},
        )
        taken.append((x, y))


def draw_findings(findings: Sequence[Finding], ax: Axes | None = None) -> Axes:
    """Mark findings with their numbers, from 1 in the order given; accepted ones and notes in outline."""
    axes = axes_or_new(ax)
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    step = (east - west) / 45.0
    taken: list[tuple[float, float]] = []
    for number, finding in enumerate(findings, 1):
        if finding.place is None:
            continue
        x, y = finding.place
        if not (west <= x <= east and south <= y <= north):
            continue
        at = _free_place(x, y, step, taken)
        taken.append(at)
        axes.plot([x, at[0]], [y, at[1]], color=MARK, linewidth=0.8, zorder=7)
        axes.plot(x, y, marker="x", color=MARK, markersize=5, zorder=7)
        axes.text(
            *at,
            str(number),
            ha="center",
            va="center",
            fontsize=8,
            fontweight="bold",
            color="white" if finding.is_open else MARK,
            zorder=8,
            bbox={"boxstyle": "circle,pad=0.25", "facecolor": MARK if finding.is_open else "white", "edgecolor": MARK},
        )
    return axes


def _free_place(x: float, y: float, step: float, taken: list[tuple[float, float]]) -> tuple[float, float]:
    for turn in range(48):
        reach = step * (1.0 + turn // 8)
        angle = np.radians(45.0 * (turn % 8) + 35.0)
        at = (x + reach * float(np.cos(angle)), y + reach * float(np.sin(angle)))
        if all((at[0] - a) ** 2 + (at[1] - b) ** 2 > (1.1 * step) ** 2 for a, b in taken):
            return at
    return (x, y)
