"""Triangles of one or two patches in one triangulation: places are settled there once, and what lies where is counted.

All edges are forced into one mesh, in the way in which a survey is triangulated: a place within the snap width of an
edge is on it, and no place that was given is moved for one that was made. So every triangle is exactly
counter-clockwise, no two share area, and both patches have the same vertices where they meet. Which triangles a patch
covers follows from the edges that carry its rim, not from where rounded places lie.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from evrin.kernels import Flags, Floats, Indices, IntRows, Ints
from evrin.making.merged_places import mesh_of_places
from evrin.surface.locator import Locator
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.mesh import carving, flips
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query import compact

# Heights of one place that differ by no more are one height; cutting rounds by far less.
_SAME_HEIGHT = 1e-8
NOWHERE = -1
# The line number of an edge on a segment that limits nothing.
_ALONG = -2
_SIDES = (flips.DATA, flips.KEEP)
# Places of a triangle that are asked where its middle is beyond: the middles of its sides, and its corners.
_ELSEWHERE = np.vstack((0.5 * (1.0 - np.eye(3)), np.eye(3)))


def _same_height(snap: float) -> float:
    """Return by how much heights of one place may differ and be one height.

    A place that is led to an edge moves by the snap width, and its height on steep ground by as much.
    """
    return max(_SAME_HEIGHT, 4.0 * snap)


class ArrangedPart(NamedTuple):
    """Triangles of a patch that are arranged.

    Attributes
    ----------
    rows : (n, 3) float64
        Their vertices.
    triangles : (m, 3) int32
        Rows of its vertices.
    lines : (m, 3) int32
        Line of edges ab, bc, ca, or -1.
    """

    rows: Floats
    triangles: Ints
    lines: Ints


@dataclass(frozen=True, eq=False)
class Arranged:
    """One triangulation that all edges of some parts are edges of.

    Attributes
    ----------
    xy : (v, 2) float64
        Places of the triangulation.
    triangles : (t, 3) int32
        Rows of *xy*.
    lines : (t, 3) int32
        Line of edges ab, bc, ca, or -1.
    covers : list of (t,) bool
        For each part, which triangles it covers.
    parents : list of (t,) int64
        For each part, which of its triangles each lies in; -1 where it covers nothing.
    is_cut : (t,) bool
        Inside the rings that cut.
    numbers : list of (n,) int32
        For each part, the vertex that each of its rows became.
    on_along : (v,) bool
        Which vertices are on the segments that limit nothing.
    """

    xy: Floats
    triangles: Ints
    lines: Ints
    covers: list[Flags]
    parents: list[Indices]
    is_cut: Flags
    numbers: list[Ints]
    on_along: Flags


def arranged(
    parts: list[ArrangedPart],
    snap: float,
    cut: Floats | None = None,
    along: Floats | None = None,
    *,
    first_as_it_is: bool = True,
) -> Arranged:
    """Arrange one or two parts, and segments, in one triangulation.

    Parameters
    ----------
    parts : list of ArrangedPart
        The edges of the first stay as they are, with vertices where such lie on them, unless they are settled too.
    snap : float
        Places nearer to one another are one.
    cut : (s, 4) float64, optional
        Segments that close to rings.
    along : (s, 4) float64, optional
        Segments that are edges as well, and limit nothing.
    first_as_it_is : bool
        Whether places of the first part keep their coordinates.
    """
    first = parts[0]
    xy = np.ascontiguousarray(first.rows[:, :2])
    order, starts, mesh, _ = mesh_of_places(xy, *distinct_places(xy))
    mesh.snap = snap
    mesh.z[: len(starts) - 1] = 0.0
    numbers = [np.empty(len(xy), np.int32)]
    numbers[0][order] = np.repeat(np.arange(len(starts) - 1, dtype=np.int32), np.diff(starts))
    forced = _Forced(mesh)
    forced.edges(first, numbers[0], flips.DATA, exact=first_as_it_is)
    for part, side in zip(parts[1:], _SIDES[1:], strict=False):
        numbers.append(forced.places(part.rows[:, :2]))
        forced.edges(part, numbers[-1], side, exact=False)
    for segments, side in ((cut, flips.CUT), (along, 0)):
        if segments is not None and len(segments):
            ends = forced.places(segments.reshape(-1, 2)).reshape(-1, 2)
            owner = NOWHERE if side else _ALONG
            forced.segments(ends, np.full(len(ends), owner), np.full(len(ends), side, np.int32), exact=False)
    return _read(mesh, parts, numbers, np.concatenate(forced.owners))


class _Forced:
    """Edges forced into a mesh, and the lines that they are of."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self.owners: list[Indices] = []
        self.fresh = np.empty(0, np.int32)

    def places(self, xy: Floats) -> Ints:
        before = self.mesh.vertex_count
        number = self.mesh.insert(np.ascontiguousarray(xy), np.zeros(len(xy)))
        self.fresh = np.arange(before, self.mesh.vertex_count, dtype=np.int32)
        return number

    def edges(self, part: ArrangedPart, number: Ints, side: int, *, exact: bool) -> None:
        """Force the edges of a part; those on its rim carry a side."""
        mates = compact.mates_of(part.triangles, len(part.rows))
        half = np.flatnonzero((mates < 0) | (np.arange(len(mates)) < mates))
        tail, head = part.triangles.ravel(), np.roll(part.triangles, -1, axis=1).ravel()
        owners = part.lines.ravel().astype(np.int64)
        # An edge that is a line of one of its two triangles is a line.
        owners = np.maximum(owners, np.where(mates < 0, NOWHERE, owners[mates]))[half]
        sides = np.where(mates[half] < 0, side, 0).astype(np.int32)
        self.segments(np.column_stack((number[tail[half]], number[head[half]])), owners, sides, exact=exact)

    def segments(self, ends: Ints, owners: Indices, sides: Ints, *, exact: bool) -> None:
        """Force segments, those that are lines first, as one edge is of one line."""
        apart = ends[:, 0] != ends[:, 1]
        for is_group in (apart & (owners >= 0), apart & (owners < 0)):
            count = int(is_group.sum())
            fresh, self.fresh = self.fresh, np.empty(0, np.int32)
            if count or len(fresh):
                _, order = self.mesh.force(
                    np.ascontiguousarray(ends[is_group]),
                    np.zeros(count, np.bool_),
                    sides=sides[is_group],
                    fresh=fresh,
                    exact=exact,
                )
                self.owners.append(owners[is_group][order])
        self.mesh.z[: self.mesh.vertex_count] = 0.0


