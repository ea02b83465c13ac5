"""What files hold, as it is drawn before anything is made of it: points, lines, texts and triangles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.collections import LineCollection
from matplotlib.colors import Normalize
from matplotlib.lines import Line2D

from evrin.draw.colours import GROUPS, INK, MARK
from evrin.draw.label_places import label_places, spread
from evrin.draw.sheets.sheet import frame_axes
from evrin.kernels import Flags, Floats
from evrin.survey.contents import TEXT, Contents
from evrin.survey.file_inventory import all_places
from evrin.survey.unset_heights import is_unset

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_POINTS, _MOST_EDGES, _MOST_GROUPS = 60_000, 40_000, len(GROUPS)
_TILT, _TURN = np.radians(32.0), np.radians(28.0)
_DROP = 0.22
_LEAST_RANGE = 0.1
COLOURS = "viridis"
_NO_HEIGHT, _OTHERS = "0.62", "0.55"
_Projection = Callable[[Floats], Floats]
LABELS = ("number", "code", "height", "layer")


@dataclass(frozen=True, eq=False)
class _Drawn:
    """What one file holds: places, and the group that each belongs to."""

    points: Floats
    point_groups: list[str]
    labels: list[str]
    texts: Floats
    words: list[str]
    lines: list[Floats]
    line_groups: list[str]
    surfaces: list[tuple[Floats, np.ndarray, str]]


class ContentsScene:
    """All that is drawn, in both views alike.

    Parameters
    ----------
    contents : sequence of Contents
        What each file holds.
    label : str
        What is written beside points: ``number``, ``code``, ``height`` or ``layer``; empty for nothing.
    """

    def __init__(self, contents: Sequence[Contents], label: str = "") -> None:
        self.every = np.concatenate([np.empty((0, 3)), *map(all_places, contents)])
        self.is_several = len(contents) > 1
        units = {each.stated.units or each.stated.hinted_units for each in contents}
        self.unit = f" {units.pop()}" if len(units) == 1 and "" not in units else ""
        heights = self.every[:, 2][~is_unset(self.every[:, 2]) & np.isfinite(self.every[:, 2])]
        raised = heights[np.abs(heights) > 1e-9]
        shown = raised if len(raised) else heights if len(heights) else np.zeros(1)
        self.low, self.high = (float(value) for value in np.quantile(shown, [0.01, 0.99]))
        self.norm = Normalize(self.low, max(self.high, self.low + _LEAST_RANGE))
        self.is_flat = self.high - self.low < _LEAST_RANGE
        self.files = [_drawn(each, label, by_file=self.is_several) for each in contents]
        self.points = np.concatenate([np.empty((0, 3)), *(each.points for each in self.files)])
        self.on_floor = is_unset(self.points[:, 2]) & (not self.is_by_group)
        self.lines = [line for each in self.files for line in each.lines]
        counted = Counter(name for each in self.files for name in each.point_groups + each.line_groups)
        counted.update(name for each in self.files for *_, name in each.surfaces)
        names = [name for name, _ in counted.most_common()]
        self.colour_of = dict(zip(names, GROUPS, strict=False))
        self.counts = {name: counted[name] for name in names}

    @property
    def is_by_group(self) -> bool:
        """Whether colours tell files or layers apart, since heights say nothing or several files are drawn."""
        return self.is_several or self.is_flat

    def draw_plan(self, axes: Axes) -> None:
        """Draw all in plan, and mark at the edge what lies far away."""
        self._draw(axes, lambda xyz: xyz[:, :2])
        (west, south), (east, north) = self._middle()
        frame_axes(axes, (west, south, east, north))
        axes.set_title("plan", fontsize=9.5, loc="left", color=INK)
        self._write_texts(axes)
        self._mark_strays(axes, (west, south), (east, north))
        handles = self._handles()
        if handles:
            axes.legend(
                handles=handles, ncols=3, fontsize=7.5, frameon=False, handletextpad=0.4,
                loc="lower right", bbox_to_anchor=(1.01, 0.985),
            )  # fmt: skip

    def group_handles(self) -> list[Line2D]:
        """Return an entry of the legend for each file or layer, the largest first, with how many things it holds."""
        handles = [
            _marker(f"{name or 'no layer'}  ({self.counts[name]:,})", "s", markerfacecolor=colour, markersize=7)
            for name, colour in self.colour_of.items()
        ]
        left = len(self.counts) - len(self.colour_of)
        if left > 0:
            handles.append(_marker(f"{left} others", "s", markerfacecolor=_OTHERS, markersize=7))
        return handles

    def _handles(self) -> list[Line2D]:
        handles = []
        if self.on_floor.any():
            handles.append(_marker("height never set", markerfacecolor="none", markeredgecolor=MARK, markersize=8))
        if not self.is_by_group and (np.isnan(self.every[:, 2]).any() or any(map(_is_bare, self.lines))):
            handles.append(Line2D([], [], color=_NO_HEIGHT, linewidth=1.4, label="no height, or zero"))
        return handles

    def _middle(self) -> tuple[tuple[float, float], tuple[float, float]]:
        """The window that holds everything except strays."""
        xy = self.every[:, :2]
        near = self._is_near()
        west, south = xy[near].min(axis=0).tolist()
        east, north = xy[near].max(axis=0).tolist()
        side = 0.02 * max(east - west, north - south, 1.0)
        return (west - side, south - side), (east + side, north + side)

    def _is_near(self) -> Flags:
        xy = self.every[:, :2]
        low, high = np.quantile(xy, [0.02, 0.98], axis=0)
        margin = 0.6 * max(float((high - low).max()), 1.0)
        return np.asarray(((xy >= low - margin) & (xy <= high + margin)).all(axis=1))

    def _mark_strays(self, axes: Axes, low: tuple[float, float], high: tuple[float, float]) -> None:
        """Draw an arrow at the edge for the places in each direction that lie beyond it, with how far."""
        strays = self.every[~self._is_near(), :2]
        if not len(strays):
            return
        centre = (np.array(low) + high) / 2.0
        sector = (
            np.round(np.arctan2(strays[:, 1] - centre[1], strays[:, 0] - centre[0]) / (np.pi / 4.0)).astype(int) % 8
        )
        half = np.array([np.ptp(axes.get_xlim()), np.ptp(axes.get_ylim())]) / 2.0
        middle = np.array([np.mean(axes.get_xlim()), np.mean(axes.get_ylim())])
        for number in np.unique(sector).tolist():
            own = strays[sector == number]
            to_them = np.median(own, axis=0) - centre
            farthest = float(np.hypot(*(own - centre).T).max())
            edge = middle + to_them * float(np.min(half / np.maximum(np.abs(to_them), 1e-12)))
            unit = to_them / np.hypot(*to_them)
            axes.annotate(
                "",
                edge,
                edge - unit * 0.09 * half.min(),
                arrowprops={"arrowstyle": "-|>", "color": MARK, "linewidth": 1.6},
                annotation_clip=False,
                zorder=10,
            )
            several = f"{len(own):,} places" if len(own) > 1 else "1 place"
            x, y = (edge - unit * 0.11 * half.min()).tolist()
            axes.text(
                x,
                y,
                f"{several}, {'up to ' if len(own) > 1 else ''}{farthest:,.0f}{self.unit} away",
                fontsize=7.5,
                color=MARK,
                ha="right" if unit[0] > 0.4 else "left" if unit[0] < -0.4 else "center",
                va="top" if unit[1] > 0.4 else "bottom" if unit[1] < -0.4 else "center",
                zorder=10,
                bbox={"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1.0},
            )

    def _write_texts(self, axes: Axes) -> None:
        """Write the labels that are asked for, and the texts of drawings, as many as there is room for."""
        places = np.concatenate([np.empty((0, 3)), *(each.points for each in self.files)])
        labels = [label for each in self.files for label in each.labels]
        chosen = [k for k in spread(len(labels)).tolist() if labels[k]]
        if chosen:
            label_places(axes, places[chosen, :2], [labels[k] for k in chosen], size=6.0)
            return
        texts = np.concatenate([np.empty((0, 3)), *(each.texts for each in self.files)])
        words = [word for each in self.files for word in each.words]
        order = spread(len(words))
        label_places(axes, texts[order, :2], [words[k] for k in order.tolist()], size=6.0, color="0.30")

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
        for each in self.files:
            for vertices, edges, group in each.surfaces:
                self._draw_edges(axes, project(vertices), edges, vertices, group)
            self._draw_points(axes, each, project, window)
            self._draw_lines(axes, each, project)
            texts = _within(each.texts, window)
            if len(texts):
                x, y = project(np.column_stack((texts[:, :2], np.full(len(texts), np.nan)))).T
                axes.scatter(x, y, s=3, marker=".", color=_NO_HEIGHT, linewidths=0.8)
        dropped = _within(self.points[self.on_floor], window)
        if len(dropped):
            x, y = project(dropped).T
            axes.scatter(x, y, s=90, facecolors="none", edgecolors=MARK, linewidths=1.6, zorder=9)

    def _draw_points(self, axes: Axes, each: _Drawn, project: _Projection, window: Sequence[float] | None) -> None:
        is_seen = _is_within(each.points, window)
        if not is_seen.any():
            return
        rows = np.flatnonzero(is_seen)[:: max(1, int(is_seen.sum()) // _MOST_POINTS)]
        x, y = project(each.points[rows]).T
        # From the back to the front, so that what is near covers what is far.
        order = np.argsort(-y, kind="stable") if len(rows) < _MOST_POINTS else np.arange(len(rows))
        size = (3.0 if len(rows) > 5_000 else 14.0) / (3.0 if len(rows) > 20_000 else 1.0)
        if self.is_by_group:
            colours = [self.colour_of.get(each.point_groups[k], _OTHERS) for k in rows[order].tolist()]
            axes.scatter(x[order], y[order], s=size, c=colours, linewidths=0)
            return
        axes.scatter(
            x[order], y[order], s=size, c=each.points[rows[order], 2], cmap=COLOURS, norm=self.norm, linewidths=0,
            plotnonfinite=True,
        )  # fmt: skip

    def _draw_lines(self, axes: Axes, each: _Drawn, project: _Projection) -> None:
        if not each.lines:
            return
        shapes = [project(line) for line in each.lines]
        if self.is_by_group:
            colours = [self.colour_of.get(group, _OTHERS) for group in each.line_groups]
            axes.add_collection(LineCollection(shapes, colors=colours, linewidths=0.9))
            return
        heights = np.array([line[:, 2].mean() for line in each.lines])
        bare = np.array([_is_bare(line) for line in each.lines])
        flat = [shape for shape, is_bare in zip(shapes, bare, strict=True) if is_bare]
        raised = [shape for shape, is_bare in zip(shapes, bare, strict=True) if not is_bare]
        axes.add_collection(LineCollection(flat, colors=_NO_HEIGHT, linewidths=0.7))
        axes.add_collection(LineCollection(raised, array=heights[~bare], cmap=COLOURS, norm=self.norm, linewidths=1.0))

    def _draw_edges(self, axes: Axes, shape: Floats, edges: np.ndarray, vertices: Floats, group: str) -> None:
        drawn = edges[:: max(1, len(edges) // _MOST_EDGES)]
        if self.is_by_group:
            axes.add_collection(
                LineCollection(list(shape[drawn]), colors=self.colour_of.get(group, _OTHERS), linewidths=0.4)
            )
            return
        heights = vertices[drawn, 2].mean(axis=1)
        axes.add_collection(
            LineCollection(list(shape[drawn]), array=heights, cmap=COLOURS, norm=self.norm, linewidths=0.5)
        )


def _drawn(contents: Contents, label: str, *, by_file: bool) -> _Drawn:
    points = contents.points
    solid = points.take(points.column("kind", "point") != TEXT)
    texts = points.take(points.column("kind", "point") == TEXT)
    cells = np.concatenate([np.empty((0, 3)), *(grid.points()[0] for grid in contents.grids)])
    layers = [str(layer) for layer in solid.column("layer").tolist()]
    words = {
        "": lambda: [""] * len(solid),
        "number": lambda: [str(each) for each in solid.shots.numbers.tolist()],
        "code": lambda: [str(each) for each in solid.shots.codes.tolist()],
        "height": lambda: [f"{z:.2f}" if np.isfinite(z) else "" for z in solid.xyz[:, 2].tolist()],
        "layer": lambda: layers,
    }[label]()
    line_layers = [str(line.facts.get("layer", "")) or line.name for line in contents.lines]
    return _Drawn(
        points=np.concatenate((solid.xyz, cells)),
        point_groups=[contents.file] * (len(solid) + len(cells)) if by_file else layers + ["cells"] * len(cells),
        labels=words + [""] * len(cells),
        texts=texts.xyz,
        words=[str(word) for word in texts.column("text").tolist()],
        lines=[np.vstack((line.xyz, line.xyz[:1])) if line.closed else line.xyz for line in contents.lines],
        line_groups=[contents.file] * len(line_layers) if by_file else line_layers,
        surfaces=[
            (surface.vertices, surface.edges, contents.file if by_file else surface.name)
            for surface in contents.surfaces
        ],
    )


def _marker(label: str, marker: str = "o", **style: object) -> Line2D:
    return Line2D([], [], linestyle="none", marker=marker, label=label, **{"markeredgecolor": "none", **style})  # type: ignore[arg-type]


def _is_bare(line: Floats) -> bool:
    height = float(line[:, 2].mean())
    return not np.isfinite(height) or abs(height) <= 1e-9


def _is_within(xyz: Floats, window: Sequence[float] | None) -> Flags:
    if window is None:
        return np.ones(len(xyz), np.bool_)
    west, south, east, north = window
    x, y = xyz[:, 0], xyz[:, 1]
    return np.asarray((x >= west) & (x <= east) & (y >= south) & (y <= north))


def _within(xyz: Floats, window: Sequence[float] | None) -> Floats:
    return xyz[_is_within(xyz, window)]
