"""Patches: triangles of one or several surfaces, each of which knows its own, cut along segments exactly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from evrin.analysis.limit_cells import layer_of
from evrin.errors import DataError
from evrin.kernels import Flags, Floats, Indices, Ints
from evrin.surface.locator import Locator
from evrin.surface.merged_places import mesh_of_places
from evrin.surface.surface import Surface
from evrin.tin import carve, compact, locate
from evrin.tin.along_segments import met_by
from evrin.tin.curve_order import distinct_places
from evrin.tin.overlap import mark_upright
from evrin.tin.overlap_arrays import Layer
from evrin.tin.snap import snap_width

# Heights of one place that differ by no more are one height; cutting rounds by far less.
SAME_HEIGHT = 1e-8
NOWHERE = -1


@dataclass(frozen=True, eq=False)
class Patch:
    """Triangles with plan area, in coordinates of an origin of their own.

    Attributes
    ----------
    vertices : (n, 3) float64
    triangles : (m, 3) int32
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
        found = self.locator
        is_upright = np.empty(len(self.triangles), np.bool_)
        mark_upright(self.vertices, self.triangles, is_upright)
        return Layer(self.vertices, self.triangles, self.mates, found.order, found.boxes, found.levels, is_upright)

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

    def compacted(self, origin: Floats) -> tuple[Floats, Ints, Indices]:
        """Return the vertices that are used, at their places beyond an origin, the triangles, and *row_of* of each.

        The origin is such that taking it off and adding it again loses nothing.
        """
        used = self.used
        number = np.full(len(self.vertices), NOWHERE, np.int32)
        number[used] = np.arange(len(used), dtype=np.int32)
        vertices = self.vertices[used]
        vertices[:, :2] += origin
        return vertices, number[self.triangles], self.row_of[used]

    def only(self, chosen: Flags) -> Patch:
        """Return some of its triangles, all vertices kept."""
        if chosen.all():
            return self
        return replace(
            self,
            triangles=self.triangles[chosen],
            edge_lines=self.edge_lines[chosen],
            surface_of=self.surface_of[chosen],
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


def patch_of(
    surface: Surface, origin: Floats, snap: float, number: int = 0, first_row: int = 0, first_line: int = 0
) -> Patch:
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
    layer = layer_of(surface, origin)
    lines = np.where(surface.edge_lines >= 0, surface.edge_lines + np.int32(first_line), np.int32(NOWHERE))
    rows = np.arange(first_row, first_row + len(surface.vertices))
    count = len(surface.triangles)
    patch = Patch(layer.vertices, surface.triangles, lines, np.full(count, number, np.int32), rows, snap)
    if layer.is_upright.any():
        return patch.only(~layer.is_upright)
    vars(patch).update(mates=surface.mates, layer=layer)
    vars(patch)["locator"] = Locator(
        layer.vertices, surface.triangles, surface.mates, layer.order, layer.boxes, layer.levels
    )
    return patch


def merged(parts: Sequence[Patch]) -> Patch:
    """Return several patches as one, their vertices apart."""
    starts = np.cumsum([0, *(len(part.vertices) for part in parts)])
    triangles = [part.triangles + np.int32(start) for part, start in zip(parts, starts, strict=False)]
    return Patch(
        np.concatenate([part.vertices for part in parts]),
        np.concatenate(triangles),
        np.concatenate([part.edge_lines for part in parts]),
        np.concatenate([part.surface_of for part in parts]),
        np.concatenate([part.row_of for part in parts]),
        parts[0].snap,
    )


def merged_triangles(rest: Patch, changed: Patch) -> Patch:
    """Return the triangles of two patches of which the second has all vertices of the first, and more behind them."""
    return replace(
        changed,
        triangles=np.concatenate((rest.triangles, changed.triangles)),
        edge_lines=np.concatenate((rest.edge_lines, changed.edge_lines)),
        surface_of=np.concatenate((rest.surface_of, changed.surface_of)),
    )


def cut_along(patch: Patch, segments: Floats) -> Patch:
    """Return a patch whose triangles are cut along segments (s, 4), its ground unchanged.

    Only triangles that a segment touches are divided; their parts come last. New vertices lie on the triangles that
    they divide.
    """
    if not len(segments) or not len(patch.triangles):
        return patch
    met = met_by(patch.layer, segments, 4.0 * patch.snap)
    if not met.any():
        return patch
    divided = _divided(patch, np.flatnonzero(met), segments)
    return merged_triangles(patch.only(~met), divided)


def _divided(patch: Patch, met: Indices, segments: Floats) -> Patch:
    """The triangles that are met, divided; all vertices of the patch, and new ones behind them."""
    corners = patch.triangles[met]
    used = used_in(corners, len(patch.vertices))
    local = np.searchsorted(used, corners).astype(np.int32)
    rows = np.ascontiguousarray(patch.vertices[used])
    xy = np.ascontiguousarray(rows[:, :2])
    order, starts, mesh, _ = mesh_of_places(xy, *distinct_places(xy))
    mesh.snap = patch.snap
    mesh.z[: len(starts) - 1] = 0.0
    place_of = np.empty(len(used), np.int32)
    place_of[order] = np.repeat(np.arange(len(starts) - 1, dtype=np.int32), np.diff(starts))
    at = place_of[local]
    ends = np.stack((at, np.roll(at, -1, axis=1)), axis=2).reshape(-1, 2)
    owners = patch.edge_lines[met].ravel()
    # An edge that is a line of one of its two triangles is a line.
    order = np.argsort(-owners, kind="stable")
    ends, owners = ends[order], owners[order]
    ends, first = _distinct_pairs(ends, len(used))
    owners = owners[first]
    _, of_segment = mesh.force(ends, np.zeros(len(ends), np.bool_), exact=True)
    owners = owners[of_segment]
    places = segments.reshape(-1, 2)
    before = mesh.vertex_count
    number = mesh.insert(np.ascontiguousarray(places), np.zeros(len(places))).reshape(-1, 2)
    number, _ = _distinct_pairs(number, mesh.vertex_count)
    fresh = np.arange(before, mesh.vertex_count, dtype=np.int32)
    mesh.force(number, np.zeros(len(number), np.bool_), fresh=fresh)
    mesh.z[: mesh.vertex_count] = 0.0
    carve.real_triangles(mesh.arrays, mesh.triangle_count, mesh.vertex_count)
    reading = mesh.read()
    xy = mesh.xy[reading.vertices]
    middles = xy[reading.triangles].mean(axis=1)
    under = Locator.over(rows, local, compact.mates_of(local, len(rows)))
    parent = under.triangles_at(np.ascontiguousarray(middles))
    kept = parent >= 0
    kept[kept] = ~_beyond_rim(mesh.xy, reading.vertices[reading.triangles[kept]], before, patch.snap)
    parent = parent[kept]
    lines = np.append(owners, np.full(len(number), NOWHERE))
    lines = np.append(lines, NOWHERE)[np.where(reading.lines < len(lines), reading.lines, NOWHERE)][kept]
    placed = reading.vertices[reading.triangles[kept]]
    new, triangles = _with_heights(rows, local, parent, at, placed, mesh.xy)
    number_of = np.concatenate((used, len(patch.vertices) + np.arange(len(new))))
    return Patch(
        np.concatenate((patch.vertices, new)),
        number_of[triangles].astype(np.int32),
        lines.astype(np.int32),
        patch.surface_of[met][parent],
        np.concatenate((patch.row_of, np.full(len(new), NOWHERE))),
        patch.snap,
    )


def _distinct_pairs(ends: Ints, count: int) -> tuple[Ints, Indices]:
    """Pairs of different numbers below a count, the smaller first, each once; and the first row that has it."""
    low, high = ends.min(axis=1).astype(np.int64), ends.max(axis=1).astype(np.int64)
    keys, first = np.unique(low * count + high, return_index=True)
    apart = keys // count != keys % count
    keys, first = keys[apart], first[apart]
    return np.column_stack((keys // count, keys % count)).astype(np.int32), first


def _beyond_rim(xy: Floats, corners: Ints, first_new: int, snap: float) -> Flags:
    """Which triangles only rounding left beyond a rim that is led through new vertices: as wide as nothing."""
    longest, width = longest_and_width(xy[corners])
    middle = corners[np.arange(len(corners)), (longest + 2) % 3]
    suspects = np.flatnonzero((width <= 2.0 * snap) & (middle >= first_new))
    out = np.zeros(len(corners), np.bool_)
    mates = compact.mates_of(corners, int(corners.max()) + 1) if len(suspects) else np.empty(0, np.int32)
    while len(suspects):
        across = mates[3 * suspects + longest[suspects]]
        is_free = (across < 0) | out[across // 3]
        if not is_free.any():
            break
        out[suspects[is_free]] = True
        suspects = suspects[~is_free]
    return out


def _with_heights(
    rows: Floats, local: Ints, parent: Indices, at: Ints, placed: Ints, xy: Floats
) -> tuple[Floats, NDArray[np.int64]]:
    """New vertices, and the corners of divided triangles: rows of what was there, and after them of what is new."""
    # Corner by corner: is it a corner of the triangle that was divided?
    is_corner = placed[:, :, None] == at[parent][:, None, :]
    out = np.where(is_corner.any(axis=2), np.take_along_axis(local[parent], is_corner.argmax(axis=2), axis=1), NOWHERE)
    open_at = np.flatnonzero(out.ravel() < 0)
    vertex = placed.ravel()[open_at]
    places = np.ascontiguousarray(xy[vertex])
    heights = np.empty(len(open_at))
    locate.heights_in_triangles(rows, local, np.repeat(parent, 3)[open_at], places, heights)
    # A height that another triangle has there already is the same vertex; a step in the ground is another.
    pairs = np.unique(at.ravel().astype(np.int64) * len(rows) + local.ravel())
    old_vertex, old_row = pairs // len(rows), pairs % len(rows)
    is_asked = np.zeros(int(max(placed.max(), at.max())) + 1, np.bool_)
    is_asked[vertex] = True
    is_near = is_asked[old_vertex]
    old_vertex, old_row = old_vertex[is_near], old_row[is_near]
    every = np.concatenate((old_vertex, vertex))
    z = np.concatenate((rows[old_row, 2], heights))
    is_new = np.arange(len(every)) >= len(old_vertex)
    order = np.lexsort((is_new, z, every))
    starts = np.ones(len(every), np.bool_)
    starts[1:] = (np.diff(every[order]) != 0) | (np.diff(z[order]) > SAME_HEIGHT)
    group = np.empty(len(every), np.int64)
    group[order] = np.cumsum(starts) - 1
    # Of each group an old vertex leads, or else the first in order.
    lead = np.full(int(starts.sum()), NOWHERE)
    lead[group[order[::-1]]] = order[::-1]
    olds = np.flatnonzero(~is_new)
    lead[group[olds[::-1]]] = olds[::-1]
    made = np.flatnonzero(is_new[lead])
    row_of_group = np.where(is_new[lead], 0, np.append(old_row, 0)[np.minimum(lead, len(old_row))])
    row_of_group[made] = len(rows) + np.arange(len(made))
    flat = out.ravel()
    flat[open_at] = row_of_group[group[len(old_vertex) :]]
    new = np.column_stack((xy[every[lead[made]]], z[lead[made]]))
    return new, flat.reshape(-1, 3)
