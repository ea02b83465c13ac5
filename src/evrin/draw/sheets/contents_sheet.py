"""What a file holds: a plan beside an oblique view, coloured by height, with what is at zero height marked."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.cm import ScalarMappable
from matplotlib.collections import LineCollection
from matplotlib.colors import Normalize
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from evrin.draw.colours import INK, MARK
from evrin.draw.paper import new_sheet
from evrin.draw.sheets.sheet import draw_title_block, frame_axes
from evrin.kernels import Floats
from evrin.survey.contents import TEXT
from evrin.survey.file_inventory import Inventory, all_places
from evrin.survey.unset_heights import is_unset

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_POINTS = 60_000
_MOST_EDGES = 40_000
_TILT, _TURN = np.radians(32.0), np.radians(28.0)
_DROP = 0.22
_LEAST_RANGE = 0.1
_COLOURS = "viridis"
_NO_HEIGHT = "0.62"
_MOST_LISTED = 14
_Projection = Callable[[Floats], Floats]


def contents_sheet(inventory: Inventory) -> Figure:
    """Return what a file holds on one sheet: plan, oblique view, and a list by kind and layer.

    Heights in the oblique view are exaggerated on a flat site; what is at zero height is drawn below the rest, at
    the end of a broken line, not to scale.

    Parameters
    ----------
    inventory : Inventory
        What the file holds, as `evrin.survey.inventory` returns it.

    Returns
    -------
    Figure

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.draw import contents_sheet
    >>> from evrin.formats import look
    >>> from evrin.survey import inventory
    >>> found = inventory(look(small_site().with_name("shots.csv"), "PNEZD"))
    >>> type(contents_sheet(found)).__name__
    'Sheet'
    """
    figure = new_sheet()
    above, below = figure.add_axes((0.05, 0.425, 0.43, 0.535)), figure.add_axes((0.515, 0.425, 0.47, 0.535))
    scene = _Scene(inventory)
    scene.draw_plan(above)
    scene.draw_oblique(below)
    bar = figure.add_axes((0.60, 0.435, 0.30, 0.014))
    drawn = figure.colorbar(ScalarMappable(scene.norm, _COLOURS), cax=bar, orientation="horizontal", extend="both")
    drawn.ax.tick_params(labelsize=7.5, pad=1)
    drawn.ax.ticklabel_format(axis="x", style="plain", useOffset=False)
    drawn.ax.set_title("height", fontsize=8, pad=2)
    _list_rows(figure, inventory)
    contents = inventory.contents
    facts = [
        f"{contents.form}",
        f"units: {contents.stated.units or contents.stated.hinted_units or 'not stated'}; "
        f"reference system: {contents.stated.crs or 'not stated'}",
    ]
    draw_title_block(figure, contents.file, "what came in", facts)
    return figure


class _Scene:
    """All that is drawn, in both views alike."""

    def __init__(self, inventory: Inventory) -> None:
        contents = inventory.contents
        solid = contents.points.column("kind", "point") != TEXT
        self.points = contents.points.xyz[solid]
        self.texts = contents.points.xyz[~solid]
        self.on_floor = is_unset(self.points[:, 2])
        self.lines = [_closed(line.xyz, line.closed) for line in contents.lines]
        self.surfaces = contents.surfaces
        self.cells = np.concatenate([np.empty((0, 3)), *(grid.points()[0] for grid in contents.grids)])
        self.every = all_places(contents)
        heights = self.every[:, 2][~is_unset(self.every[:, 2]) & np.isfinite(self.every[:, 2])]
        raised = heights[np.abs(heights) > 1e-9]
        known = raised if len(raised) else heights if len(heights) else np.zeros(1)
        self.low, self.high = (float(value) for value in np.quantile(known, [0.01, 0.99]))
        self.norm = Normalize(self.low, max(self.high, self.low + _LEAST_RANGE))

    def draw_plan(self, axes: Axes) -> None:
        """Draw all in plan."""
        self._draw(axes, lambda xyz: xyz[:, :2])
        middle = self._middle()
        frame_axes(axes, (*middle[0], *middle[1]))
        axes.set_title("plan", fontsize=9.5, loc="left", color=INK)
        handles = []
        if self.on_floor.any():
            handles.append(_marker("height never set", markerfacecolor="none", markeredgecolor=MARK, markersize=8))
        if np.isnan(self.every[:, 2]).any() or any(_is_bare(line) for line in self.lines):
            handles.append(Line2D([], [], color=_NO_HEIGHT, linewidth=1.4, label="no height, or zero"))
        if len(self.texts):
            handles.append(_marker("text", marker="_", markeredgecolor=_NO_HEIGHT))
        if handles:
            axes.legend(
                handles=handles, ncols=3, fontsize=7.5, frameon=False, handletextpad=0.4,
                loc="lower right", bbox_to_anchor=(1.01, 0.985),
            )  # fmt: skip

    def _middle(self) -> tuple[tuple[float, float], tuple[float, float]]:
        """The window that holds everything except strays."""
        xy = self.every[:, :2]
        low, high = np.quantile(xy, [0.02, 0.98], axis=0)
        margin = 0.6 * max(float((high - low).max()), 1.0)
        near = ((xy >= low - margin) & (xy <= high + margin)).all(axis=1)
        west, south = xy[near].min(axis=0).tolist()
        east, north = xy[near].max(axis=0).tolist()
        side = 0.02 * max(east - west, north - south, 1.0)
        return (west - side, south - side), (east + side, north + side)

    def draw_oblique(self, axes: Axes) -> None:
        """Draw all from above the south, what is at zero height below the rest."""
        (west, south), (east, north) = self._middle()
        size = max(east - west, north - south)
        relief = max(self.high - self.low, 1e-6)
        stretch = float(np.clip(0.18 * size / relief, 1.0, 50.0))
        stretch = float(f"{stretch:.1g}")
        centre = np.array([(west + east) / 2.0, (south + north) / 2.0])
        floor, ceiling = self.low - _DROP * size / stretch, self.high + _DROP * size / stretch

        def project(xyz: Floats) -> Floats:
            x, y = (xyz[:, :2] - centre).T
            z = np.where(np.isfinite(xyz[:, 2]), xyz[:, 2], self.low)
            # Whatever is far below or above is drawn at the lowest or highest level shown, which are not to scale.
            z = (np.clip(z, floor, ceiling) - self.low) * stretch
            right = x * np.cos(_TURN) - y * np.sin(_TURN)
            depth = x * np.sin(_TURN) + y * np.cos(_TURN)
            return np.column_stack((right, depth * np.sin(_TILT) + z * np.cos(_TILT)))

        near = ((self.every[:, :2] >= [west, south]) & (self.every[:, :2] <= [east, north])).all(axis=1)
        self._draw(axes, project, (west, south, east, north))
        dropped = self.points[self.on_floor]
        if len(dropped):
            lifted = dropped.copy()
            lifted[:, 2] = (self.low + self.high) / 2.0
            strings = np.stack((project(lifted), project(dropped)), axis=1)
            axes.add_collection(LineCollection(list(strings), colors=MARK, linewidths=0.9, linestyles=(0, (4, 3))))
        shown = project(self.every[near])
        margin = 0.04 * float(np.ptp(shown, axis=0).max())
        (left, bottom), (right, top) = shown.min(axis=0) - margin, shown.max(axis=0) + margin
        axes.set_xlim(left, right)
        axes.set_ylim(bottom - 0.10 * (top - bottom), top)
        axes.set_aspect("equal")
        axes.set_axis_off()
        title = "oblique, from the south" + (f"; heights {stretch:g} times" if stretch > 1.0 else "")
        if len(dropped):
            title += "; the lowest level is not to scale"
        axes.set_title(title, fontsize=9.5, loc="left", color=INK)

    def _draw(self, axes: Axes, project: _Projection, window: Sequence[float] | None = None) -> None:
        for surface in self.surfaces:
            self._draw_triangles(axes, surface.vertices, surface.edges, project)
        for cloud, size in ((self.points, 3.0), (self.cells, 4.0)):
            self._draw_points(axes, _within(cloud, window), project, size)
        self._draw_lines(axes, project)
        texts = _within(self.texts, window)
        if len(texts):
            x, y = project(np.column_stack((texts[:, :2], np.full(len(texts), np.nan)))).T
            axes.scatter(x, y, s=7, marker="_", color=_NO_HEIGHT, linewidths=0.8)
        dropped = _within(self.points[self.on_floor], window)
        if len(dropped):
            x, y = project(dropped).T
            axes.scatter(x, y, s=90, facecolors="none", edgecolors=MARK, linewidths=1.6, zorder=9)

    def _draw_points(self, axes: Axes, xyz: Floats, project: _Projection, size: float) -> None:
        if not len(xyz):
            return
        step = max(1, len(xyz) // _MOST_POINTS)
        shown = xyz[::step]
        x, y = project(shown).T
        order = np.argsort(-y) if len(shown) < _MOST_POINTS else slice(None)
        dot = size if len(shown) > 5_000 else 14.0
        axes.scatter(
            x[order], y[order], s=dot / (3.0 if len(shown) > 20_000 else 1.0), c=shown[order, 2], cmap=_COLOURS,
            norm=self.norm, linewidths=0, plotnonfinite=True,
        )  # fmt: skip

    def _draw_lines(self, axes: Axes, project: _Projection) -> None:
        if not self.lines:
            return
        shapes = [project(line) for line in self.lines]
        heights = np.array([line[:, 2].mean() for line in self.lines])
        bare = np.array([_is_bare(line) for line in self.lines])
        flat = [shape for shape, is_bare in zip(shapes, bare, strict=True) if is_bare]
        raised = [shape for shape, is_bare in zip(shapes, bare, strict=True) if not is_bare]
        axes.add_collection(LineCollection(flat, colors=_NO_HEIGHT, linewidths=0.7))
        coloured = LineCollection(raised, array=heights[~bare], cmap=_COLOURS, norm=self.norm, linewidths=1.0)
        axes.add_collection(coloured)

    def _draw_triangles(self, axes: Axes, vertices: Floats, edges: np.ndarray, project: _Projection) -> None:
        step = max(1, len(edges) // _MOST_EDGES)
        drawn = edges[::step]
        shape = project(vertices)
        heights = vertices[drawn, 2].mean(axis=1)
        axes.add_collection(LineCollection(shape[drawn], array=heights, cmap=_COLOURS, norm=self.norm, linewidths=0.5))


def _marker(label: str, marker: str = "o", **style: Any) -> Line2D:
    return Line2D([], [], linestyle="none", marker=marker, label=label, **style)


def _is_bare(line: Floats) -> bool:
    height = float(line[:, 2].mean())
    return not np.isfinite(height) or abs(height) <= 1e-9


def _within(xyz: Floats, window: Sequence[float] | None) -> Floats:
    if window is None or not len(xyz):
        return xyz
    west, south, east, north = window
    x, y = xyz[:, 0], xyz[:, 1]
    return xyz[(x >= west) & (x <= east) & (y >= south) & (y <= north)]


def _closed(xyz: Floats, closed: bool) -> Floats:
    return np.vstack((xyz, xyz[:1])) if closed else xyz


def _list_rows(figure: Figure, inventory: Inventory) -> None:
    """Write the table of the inventory below the views, and what looks wrong beside it."""
    heads = ("kind", "layer", "code or class", "count", "vertices", "lowest", "highest", "at zero", "no height")
    places = (0.03, 0.115, 0.20, 0.345, 0.395, 0.45, 0.505, 0.55, 0.605)
    top, step = 0.352, 0.0166
    for head, x, is_left in zip(heads, places, (True,) * 3 + (False,) * 6, strict=True):
        figure.text(x, top, head, fontsize=7.5, fontweight="bold", ha="left" if is_left else "right")
    rows = inventory.rows()
    shown = rows[: _MOST_LISTED - 1] if len(rows) > _MOST_LISTED else rows
    for k, row in enumerate(shown, 1):
        cells = (
            *(row["kind"], _cut(row["layer"], 14), _cut(row["code"], 22), f"{row['count']:,}", f"{row['vertices']:,}"),
            *(_metres(row["lowest"]), _metres(row["highest"]), f"{row['at_zero']:,}", f"{row['no_height']:,}"),
        )
        for cell, x, is_left in zip(cells, places, (True,) * 3 + (False,) * 6, strict=True):
            figure.text(x, top - step * k, cell, fontsize=7.5, ha="left" if is_left else "right")
    if len(rows) > len(shown):
        more = len(rows) - len(shown)
        figure.text(
            0.03, top - step * (len(shown) + 1), f"… and {more} more rows: evrin inspect lists all", fontsize=7.5
        )
    _list_wrong(figure, inventory, top, step)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def _metres(value: float | None) -> str:
    return f"{value:.2f}" if value is not None else "–"


def _list_wrong(figure: Figure, inventory: Inventory, top: float, step: float) -> None:
    remarks = [*inventory.looks_wrong, *inventory.contents.notes]
    figure.text(0.645, top, "what looks wrong, and what to know" if remarks else "nothing looks wrong", fontsize=7.5,
                fontweight="bold", color=INK)  # fmt: skip
    y = top - step
    for number, text in enumerate(remarks):
        lines = textwrap.wrap(text, 68)
        lines = [*lines[:3], lines[3][:60] + " …"] if len(lines) > 4 else lines
        if y - step * len(lines) < 0.105:
            more = f"… and {len(remarks) - number} more: evrin inspect lists all"
            figure.text(0.645, y, more, fontsize=7.5, va="top")
            return
        colour = MARK if number < len(inventory.looks_wrong) else INK
        figure.text(0.637, y + 0.001, "•", fontsize=7.5, va="top", color=colour)
        figure.text(0.645, y, "\n".join(lines), fontsize=7.5, va="top", linespacing=1.2)
        y -= step * len(lines) + 0.005
