"""Values that are known at holes, and what is taken to lie between them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from itertools import pairwise

import numpy as np
from scipy.spatial import cKDTree

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.layers.boreholes import Boreholes
from evrin.making.patches.arranging import NOWHERE
from evrin.making.triangulation import Triangulation
from evrin.surface.frame import Frame
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.mesh.natural_heights import natural_heights_among

TRIANGLES, INVERSE_DISTANCE, NATURAL_NEIGHBOURS = "triangles", "inverse-distance", "natural-neighbours"
BETWEEN = (TRIANGLES, INVERSE_DISTANCE, NATURAL_NEIGHBOURS)
_NODES_A_HOLE, _FEWEST_NODES, _MOST_NODES = 6.0, 60, 200
_MOST_WEIGHTS = 4_000_000


class BetweenHoles:
    """Values at places, and by one of three methods everywhere round them.

    Parameters
    ----------
    points : (n, 3) float64
        Easting, northing and value; at least one.
    words : list of str
        What each is.
    extent : (4, 2) float64
        Corners of what is covered, round all points.
    method : str
        ``"triangles"``: straight between them, and beyond the outermost the value of the nearest.
        ``"inverse-distance"``: the mean of all, each by the inverse square of its distance.
        ``"natural-neighbours"``: smooth between them; beyond the outermost as with triangles.
    frame : Frame
        Of the surface.

    References
    ----------
    Shepard, D. (1968), A two-dimensional interpolation function for irregularly-spaced data, *Proc. 23rd ACM National
    Conference*, 517–524; Sibson (1981), see `evrin.tin.mesh.natural_heights`.

    Examples
    --------
    >>> corners = np.array([[0, 0], [30, 0], [30, 30], [0, 30.0]])
    >>> known = np.array([[10.0, 10.0, 1.0], [20.0, 10.0, 3.0]])
    >>> field = BetweenHoles(known, ["A", "B"], corners, "inverse-distance", Frame("m"))
    >>> field.values(np.array([[15.0, 10.0], [10.0, 10.0]])).round(9).tolist()
    [2.0, 1.0]
    """

    def __init__(self, points: Floats, words: Sequence[str], extent: Floats, method: str, frame: Frame) -> None:
        self.points, self.words, self.extent, self.method, self.frame = points, list(words), extent, method, frame

    def values(self, places: Floats) -> Floats:
        """Return the values at places (m, 2), of this method itself."""
        if self.method == INVERSE_DISTANCE:
            return self._by_inverse_distance(places)
        straight = self._straight.height(places[:, 0], places[:, 1])
        if self.method == NATURAL_NEIGHBOURS and _order_on_a_line(self.points) is None:
            smooth = natural_heights_among(self.points, np.empty((0, 2), np.int32), places)
            return np.where(np.isfinite(smooth), smooth, straight)
        return straight

    @cached_property
    def surface(self) -> Surface:
        """The values as a surface over the extent: exact for triangles, otherwise straight between close places."""
        if self.method == TRIANGLES:
            return self._straight
        nodes = self._nodes()
        every = np.concatenate((self.points, np.column_stack((nodes, self.values(nodes)))))
        return _triangulated(every, [*self.words, *["between the holes"] * len(nodes)], [], self.frame)

    @cached_property
    def _straight(self) -> Surface:
        _, nearest = cKDTree(self.points[:, :2]).query(self.extent)
        corners = np.column_stack((self.extent, self.points[np.atleast_1d(nearest), 2]))
        words = [*self.words, *["beyond the holes, as at the nearest"] * len(corners)]
        # Without their rim held, a corner far outside would take part in triangles between holes.
        return _triangulated(np.concatenate((self.points, corners)), words, _rim_of(self.points), self.frame)

    def _by_inverse_distance(self, places: Floats) -> Floats:
        out = np.empty(len(places))
        step = max(1, _MOST_WEIGHTS // len(self.points))
        for first in range(0, len(places), step):
            some = places[first : first + step]
            square = ((some[:, None, :] - self.points[None, :, :2]) ** 2).sum(axis=2)
            nearest = square.argmin(axis=1)
            least = np.take_along_axis(square, nearest[:, None], axis=1)
            weights = np.where(least > 0.0, least / np.where(square > 0.0, square, 1.0), square == 0.0)
            out[first : first + step] = weights @ self.points[:, 2] / weights.sum(axis=1)
        return out

    def _nodes(self) -> Floats:
        """Places of a lattice over the extent, clear of the points."""
        low, high = self.extent.min(axis=0), self.extent.max(axis=0)
        apart = float((high - low).max())
        if len(self.points) > 1:
            distance, _ = cKDTree(self.points[:, :2]).query(self.points[:, :2], 2)
            apart = min(apart, float(np.median(np.asarray(distance)[:, 1])) / _NODES_A_HOLE)
        longest = float((high - low).max())
        step = longest / int(np.clip(np.ceil(longest / apart), _FEWEST_NODES, _MOST_NODES))
        counts = np.maximum(np.ceil((high - low) / step), 1.0).astype(int)
        east, north = (np.linspace(low[k], high[k], counts[k] + 1) for k in range(2))
        nodes = np.column_stack([each.ravel() for each in np.meshgrid(east, north)])
        distance, _ = cKDTree(self.points[:, :2]).query(nodes)
        return np.ascontiguousarray(nodes[distance > 0.2 * step])


def checked_method(method: str) -> str:
    """Return a method of `BETWEEN`, refusing what is none."""
    if method not in BETWEEN:
        raise DataError(f"between holes is one of {', '.join(BETWEEN)}; it is {method!r}")
    return method


def neighbours(boreholes: Boreholes) -> list[tuple[int, int]]:
    """Return pairs of holes beside one another: the edges of their triangulation; along a line, one after the other."""
    places = np.array([[hole.easting, hole.northing, 0.0] for hole in boreholes.holes])
    order = _order_on_a_line(places)
    if order is not None:
        return list(pairwise(order))
    work = Triangulation(places)
    surface, reading = work.surface()
    hole_of = {int(vertex): k for k, vertex in enumerate(work.mesh_vertex_of.tolist())}
    return [(hole_of[int(reading.vertices[a])], hole_of[int(reading.vertices[b])]) for a, b in surface.edges.tolist()]


def _order_on_a_line(places: Floats) -> list[int] | None:
    """The places one after the other, where all lie on a line."""
    if len(places) < 2:
        return list(range(len(places)))
    apart = places[:, :2] - places[:, :2].mean(axis=0)
    spread = np.linalg.svd(apart, compute_uv=True)
    if len(places) > 2 and spread[1][1] > 1e-9 * spread[1][0]:
        return None
    order: list[int] = np.argsort(apart @ spread[2][0], kind="stable").tolist()
    return order


def _rim_of(points: Floats) -> list[SourceLine]:
    """The rim of the triangles between points; the line itself where all lie on one."""
    order = _order_on_a_line(points)
    if order is not None:
        return [SourceLine("rim", points[order])] if len(order) > 1 else []
    surface = Triangulation(points).surface()[0]
    return [SourceLine("rim", surface.vertices[ring], closed=True) for ring in surface.rim()]


def _triangulated(points: Floats, words: list[str], lines: list[SourceLine], frame: Frame) -> Surface:
    work = Triangulation(points, lines)
    surface, reading = work.surface()
    row_of = {int(vertex): row for row, vertex in reversed(list(enumerate(work.mesh_vertex_of.tolist())))}
    named = {k: words[row_of[int(vertex)]] for k, vertex in enumerate(reading.vertices.tolist())}
    return Surface(
        surface.vertices.copy(),
        surface.triangles.copy(),
        np.full_like(surface.edge_lines, NOWHERE),
        (),
        Provenance(Shots.joined([]), np.full(len(surface.vertices), NOWHERE, np.int32), named),
        units=frame.units,
        crs=frame.crs,
    )
