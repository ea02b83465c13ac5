"""Triangles found again where only their edges survive."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from evrin.base.errors import GeometryError
from evrin.base.tolerances import LOOSE_ENDS
from evrin.kernels import Floats, Ints
from evrin.making.shared_vertices import distinct_rows
from evrin.surface.components import joined_parts
from evrin.surface.surface import Surface
from evrin.tin.query.loose_faces import crossing_edges, order_round_vertices, prune_dangling, walk_faces

Rows = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Recovered:
    """A surface found from loose edges, and all that was no closed triangle.

    Attributes
    ----------
    surface : Surface
        The surface to start from.
    edge_of : (vertices,) int64
        A row of the input that each vertex is an end of.
    doubled, upright, crossing, dangling : (k,) int64
        Rows of the input: edges that repeat an earlier one, that have no length in plan, that cross or lie on another,
        and that end where no other does. None of them is used.
    gaps : list of (k, 3) float64
        Rings of more than three edges, or of three with something inside, which stay open.
    nearly : (k, 3) float64
        Ends that miss another by no more than a hundredth and were left apart.
    unlike : (k, 3) float64
        Places where ends meet at different heights; that of most of them is used.
    """

    surface: Surface
    edge_of: Rows
    doubled: Rows
    upright: Rows
    crossing: Rows
    dangling: Rows
    gaps: list[Floats]
    nearly: Floats
    unlike: Floats

    @property
    def outline(self) -> list[Floats]:
        """The rim of the surface as closed rings (k, 3), ground on the left."""
        return [self.surface.vertices[loop] for loop in self.surface.rim()]


def recovered(edges: Floats, *, snap: float = 0.0, **named: str) -> Recovered:
    """Find the triangles whose edges these are.

    The edges are taken as a plane graph and walked round face by face; a face of three edges with nothing inside is a
    triangle. An opening of exactly three edges looks the same as a triangle.

    Parameters
    ----------
    edges : (k, 2, 3) float64
        Two ends each: easting, northing, height.
    snap : float
        Ends no farther apart than this in plan count as one; at 0 they must be equal.
    **named
        As for `Surface.from_arrays`.

    Returns
    -------
    Recovered

    Raises
    ------
    GeometryError
        Where no three edges close a triangle.

    Examples
    --------
    >>> a, b, c, d = [0, 0, 1], [4, 0, 1], [4, 3, 2], [0, 3, 2]
    >>> found = recovered(np.array([[a, b], [b, c], [c, a], [c, d], [d, a], [b, [9, 9, 9]]], float))
    >>> found.surface.triangles.tolist(), found.dangling.tolist()
    ([[0, 1, 2], [0, 2, 3]], [5])
    """
    ends = np.ascontiguousarray(edges.reshape(-1, 3)) + 0.0
    firsts, place_of = distinct_rows(np.ascontiguousarray(ends[:, :2]))
    places, unlike = _settled(ends, firsts, place_of)
    joined = _snapped(places, snap)
    number = joined[place_of].reshape(-1, 2)
    vertices = places[np.unique(joined, return_index=True)[1]]
    length = np.hypot(*(vertices[number[:, 0], :2] - vertices[number[:, 1], :2]).T)
    upright = np.flatnonzero(length == 0.0)
    standing = np.flatnonzero(length > 0.0)
    pair = number[standing].min(axis=1) * len(vertices) + number[standing].max(axis=1)
    _, once = np.unique(pair, return_index=True)
    rows = standing[np.sort(once)]
    doubled = np.setdiff1d(standing, rows)
    xy = np.ascontiguousarray(vertices[:, :2])
    rows, crossing = _without_crossings(xy, number, rows)
    rows, dangling = _without_dangling(xy, number, rows)
    triangles, gaps = _faces(xy, number[rows].astype(np.int32), vertices)
    if not len(triangles):
        raise GeometryError("no three of the edges close a triangle; are these the edges of a surface?")
    triangles, hollow = _without_hollow(vertices, triangles, np.unique(number[rows]))
    gaps += [vertices[corners] for corners in hollow]
    used = np.unique(triangles)
    renumbered = np.full(len(vertices), -1, np.int64)
    renumbered[used] = np.arange(len(used))
    surface = Surface.from_arrays(vertices[used], renumbered[triangles], **named)
    edge_of = np.full(len(vertices), -1, np.int64)
    edge_of[number[rows[::-1]].ravel()] = np.repeat(rows[::-1], 2)
    nearly = _nearly_met(surface.units, vertices, used, snap)
    return Recovered(
        surface=surface,
        edge_of=edge_of[used],
        doubled=doubled,
        upright=upright,
        crossing=crossing,
        dangling=dangling,
        gaps=gaps,
        nearly=nearly,
        unlike=unlike,
    )


def _settled(ends: Floats, firsts: Rows, place_of: Rows) -> tuple[Floats, Floats]:
    """One height a place, that of most ends there and the lowest of equals; and the places where ends differ."""
    places = ends[firsts]
    differs = np.unique(place_of[ends[:, 2] != places[place_of, 2]])
    order = np.argsort(place_of, kind="stable")
    starts = np.searchsorted(place_of[order], differs)
    stops = np.searchsorted(place_of[order], differs, side="right")
    for place, start, stop in zip(differs.tolist(), starts.tolist(), stops.tolist(), strict=True):
        heights, counts = np.unique(ends[order[start:stop], 2], return_counts=True)
        places[place, 2] = heights[np.argmax(counts)]
    return places, places[differs]


def _snapped(places: Floats, snap: float) -> Rows:
    """Number places so that those within reach share one."""
    if snap <= 0.0:
        return np.arange(len(places))
    pairs = scipy.spatial.cKDTree(places[:, :2]).query_pairs(snap, output_type="ndarray")
    label = joined_parts(len(places), pairs)
    _, first = np.unique(label, return_index=True)
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(first)] = np.arange(len(first))
    return rank[label]


def _without_crossings(xy: Floats, number: Rows, rows: Rows) -> tuple[Rows, Rows]:
    edges = number[rows].astype(np.int32)
    order = np.argsort(np.minimum(xy[edges[:, 0], 0], xy[edges[:, 1], 0]), kind="stable")
    crossed = np.zeros(len(edges), np.bool_)
    crossing_edges(xy, edges, order, crossed, np.zeros(2, np.int32))
    return rows[~crossed], rows[crossed]


def _round(xy: Floats, edges: Ints) -> tuple[Rows, Ints]:
    starts = np.empty(len(xy) + 1, np.int64)
    ring = np.empty(2 * len(edges), np.int32)
    order_round_vertices(xy, edges, starts, ring)
    return starts, ring


def _without_dangling(xy: Floats, number: Rows, rows: Rows) -> tuple[Rows, Rows]:
    edges = number[rows].astype(np.int32)
    starts, ring = _round(xy, edges)
    removed = np.zeros(len(edges), np.bool_)
    prune_dangling(edges, starts, ring, removed)
    return rows[~removed], rows[removed]


def _faces(xy: Floats, edges: Ints, vertices: Floats) -> tuple[Ints, list[Floats]]:
    """Triangles, counter-clockwise, and the rings of more sides that ground lies round."""
    starts, ring = _round(xy, edges)
    face_of, sides = np.empty(2 * len(edges), np.int32), np.zeros(2 * len(edges), np.int32)
    count = walk_faces(edges, starts, ring, face_of, sides)
    by_face = np.argsort(face_of, kind="stable")
    firsts = np.concatenate(([0], np.cumsum(sides[:count])))
    tails = edges[by_face // 2, by_face % 2]
    heads = edges[by_face // 2, 1 - by_face % 2]
    local = xy - xy.mean(axis=0)
    turn = local[tails, 0] * local[heads, 1] - local[heads, 0] * local[tails, 1]
    area = np.add.reduceat(turn, firsts[:-1]) if count else np.empty(0)
    three = np.flatnonzero((sides[:count] == 3) & (area > 0.0))
    triangles = tails[firsts[three][:, None] + np.arange(3)]
    # The half-edges of a face are in the order of their numbers, not around it.
    heads_of = heads[firsts[three][:, None] + np.arange(3)]
    swapped = heads_of[:, 0] != triangles[:, 1]
    triangles[swapped] = triangles[swapped][:, [0, 2, 1]]
    many = np.flatnonzero((sides[:count] > 3) & (area > 0.0))
    gaps = [_walked(tails[firsts[k] : firsts[k + 1]], heads[firsts[k] : firsts[k + 1]], vertices) for k in many]
    return triangles.astype(np.int32), gaps


def _walked(tails: Ints, heads: Ints, vertices: Floats) -> Floats:
    after = dict(zip(tails.tolist(), heads.tolist(), strict=True))
    ring = [int(tails[0])]
    while len(ring) < len(tails) and (following := after[ring[-1]]) != ring[0]:
        ring.append(following)
    return vertices[ring]


def _without_hollow(vertices: Floats, triangles: Ints, present: Rows) -> tuple[Ints, list[Ints]]:
    """Take out triangles that have a vertex inside: rings round something else."""
    bare = Surface.from_arrays(vertices, triangles)
    triangles_there = bare.locator.triangles_at(np.ascontiguousarray(vertices[present, :2]))
    inside = np.flatnonzero(triangles_there >= 0)
    corners = bare.vertices[bare.triangles[triangles_there[inside]], :2]
    sides = np.roll(corners, -1, axis=1) - corners
    to = vertices[present[inside], None, :2] - corners
    side = sides[:, :, 0] * to[:, :, 1] - sides[:, :, 1] * to[:, :, 0]
    is_corner = (bare.triangles[triangles_there[inside]] == present[inside, None]).any(axis=1)
    scale = np.abs(sides).max(axis=(1, 2)) ** 2
    strictly = (side > 1e-9 * scale[:, None]).all(axis=1) & ~is_corner
    hollow = np.unique(triangles_there[inside][strictly])
    return np.delete(bare.triangles, hollow, axis=0), [bare.triangles[t] for t in hollow]


def _nearly_met(units: str, vertices: Floats, used: Ints, snap: float) -> Floats:
    """Ends that are close to another without being it, unless both are corners of the surface found."""
    reach = max(LOOSE_ENDS.in_units(units), 2.0 * snap)
    pairs = scipy.spatial.cKDTree(vertices[:, :2]).query_pairs(reach, output_type="ndarray")
    is_used = np.zeros(len(vertices), np.bool_)
    is_used[used] = True
    loose = pairs[~is_used[pairs].all(axis=1)] if len(pairs) else pairs.reshape(0, 2)
    return vertices[np.unique(loose[:, 0])] if len(loose) else np.empty((0, 3))