def _read(mesh: Mesh, parts: list[ArrangedPart], numbers: list[Ints], owners: Indices) -> Arranged:
    count = mesh.triangle_count
    side = np.empty(count, np.int32)
    carving.sides_of_triangles(mesh.arrays, count, side)
    corners = mesh.corner[: 3 * count].reshape(-1, 3)
    real = np.flatnonzero((corners >= 0).all(axis=1) & (side != 0))
    corners, side = corners[real].copy(), side[real]
    held = mesh.fixed[: 3 * count].reshape(-1, 3)[real] & flips.LINES
    lines = np.append(NOWHERE, owners)[held].astype(np.int32)
    xy = mesh.xy[: mesh.vertex_count].copy()
    on_along = np.zeros(len(xy), np.bool_)
    t, k = np.nonzero(lines == _ALONG)
    on_along[corners[t, k]] = on_along[corners[t, (k + 1) % 3]] = True
    lines = np.maximum(lines, NOWHERE)
    covers, parents = [], []
    for part, bit in zip(parts, _SIDES, strict=False):
        is_in = side & bit != 0
        parent = np.full(len(corners), NOWHERE, np.int64)
        parent[is_in] = _parents(part, xy[corners[is_in]])
        covers.append(is_in)
        parents.append(parent)
    return Arranged(
        xy=xy,
        triangles=corners,
        lines=lines,
        covers=covers,
        parents=parents,
        is_cut=side & flips.CUT != 0,
        numbers=numbers,
        on_along=on_along,
    )


def _parents(part: ArrangedPart, faces: Floats) -> Indices:
    """The triangle of a part that each face (k, 3, 2) lies in; of one beyond by rounding alone, one that is near."""
    mates = compact.mates_of(part.triangles, len(part.rows))
    under = Locator.over(part.rows, part.triangles, mates)
    parents = under.triangles_at(np.ascontiguousarray(faces.mean(axis=1)))
    for weights in _ELSEWHERE:
        lost = np.flatnonzero(parents < 0)
        if not len(lost):
            return parents
        parents[lost] = under.triangles_at(np.ascontiguousarray(np.tensordot(weights, faces[lost], (0, 1))))
    lost = np.flatnonzero(parents < 0)
    if len(lost):
        from scipy.spatial import cKDTree

        # Any triangle at the vertex that is nearest.
        at_vertex = np.zeros(len(part.rows), np.int64)
        at_vertex[part.triangles.ravel()] = np.repeat(np.arange(len(part.triangles)), 3)
        used = np.unique(part.triangles)
        nearest = cKDTree(part.rows[used, :2]).query(faces[lost].mean(axis=1))[1]
        parents[lost] = at_vertex[used[nearest]]
    return parents


def one_a_height(vertex: Ints, heights: Floats, snap: float) -> tuple[Indices, Indices]:
    """Group corners (k,) of one vertex and one height; return the group of each, and a corner of each group."""
    order = np.lexsort((heights, vertex))
    begins = np.ones(len(vertex), np.bool_)
    begins[1:] = (np.diff(vertex[order]) != 0) | (np.diff(heights[order]) > _same_height(snap))
    group = np.empty(len(vertex), np.int64)
    group[order] = np.cumsum(begins) - 1
    return group, order[begins]


