"""Patches: triangles of one or several surfaces, each of which knows its own, cut along segments exactly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats, Indices, Ints
from evrin.making.limits.limit_cells import layer_of
from evrin.making.patches.arranging import NOWHERE
from evrin.surface.locator import Locator
from evrin.surface.surface import Surface
from evrin.tin.exact.snap import snap_width
from evrin.tin.overlay.overlap import mark_upright
from evrin.tin.overlay.overlap_arrays import Layer
from evrin.tin.query import compact


@dataclass(frozen=True, eq=False)
class Patch:
    """Triangles with plan area.

    Attributes
    ----------
    vertices : (n, 3) float64
        Easting, northing, height.
    triangles : (m, 3) int32
        Rows of *vertices*.
    edge_lines : (m, 3) int32
        Line of edges ab, bc, ca, or -1.
    surface_of : (m,) int32
        Which surface each triangle is of.
    row_of : (n,) int64
        Row of all surfaces' vertices, one surface after the other; -1 for one that was made.
    snap : float
        Places nearer to one another are one.
    """

    vertices: Floats
    triangles: Ints
    edge_lines: Ints
    surface_of: Ints
    row_of: Indices
    snap: float

    @cached_property
    def mates(self) -> Ints:
        """(3 m,) int32: the half-edge across each half-edge, -1 on the rim."""
        return compact.mates_of(self.triangles, len(self.vertices))

    @cached_property
    def locator(self) -> Locator:
        """The box tree over its triangles."""
        return Locator.over(self.vertices, self.triangles, self.mates)

    @cached_property
    def layer(self) -> Layer:
        """Itself, ready to be walked through."""
        locator = self.locator
        is_upright = np.empty(len(self.triangles), np.bool_)
        mark_upright(self.vertices, self.triangles, is_upright)
        return Layer(
            vertices=self.vertices,
            triangles=self.triangles,
            mate=self.mates,
            order=locator.order,
            boxes=locator.boxes,
            levels=locator.levels,
            is_upright=is_upright,
        )

    @property
    def middles(self) -> Floats:
        """(m, 2) float64: the middle of each triangle."""
        x, y = self.vertices[:, 0], self.vertices[:, 1]
        a, b, c = self.triangles.T
        return np.column_stack(((x[a] + x[b] + x[c]) / 3.0, (y[a] + y[b] + y[c]) / 3.0))

    @property
    def areas(self) -> Floats:
        """(m,) float64: plan area of each triangle."""
        out = np.empty(len(self.triangles))
        compact.fill_areas(self.vertices, self.triangles, out)
        return out

    @property
    def area(self) -> float:
        """Plan area."""
        return float(self.areas.sum())

    @property
    def used(self) -> Indices:
        """Vertices that its triangles have."""
        return used_in(self.triangles, len(self.vertices))

    def rim(self) -> Ints:
        """Return the two vertices (e, 2) of each edge without a neighbour, ground on the left."""
        half = np.flatnonzero(self.mates < 0)
        return np.column_stack(self.ends(half))

    def ends(self, half: Indices) -> tuple[Ints, Ints]:
        """Return tail and head of half-edges."""
        flat = self.triangles.ravel()
        return flat[half], flat[half - half % 3 + (half + 1) % 3]

    def compacted(self) -> tuple[Floats, Ints, Indices]:
        """Return the vertices that are used, the triangles, and *row_of* of each vertex."""
        used = self.used
        number = np.full(len(self.vertices), NOWHERE, np.int32)
        number[used] = np.arange(len(used), dtype=np.int32)
        vertices = self.vertices[used]
        return vertices, number[self.triangles], self.row_of[used]

    def only(self, triangles: Flags) -> Patch:
        """Return some of its triangles, all vertices kept."""
        if triangles.all():
            return self
        return replace(
            self,
            triangles=self.triangles[triangles],
            edge_lines=self.edge_lines[triangles],
            surface_of=self.surface_of[triangles],
        )

    def raised(self, by: Floats) -> Patch:
        """Return it with other heights of its vertices."""
        vertices = self.vertices.copy()
        vertices[:, 2] += by
        return replace(self, vertices=vertices)


def used_in(rows: Ints | Indices, count: int) -> Indices:
    """Return which of so many numbers are in an array, rising."""
    marks = np.zeros(count, np.bool_)
    marks[rows] = True
    return np.flatnonzero(marks)


def longest_and_width(places: Floats) -> tuple[Indices, Floats]:
    """Return which side of triangles (m, 3, 2) is the longest, and how far the third corner is away from it."""
    sides = np.roll(places, -1, axis=1) - places
    lengths = np.hypot(sides[..., 0], sides[..., 1])
    longest = lengths.argmax(axis=1)
    size = np.maximum(lengths[np.arange(len(places)), longest], np.finfo(np.float64).tiny)
    return longest, np.abs(sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0]) / size


def snap_of(*places: Floats) -> float:
    """Return how near places of several arrays (n, 2 or more) must be to one another to be one."""
    return 4.0 * max(snap_width(each[:, :2]) for each in places)


def patch_of(surface: Surface, snap: float, number: int = 0, first_row: int = 0, first_line: int = 0) -> Patch:
    """Return a surface as a patch; upright faces, which have no plan area, are left out.

    Raises
    ------
    DataError
        Where a vertex has no height.
    """
    bad = ~np.isfinite(surface.vertices[:, 2])
    if bad.any():
        x, y = surface.vertices[int(np.argmax(bad)), :2].tolist()
        raise DataError(f"{surface.name}: the vertex at {x:.3f}, {y:.3f} has no height; remove it first")
    layer = layer_of(surface, np.zeros(2))
    lines = np.where(surface.edge_lines >= 0, surface.edge_lines + np.int32(first_line), np.int32(NOWHERE))
    rows = np.arange(first_row, first_row + len(surface.vertices))
    count = len(surface.triangles)
    patch = Patch(
        vertices=layer.vertices,
        triangles=surface.triangles,
        edge_lines=lines,
        surface_of=np.full(count, number, np.int32),
        row_of=rows,
        snap=snap,
    )
    if layer.is_upright.any():
        return patch.only(~layer.is_upright)
    vars(patch).update(mates=surface.mates, layer=layer)
    vars(patch)["locator"] = Locator(
        vertices=layer.vertices,
        triangles=surface.triangles,
        mate=surface.mates,
        order=layer.order,
        boxes=layer.boxes,
        levels=layer.levels,
    )
    return patch


def without_rim_slivers(patch: Patch) -> Patch:
    """Return a patch without triangles at its rim that only rounding left between places meant to be in line.

    Such a triangle has no ground, but upright as it is, it gives places on the rim two heights.
    """
    longest, width = longest_and_width(patch.vertices[patch.triangles, :2])
    while True:
        on_rim = patch.mates.reshape(-1, 3)[np.arange(len(longest)), longest] < 0
        slivers = on_rim & (width <= patch.snap)
        if not slivers.any() or slivers.all():
            return patch
        patch, longest, width = patch.only(~slivers), longest[~slivers], width[~slivers]


def merged(parts: Sequence[Patch]) -> Patch:
    """Return several patches as one, their vertices apart."""
    starts = np.cumsum([0, *(len(part.vertices) for part in parts)])
    triangles = [part.triangles + np.int32(start) for part, start in zip(parts, starts, strict=False)]
    return Patch(
        vertices=np.concatenate([part.vertices for part in parts]),
        triangles=np.concatenate(triangles),
        edge_lines=np.concatenate([part.edge_lines for part in parts]),
        surface_of=np.concatenate([part.surface_of for part in parts]),
        row_of=np.concatenate([part.row_of for part in parts]),
        snap=parts[0].snap,
    )


def merged_triangles(rest: Patch, changed: Patch) -> Patch:
    """Return the triangles of two patches of which the second has all vertices of the first, and more behind them."""
    return replace(
        changed,
        triangles=np.concatenate((rest.triangles, changed.triangles)),
        edge_lines=np.concatenate((rest.edge_lines, changed.edge_lines)),
        surface_of=np.concatenate((rest.surface_of, changed.surface_of)),
    )
