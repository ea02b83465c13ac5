"""Meshes that cover a place more than once: closed ones, overhangs, several sheets; and their top or bottom alone."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, FloatRows, Floats, Indices, IntRows, Ints, Mutable, as_index, kernel
from evrin.surface.components import only
from evrin.surface.surface import Surface
from evrin.tin.overlay.overlap import mark_upright

Sheet = Literal["top", "bottom"]
# Per triangle: how many cells of the index there are.
_CELLS = 1.0
_INSIDE = 1e-9


@kernel
def _cells_of(
    xy: FloatRows,
    triangles: IntRows,
    low: Floats,
    side: float,
    shape: Indices,
    starts: Mutable[Indices],
    out: Mutable[Ints],
) -> None:
    """Count, or where starts are settled write, the triangles whose box meets each cell."""
    writing = out.shape[0] > 0
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x0 = as_index((min(xy[a, 0], xy[b, 0], xy[c, 0]) - low[0]) / side)
        x1 = as_index((max(xy[a, 0], xy[b, 0], xy[c, 0]) - low[0]) / side)
        y0 = as_index((min(xy[a, 1], xy[b, 1], xy[c, 1]) - low[1]) / side)
        y1 = as_index((max(xy[a, 1], xy[b, 1], xy[c, 1]) - low[1]) / side)
        for row in range(y0, y1 + 1):
            for column in range(x0, x1 + 1):
                cell = row * shape[1] + column
                if writing:
                    out[starts[cell]] = t
                starts[cell] += 1


@kernel
def _mark_covered(
    xyz: FloatRows,
    triangles: IntRows,
    low: Floats,
    side: float,
    shape: Indices,
    starts: Indices,
    held: Ints,
    out: Mutable[Ints],
) -> None:
    """Mark triangles that have another above them (1) or below (2), where the middle of one is inside the other."""
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x = (xyz[a, 0] + xyz[b, 0] + xyz[c, 0]) / 3.0
        y = (xyz[a, 1] + xyz[b, 1] + xyz[c, 1]) / 3.0
        z = (xyz[a, 2] + xyz[b, 2] + xyz[c, 2]) / 3.0
        cell = as_index((y - low[1]) / side) * shape[1] + as_index((x - low[0]) / side)
        for m in range(starts[cell], starts[cell + 1]):
            u = held[m]
            if u == t:
                continue
            p, q, r = triangles[u, 0], triangles[u, 1], triangles[u, 2]
            ux, uy = xyz[q, 0] - xyz[p, 0], xyz[q, 1] - xyz[p, 1]
            wx, wy = xyz[r, 0] - xyz[p, 0], xyz[r, 1] - xyz[p, 1]
            twice = ux * wy - uy * wx
            if twice == 0.0:
                continue
            s = ((x - xyz[p, 0]) * wy - (y - xyz[p, 1]) * wx) / twice
            v = ((y - xyz[p, 1]) * ux - (x - xyz[p, 0]) * uy) / twice
            if s <= _INSIDE or v <= _INSIDE or s + v >= 1.0 - _INSIDE:
                continue
            height = xyz[p, 2] + s * (xyz[q, 2] - xyz[p, 2]) + v * (xyz[r, 2] - xyz[p, 2])
            lower, upper = (t, u) if z < height else (u, t)
            out[lower] |= 1
            out[upper] |= 2


def covered(surface: Surface) -> tuple[Flags, Flags]:
    """Return which triangles of a mesh have another above them, and which have one below.

    Parameters
    ----------
    surface : Surface
        The surface to examine.

    Returns
    -------
    has_above, has_below : (m,) bool

    Examples
    --------
    >>> two = Surface.from_arrays(
    ...     [[0, 0, 1], [8, 0, 1], [0, 8, 1], [0, 0, 5], [8, 0, 5], [0, 8, 5]], [[0, 1, 2], [3, 4, 5]]
    ... )
    >>> [each.tolist() for each in covered(two)]
    [[True, False], [False, True]]
    """
    xyz, triangles = surface.vertices, surface.triangles
    corners = xyz[triangles]
    boxes = np.ptp(corners[..., :2], axis=1)
    low = xyz[:, :2].min(axis=0)
    size = np.ptp(xyz[:, :2], axis=0)
    least = float(size.max()) / np.sqrt(4.0 * _CELLS * len(triangles) + 1.0)
    side = max(float(boxes.mean()), least, 1e-12)
    shape = (np.floor(size / side)[::-1] + 2.0).astype(np.int64)
    starts = np.zeros(int(shape.prod()) + 1, np.int64)
    _cells_of(xyz, triangles, low, side, shape, starts, np.empty(0, np.int32))
    counts = starts[:-1].copy()
    starts[:] = np.concatenate(([0], np.cumsum(counts)))
    held = np.empty(int(starts[-1]), np.int32)
    if len(held):
        _cells_of(xyz, triangles, low, side, shape, starts[:-1].copy(), held)
    marks = np.zeros(len(triangles), np.int32)
    _mark_covered(xyz, triangles, low, side, shape, starts, held, marks)
    return (marks & 1) != 0, (marks & 2) != 0


def sheet_of(surface: Surface, which: Sheet) -> Surface:
    """Return the top or the bottom of a mesh alone: the triangles without another above them, or below.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    which : {"top", "bottom"}
        Which of two sheets one above the other.

    Returns
    -------
    Surface

    Raises
    ------
    DataError
        Where no triangle is left.

    Examples
    --------
    >>> two = Surface.from_arrays(
    ...     [[0, 0, 1], [8, 0, 1], [0, 8, 1], [0, 0, 5], [8, 0, 5], [0, 8, 5]], [[0, 1, 2], [3, 4, 5]]
    ... )
    >>> sheet_of(two, "top").vertices[:, 2].tolist()
    [5.0, 5.0, 5.0]
    """
    has_above, has_below = covered(surface)
    kept = ~(has_above if which == "top" else has_below)
    if not kept.any():
        raise DataError(f"{surface.name}: each triangle has another {'above' if which == 'top' else 'below'} it")
    return only(surface, kept)


def without_skirts(surface: Surface) -> Surface:
    """Return a surface with those upright triangles alone that close a step; itself without any that do not.

    Beyond each side of such a triangle there is ground, or the rest of the step. Others, such as a skirt, and
    triangles with three places in line are left out. A step's triangles are turned as the ground beside them is.

    Parameters
    ----------
    surface : Surface
        The surface to examine.

    Returns
    -------
    Surface

    Examples
    --------
    >>> wall = Surface.from_arrays([[0, 0, 1], [8, 0, 1], [0, 8, 1], [8, 0, -5]], [[0, 1, 2], [0, 3, 1]])
    >>> without_skirts(wall)
    <Surface 'surface': 3 vertices, 1 triangles>
    """
    loose = closes_no_step(surface)
    if loose.all():
        return surface
    kept = surface if not loose.any() else only(surface, ~loose)
    return _turned_as_ground(kept)


def closes_no_step(surface: Surface) -> Flags:
    """Return which triangles (m,) have no ground in plan and close no step; see `without_skirts`."""
    has_ground = _has_ground(surface)
    loose = np.zeros(len(has_ground), np.bool_)
    if has_ground.all() or not has_ground.any():
        return loose
    sides = _Sides(surface)
    loose |= ~has_ground & ~sides.is_upright
    while True:
        times = np.bincount(sides.edge[~loose].ravel(), minlength=sides.count)
        free = ~loose & ~has_ground & ((times[sides.edge] < 2) & sides.has_length).any(axis=1)
        if not free.any():
            return loose
        loose |= free


def _has_ground(surface: Surface) -> Flags:
    is_flat = np.empty(len(surface.triangles), np.bool_)
    mark_upright(surface.vertices, surface.triangles, is_flat)
    out: Flags = ~is_flat
    return out


class _Sides:
    """The sides ab, bc, ca of triangles: which edge each is, its first vertex, and whether it has length in plan."""

    def __init__(self, surface: Surface) -> None:
        tail, head = surface.triangles, np.roll(surface.triangles, -1, axis=1)
        places = surface.vertices[:, :2]
        self.tail = tail
        self.has_length = (places[tail] != places[head]).any(axis=2)
        self.is_upright = (~self.has_length).sum(axis=1) == 1
        ends = np.minimum(tail, head).astype(np.int64) * len(places) + np.maximum(tail, head)
        edges, number = np.unique(ends, return_inverse=True)
        self.edge, self.count = number.reshape(-1, 3), len(edges)


def _turned_as_ground(surface: Surface) -> Surface:
    """The surface with upright triangles run through against the ground beside them."""
    has_ground = _has_ground(surface)
    if has_ground.all():
        return surface
    sides = _Sides(surface)
    begins = np.full(sides.count, -1, np.int64)
    begins[sides.edge[has_ground]] = sides.tail[has_ground]
    wrong = ~has_ground & (sides.has_length & (begins[sides.edge] == sides.tail)).any(axis=1)
    if not wrong.any():
        return surface
    triangles, edge_lines = surface.triangles.copy(), surface.edge_lines.copy()
    triangles[wrong] = triangles[wrong][:, [0, 2, 1]]
    edge_lines[wrong] = edge_lines[wrong][:, [2, 1, 0]]
    return replace(surface, triangles=triangles, edge_lines=edge_lines)