def heights_near(rows: Floats, triangles: IntRows, parents: Indices, places: Floats, snap: float) -> Floats:
    """Return the heights of triangles at places, or at the place nearest to each that a triangle or its edge has.

    A place within the snap width of an edge has the height of the edge there, whatever the slope beside it: a triangle
    that is thin can be steeper than any ground.

    Parameters
    ----------
    rows : (n, 3) float64
        Vertices of the part.
    triangles : (m, 3) int32
        Its triangles.
    parents : (k,) int64
        The triangle of each place.
    places : (k, 2) float64
        Where heights are wanted.
    snap : float
        The snap width.
    """
    corners = rows[triangles[parents]]
    ends = np.roll(corners, -1, axis=1)
    along = ends[..., :2] - corners[..., :2]
    offsets = places[:, None, :] - corners[..., :2]
    square = np.maximum((along**2).sum(axis=2), np.finfo(np.float64).tiny)
    part = np.clip((offsets * along).sum(axis=2) / square, 0.0, 1.0)
    gap = np.hypot(*np.moveaxis(offsets - part[..., None] * along, 2, 0))
    on_edges = corners[..., 2] + part * (ends[..., 2] - corners[..., 2])
    nearest = gap.argmin(axis=1)[:, None]
    on_edge = np.take_along_axis(on_edges, nearest, axis=1)[:, 0]
    # Weights of the corners that are across from each edge.
    across = along[..., 0] * offsets[..., 1] - along[..., 1] * offsets[..., 0]
    inside = (across > 0.0).all(axis=1) & (np.take_along_axis(gap, nearest, axis=1)[:, 0] > 2.0 * snap)
    total = np.where(inside, across.sum(axis=1), 1.0)
    weights = np.roll(across, -1, axis=1)
    in_plane = (weights * corners[..., 2]).sum(axis=1) / total
    return np.where(inside, in_plane, on_edge)


def corner_heights(
    rows: Floats, local: Ints, parent: Indices, numbers: Ints, placed: Ints, xy: Floats, snap: float
) -> tuple[Indices, Floats]:
    """Return which row each corner of arranged triangles is, -1 if its parent does not have it, and its height.

    See `with_heights`.
    """
    at = numbers[local]
    is_corner = placed[:, :, None] == at[parent][:, None, :]
    row = np.take_along_axis(local[parent], is_corner.argmax(axis=2), axis=1)
    own: Indices = np.where(is_corner.any(axis=2), row, NOWHERE).astype(np.int64)
    z = np.empty(placed.shape)
    is_own = own >= 0
    z[is_own] = rows[own[is_own], 2]
    asked = np.flatnonzero(~is_own.ravel())
    places = xy[placed.ravel()[asked]]
    z.ravel()[asked] = heights_near(rows, local, np.repeat(parent, 3)[asked], places, snap)
    return own, z


class Corners(NamedTuple):
    """Corners of arranged triangles as vertices of their patches.

    Attributes
    ----------
    triangles : (t, 3) int64
        Rows of what was there, and after them of *made*.
    made : (k, 3) float64
        Vertices that neither part has.
    becomes : (n,) int64
        For each row itself, or one of the same place and height.
    """

    triangles: Indices
    made: Floats
    becomes: Indices


def with_heights(
    rows: Floats, local: Ints, parent: Indices, numbers: Ints, placed: Ints, xy: Floats, snap: float
) -> Corners:
    """Return arranged triangles with a vertex for each height that the ground has at a place.

    Parameters
    ----------
    rows : (n, 3) float64
        The vertices that were there.
    local : (m, 3) int32
        The triangles that were there.
    parent : (t,) int64
        Which of them each arranged triangle lies in.
    numbers : (n,) int32
        The arranged vertex of each row.
    placed : (t, 3) int32
        The arranged triangles.
    xy : (v, 2) float64
        Arranged vertices.
    snap : float
        The snap width.
    """
    own, z = corner_heights(rows, local, parent, numbers, placed, xy, snap)
    flat_own: Indices = own.ravel()
    vertex: Ints = placed.ravel()
    # All rows take part, so that one height of one place is one vertex.
    used = np.unique(local)
    every, heights = np.concatenate((numbers[used], vertex)), np.concatenate((rows[used, 2], z.ravel()))
    row: Indices = np.concatenate((used, flat_own)).astype(np.int64)
    group, first = one_a_height(every, heights, snap)
    lead = np.full(len(first), np.iinfo(np.int64).max)
    is_row = row >= 0
    np.minimum.at(lead, group[is_row], row[is_row])
    fresh = np.flatnonzero(lead == np.iinfo(np.int64).max)
    lead[fresh] = len(rows) + np.arange(len(fresh))
    made = np.column_stack((xy[every[first[fresh]]], heights[first[fresh]]))
    becomes = np.arange(len(rows))
    becomes[used] = lead[group[: len(used)]]
    return Corners(lead[group[len(used) :]].reshape(-1, 3), made, becomes)
