"""Layers of a plan: triangles, lines, contours with labels, arrows down the slope, findings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

import numpy as np
from matplotlib.collections import LineCollection
from matplotlib.lines import Line2D
from matplotlib.patches import Patch
from matplotlib.patheffects import withStroke

from evrin.analysis.contours.contour_labelling import around_labels, contour_labels
from evrin.base.named_values import Row
from evrin.draw.axes import axes_or_new
from evrin.draw.colours import CONTOUR, INK, LINE, MARK, RING, WATER
from evrin.draw.depressions import depression_ticks
from evrin.draw.label_places import label_places, spread
from evrin.kernels import Indices

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis.contours.contour_lines import Contours
    from evrin.check import Finding
    from evrin.draw.arrows import Arrows
    from evrin.surface.surface import Surface

ShotLabel = Literal["none", "number", "code", "height"]
_LABEL_SIZE = 7.0
_DIGIT_HEIGHT = 0.73


NUMBERED = 60


def draw_triangles(surface: Surface, ax: Axes | None = None) -> Axes:
    """Draw every edge once, thinly.

    Parameters
    ----------
    surface : Surface
        What is drawn.
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
    >>> from evrin.draw import draw_triangles
    >>> axes = draw_triangles(field, Figure().add_subplot())
    """
    axes = axes_or_new(ax)
    mates = surface.mates
    once = np.flatnonzero((mates < 0) | (np.arange(len(mates)) < mates))
    flat = surface.triangles.ravel()
    ends = np.stack((flat[once], flat[once - once % 3 + (once + 1) % 3]), axis=1)
    width = float(np.clip(40.0 / np.sqrt(len(surface.triangles)), 0.1, 0.5))
    lines = LineCollection(list(surface.vertices[ends, :2]), colors=INK, linewidths=width, alpha=0.55, zorder=2)
    axes.add_collection(lines, autolim=True)
    return axes


def draw_lines(surface: Surface, ax: Axes | None = None, *, contours: bool = True) -> Axes:
    """Draw breaklines full, as far as they are edges of the surface, contours it was given thin, boundaries dashed.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.
    contours : bool
        Whether the contours that the surface was given are drawn.

    Returns
    -------
    Axes

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from matplotlib.figure import Figure
    >>> from evrin.draw import draw_lines
    >>> axes = draw_lines(field, Figure().add_subplot())
    """
    axes = axes_or_new(ax)
    rows, sides = np.nonzero(surface.edge_lines >= 0)
    ends = np.stack((surface.triangles[rows, sides], surface.triangles[rows, (sides + 1) % 3]), axis=1)
    segments = surface.vertices[ends, :2]
    is_contour = np.array([line.effect == "contour" for line in surface.lines] or [False], np.bool_)
    given = is_contour[surface.edge_lines[rows, sides]]
    axes.add_collection(LineCollection(list(segments[~given]), colors=LINE, linewidths=1.1, zorder=4), autolim=True)
    if contours:
        style: Row = {"colors": CONTOUR, "linewidths": 0.6, "zorder": 3.5}
        axes.add_collection(LineCollection(list(segments[given]), **style), autolim=True)
    for line in surface.lines:
        if line.is_ring:
            ring = np.vstack((line.points, line.points[:1])) if line.closed else line.points
            axes.plot(ring[:, 0], ring[:, 1], color=RING, linewidth=1.6, linestyle=(0, (6, 2)), zorder=5)
    return axes


def line_handles(surface: Surface, *, contours: bool = True) -> list[Line2D | Patch]:
    """Return what a legend shows of the lines that `draw_lines` draws.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    contours : bool
        Whether the contours that the surface was given are drawn.

    Returns
    -------
    list of Line2D or Patch

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw.plan_layers import line_handles
    >>> line_handles(field)
    []
    """
    drawn = {surface.lines[k].effect for k in np.unique(surface.edge_lines).tolist() if k >= 0}
    handles: list[Line2D | Patch] = []
    if drawn - {"contour"}:
        handles.append(Line2D([], [], color=LINE, linewidth=1.3, label="breakline"))
    if contours and "contour" in drawn:
        handles.append(Line2D([], [], color=CONTOUR, linewidth=0.8, label="given contour"))
    if any(line.is_ring for line in surface.lines):
        handles.append(Line2D([], [], color=RING, linewidth=1.6, linestyle=(0, (4, 2)), label="boundary"))
    return handles


def draw_contours(contours: Contours, ax: Axes | None = None, *, label_spacing: float | None = None) -> Axes:
    """Draw contours, the index ones heavier and labelled along the line, with ticks down into depressions.

    Lines are left out under labels, so that whatever lies below them still shows.

    Parameters
    ----------
    contours : Contours
        The contours to draw.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.
    label_spacing : float, optional
        Plan distance between labels on one line; a third of the drawing's width if not given.

    Returns
    -------
    Axes

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from matplotlib.figure import Figure
    >>> from evrin.draw import draw_contours
    >>> axes = draw_contours(field.contours(0.5), field.plot(Figure().add_subplot()))
    """
    axes = axes_or_new(ax)
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    inches = axes.get_position().width * float(axes.get_figure(root=True).get_size_inches()[0])  # type: ignore[union-attr]
    letter = _DIGIT_HEIGHT / 72.0 * (east - west) / inches
    height = contours.label_height or _LABEL_SIZE * letter
    spacing = label_spacing or contours.label_spacing or (east - west) / 3.0
    labels = contour_labels(contours, spacing, height, window=(west, south, east, north), between=True)
    points, starts, line_of = around_labels(contours, labels)
    pieces = np.split(points, starts[1:-1]) if len(line_of) else []
    is_index = contours.is_index[contours.level_of[line_of]]
    for chosen, width, alpha in ((False, 0.5, 0.85), (True, 1.1, 1.0)):
        drawn = [piece for piece, heavy in zip(pieces, is_index.tolist(), strict=True) if heavy == chosen]
        style: Row = {
            "colors": CONTOUR,
            "linewidths": width,
            "alpha": alpha,
            "zorder": 3,
            "capstyle": "round",
        }
        axes.add_collection(LineCollection(drawn, **style), autolim=True)
    ticks = depression_ticks(contours, 6.0 * height, 1.1 * height)
    axes.add_collection(LineCollection(list(ticks), colors=CONTOUR, linewidths=0.6, zorder=3), autolim=False)
    for (x, y), angle, text in zip(labels.places.tolist(), labels.angles_deg.tolist(), labels.texts, strict=True):
        axes.text(
            x,
            y,
            text,
            rotation=angle,
            rotation_mode="anchor",
            ha="center",
            va="center_baseline",
            fontsize=height / letter,
            color=CONTOUR,
            zorder=6,
            clip_on=True,
            path_effects=[withStroke(linewidth=1.8, foreground="white", alpha=0.9)],
        )
    return axes


def draw_arrows(arrows: Arrows, length: float, ax: Axes | None = None) -> Axes:
    """Draw arrows down the slope, each of a length in units of the ground; darker where it is steeper.

    Parameters
    ----------
    arrows : Arrows
        Where they start, and which way they point.
    length : float
        In units of the ground.
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
    >>> from evrin.draw import draw_arrows, flow_arrows
    >>> axes = draw_arrows(flow_arrows(field, 4.0), 2.0, Figure().add_subplot())
    """
    axes = axes_or_new(ax)
    shade = (
        np.clip(arrows.slopes / max(float(np.quantile(arrows.slopes, 0.9)), 1e-9), 0.45, 1.0)
        if len(arrows.slopes)
        else np.empty(0)
    )
    axes.quiver(
        arrows.places[:, 0],
        arrows.places[:, 1],
        arrows.directions[:, 0],
        arrows.directions[:, 1],
        angles="xy",
        scale_units="xy",
        scale=1.0 / length,
        pivot="middle",
        color=WATER,
        alpha=shade,
        width=0.0016,
        headwidth=4.5,
        headlength=5.5,
        zorder=4,
    )
    return axes


def draw_findings(findings: Sequence[Finding], ax: Axes | None = None) -> Axes:
    """Mark findings with their numbers, from 1 in the order given; accepted ones and notes in outline.

    After NUMBERED of them the rest are marked without numbers.

    Parameters
    ----------
    findings : Sequence[Finding]
        The findings to mark.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.

    Returns
    -------
    Axes

    Examples
    --------
    >>> from matplotlib.figure import Figure
    >>> from evrin.check import RULES
    >>> from evrin.draw import draw_findings
    >>> found = RULES["hollow"].finding((4.0, 4.0), "water collects 0.30 m deep")
    >>> axes = draw_findings([found], Figure().add_subplot())
    """
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
        if len(taken) >= NUMBERED:
            axes.plot(x, y, marker="x", color=MARK, markersize=4, zorder=7)
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


def label_shots(surface: Surface, label: ShotLabel, ax: Axes | None = None) -> Axes:
    """Write the number, the code or the height of shots beside the vertices that they are, as far as there is room.

    Parameters
    ----------
    surface : Surface
        Whose vertices are labelled; those that no shot is behind have a height alone.
    label : {"none", "number", "code", "height"}
        What is written.
    ax : Axes, optional
        Where; a new figure if not given.

    Returns
    -------
    Axes
    """
    axes = axes_or_new(ax)
    if label == "none":
        return axes
    vertices = np.arange(len(surface.vertices))
    if label == "height":
        texts = [f"{z:.2f}" for z in surface.vertices[:, 2].tolist()]
    else:
        vertices, texts = _shot_texts(surface, label)
    named = [k for k in spread(len(texts)).tolist() if texts[k]]
    label_places(axes, surface.vertices[vertices[named], :2], [texts[k] for k in named], size=6.0)
    return axes


def _shot_texts(surface: Surface, label: ShotLabel) -> tuple[Indices, list[str]]:
    """The vertices that are shots, and the number or code of each."""
    origin = surface.provenance
    if origin is None:
        return np.empty(0, np.int64), []
    vertices = np.flatnonzero(origin.shot_of >= 0)
    shots = origin.shots.take(origin.shot_of[vertices])
    return vertices, [str(text) for text in (shots.numbers if label == "number" else shots.codes).tolist()]
