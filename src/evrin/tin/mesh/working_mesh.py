"""The working mesh: a triangulation that can be forced, trimmed, carved and edited, then read off as arrays."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from evrin.base.errors import EditError, GeometryError
from evrin.kernels import Flags, Floats, Ints
from evrin.kernels.threads import side_by_side
from evrin.tin.delaunay.joined_tiles import triangulated
from evrin.tin.delaunay.triangulating import following, preceding
from evrin.tin.exact.curve_order import canonical_order
from evrin.tin.exact.snap import snap_width
from evrin.tin.mesh import carving, flips, forced, inserts, turning
from evrin.tin.mesh.mesh_arrays import MeshArrays
from evrin.tin.query import compact

_SPARE = 64


@dataclass(frozen=True)
class Crossings:
    """Where forced lines met edges that stay: a vertex each.

    Attributes
    ----------
    vertices : (n,) int32
    on, across : (n,) int32
        Segment numbers (see `Mesh.force`); ``on`` is -1 where the edge belongs to no line.
    heights : (n, 2) float64
        Height there along either.
    """

    vertices: Ints
    on: Ints
    across: Ints
    heights: Floats


@dataclass(frozen=True)
class Reading:
    """What stays of a mesh, as plain arrays in canonical order.

    Attributes
    ----------
    vertices : (n,) int32
        Mesh vertex of each row of the surface.
    triangles : (m, 3) int32
        Counter-clockwise, lowest vertex first, sorted; numbers are rows of *vertices*.
    lines : (m, 3) int32
        Segment number of edges ab, bc, ca, or -1.
    """

    vertices: Ints
    triangles: Ints
    lines: Ints


class Mesh:
    """A Delaunay triangulation of distinct places with a true hull.

    Parameters
    ----------
    xy : (n, 2) float64
        Distinct places in canonical order (`evrin.tin.exact.curve_order.distinct_places`).
    z : (n,) float64
        Heights, NaN where there is none.
    room : int
        How many more vertices to leave room for.
    parts : int
        In how many parts the places are triangulated, side by side; as many as suit the machine if not given. The
        triangles are the same.

    Raises
    ------
    GeometryError
        Where fewer than three places, or all of them on one line, leave nothing to triangulate.
    """

    def __init__(self, xy: Floats, z: Floats, room: int = 0, parts: int = 0) -> None:
        count = len(xy)
        if count < 3:
            raise GeometryError(f"a surface needs at least 3 distinct places; there are {count}")
        capacity = count + max(room, 0) + _SPARE
        self.corner: Ints = np.empty(6 * capacity, np.int32)
        self.mate: Ints = np.empty(6 * capacity, np.int32)
        self.xy: Floats = np.empty((capacity, 2))
        self.xy[:count] = xy
        self.z: Floats = np.empty(capacity)
        self.z[:count] = z
        triangles = triangulated(np.ascontiguousarray(xy), self.corner, self.mate, parts)
        if triangles == 0:
            raise GeometryError(
                f"all {count} places lie on one straight line, from ({xy[:, 0].min()}, {xy[:, 1].min()}) to "
                f"({xy[:, 0].max()}, {xy[:, 1].max()}); a surface needs a point off that line"
            )
        self.vertex_count = count
        self.snap = snap_width(xy)
        self.snapped = 0
        self.fixed: Ints = np.zeros(6 * capacity, np.int32)
        self.spoke: Ints = np.empty(capacity, np.int32)
        self.alive: Flags = np.zeros(2 * capacity, np.bool_)
        self.segments: Ints = np.empty((0, 2), np.int32)
        self.has_height: Flags = np.empty(0, np.bool_)
        self.removed: set[int] = set()
        self._anchor = 0
        flips.fill_spokes(self.arrays, triangles)
        carving.real_triangles(self.arrays, triangles, count)

    @property
    def arrays(self) -> MeshArrays:
        """The arrays, as kernels take them."""
        return MeshArrays(self.xy, self.z, self.corner, self.mate, self.fixed, self.spoke, self.alive)

    @property
    def triangle_count(self) -> int:
        """Number of triangles, those beyond the hull included."""
        return 2 * self.vertex_count - 2

    @property
    def start(self) -> int:
        """A half-edge from which walks over the mesh can start."""
        return int(self.spoke[self._anchor])

    def forget(self, vertex: int) -> None:
        """Note that a vertex was taken out."""
        self.removed.add(vertex)
        while self._anchor in self.removed:
            self._anchor += 1

    def _grow(self, capacity: int) -> None:
        old = len(self.z)
        if capacity <= old:
            return
        for name, per_vertex in (("xy", 1), ("z", 1), ("spoke", 1), ("alive", 2), ("fixed", 6)):
            array = getattr(self, name)
            larger = np.zeros((per_vertex * capacity, *array.shape[1:]), array.dtype)
            larger[: len(array)] = array
            setattr(self, name, larger)
        for name in ("corner", "mate"):
            larger = np.empty(6 * capacity, np.int32)
            larger[: 6 * old] = getattr(self, name)
            setattr(self, name, larger)

    def heights(self, places: Floats) -> Floats:
        """Return the height of the living mesh at places (n, 2), NaN elsewhere."""
        places = np.asarray(places, np.float64)
        order = canonical_order(places) if len(places) else np.empty(0, np.int64)
        sorted_out = np.empty(len(places))
        inserts.heights_on_mesh(self.arrays, self.start, np.ascontiguousarray(places[order]), sorted_out)
        out = np.empty(len(places))
        out[order] = sorted_out
        return out

    def insert(self, places: Floats, heights: Floats) -> Ints:
        """Put places (n, 2) into the mesh in canonical order and return the vertex of each.

        A vertex within the snap width of a place is used for it.
        """
        places = np.asarray(places, np.float64)
        self.snap = max(self.snap, snap_width(places))
        self._grow(self.vertex_count + len(places) + _SPARE)
        order = canonical_order(places) if len(places) else np.empty(0, np.int64)
        number = np.empty(len(places), np.int32)
        self.vertex_count = inserts.insert_places(
            self.arrays,
            self.vertex_count,
            self.start,
            np.ascontiguousarray(places[order]),
            heights[order],
            self.snap,
            number,
        )
        out = np.empty_like(number)
        out[order] = number
        return out

    def near_pairs(self) -> Ints:
        """Return pairs (k, 2) of neighbouring vertices that are within the snap width of each other, sorted."""
        arrays = self.arrays
        parts = side_by_side(
            lambda first, stop: inserts.short_edges(arrays, first, stop, self.snap), self.triangle_count
        )
        pairs = np.concatenate(parts)
        return pairs[np.lexsort(pairs.T)]

    def force(
        self,
        segments: Ints,
        has_height: Flags,
        *,
        sides: Ints | None = None,
        fresh: Ints | None = None,
        exact: bool = False,
    ) -> tuple[Crossings, NDArray[np.int64]]:
        """Force straight edges between vertices.

        Parameters
        ----------
        segments : (k, 2) int32
            Vertex numbers. Where segments cross one another or an edge already forced, a vertex is added.
        has_height : (k,) bool
            Whether a segment counts for the height where it crosses another. Where both do, the mean is used.
        sides : (k,) int32, optional
            What begins or ends at each segment (`flips.SIDES`).
        fresh : (m,) int32, optional
            New vertices through which edges forced earlier are led where they are on them.
        exact : bool
            Whether only vertices exactly on a segment count as on it, instead of those within the snap width.

        Returns
        -------
        Crossings
            In terms of segment numbers, which count on from earlier calls.
        order : (k,) int64
            Row of *segments* behind each segment number of this call.

        Raises
        ------
        GeometryError
            Where the lines cannot be disentangled within a generous amount of work.
        """
        first = len(self.segments)
        order, ordered = _canonical_segments(self.xy, segments)
        self.segments = np.ascontiguousarray(np.vstack((self.segments, ordered)))
        self.has_height = np.concatenate((self.has_height, has_height[order]))
        turned = np.zeros(len(order), np.int32) if sides is None else sides[order]
        touched = np.empty(0, np.int32) if fresh is None else fresh
        reach = 0.0 if exact else self.snap
        return self._forced(ordered, first + 1, turned, touched, reach), order

    def _forced(self, segments: Ints, first_line: int, sides: Ints, fresh: Ints, reach: float) -> Crossings:
        """Run the kernel, with larger arrays each time that it asks for them."""
        progress = np.zeros(forced.SLOTS, np.int64)
        progress[forced.VERTICES] = self.vertex_count
        progress[forced.TRIANGLES] = self.triangle_count
        pending = np.empty((64, 3), np.int64)
        crossings = np.empty((len(self.z), 3), np.int32)
        heights = np.empty((len(self.z), 2))
        while True:
            lines = forced.LineArrays(self.segments, self.has_height, crossings, heights, progress)
            done, pending = forced.force_segments(
                self.arrays, lines, segments, first_line, sides, fresh, reach, pending
            )
            if done:
                break
            if progress[forced.TANGLED]:
                raise GeometryError("lines cross one another too densely to be separated. Weed them")
            self._grow(len(self.z) + len(self.z) // 4 + _SPARE)
            crossings = np.vstack((crossings, np.empty((len(self.z) - len(crossings), 3), np.int32)))
            heights = np.vstack((heights, np.empty((len(self.z) - len(heights), 2))))
        self.vertex_count = int(progress[forced.VERTICES])
        self.snapped += int(progress[forced.SNAPPED])
        count = int(progress[forced.CROSSINGS])
        return Crossings(
            crossings[:count, 0].copy(), crossings[:count, 1] - 1, crossings[:count, 2] - 1, heights[:count].copy()
        )

    def trim(self, longest: float = np.inf, smallest_deg: float = 0.0, *, inside: bool = False) -> int:
        """Take triangles away from the rim inwards and return how many.

        Parameters
        ----------
        longest : float
            They go through free edges longer than this.
        smallest_deg : float
            And where their smallest angle is less than this.
        inside : bool
            Whether they go wherever they are, which opens holes.
        """
        sine = float(np.sin(np.radians(smallest_deg)))
        removed = carving.trim_rim(self.arrays, self.triangle_count, float(longest), sine)
        if inside:
            removed += carving.trim_inside(self.arrays, self.triangle_count, float(longest), sine)
        return removed

    def turn(self, places: Floats) -> int:
        """Flip free edges until each is Delaunay among other *places* (n, 2) of the vertices; return how many.

        Where a vertex has none (NaN), the edges around it remain.
        """
        return turning.turn_edges(self.arrays, self.triangle_count, places)

    def reach(self, places: Floats, heights: Floats) -> Ints:
        """Put vertices beyond the living mesh, join them to it, and return the vertex of each."""
        before = self.vertex_count
        number = self.insert(places, heights)
        corners = self.corner[: 3 * self.triangle_count].reshape(-1, 3)
        is_new = (corners >= before).any(axis=1) & (corners >= 0).all(axis=1)
        self.alive[: self.triangle_count] |= is_new & ~np.isnan(self.z[corners]).any(axis=1)
        return number

    def edge_near(self, x: float, y: float) -> int:
        """Return the half-edge nearest to a place, within the living triangle that holds it.

        Raises
        ------
        EditError
            Where the place is outside the surface.
        """
        e = int(inserts.nearest_edge(self.arrays, self.start, x, y))
        if e < 0 or not self.alive[e // 3]:
            raise EditError(f"({x}, {y}) lies outside the surface")
        return e

    def edge_ends(self, e: int) -> tuple[int, int]:
        """Return the two vertices of a half-edge."""
        return int(self.corner[e]), int(self.corner[following(e)])

    def flip_ends(self, e: int) -> tuple[int, int]:
        """Return the two vertices that a flip of half-edge *e* would join."""
        return int(self.corner[preceding(e)]), int(self.corner[preceding(int(self.mate[e]))])

    def flip(self, e: int) -> None:
        """Flip the edge of half-edge *e*.

        Raises
        ------
        EditError
            Where the edge is forced, on the rim, or its quadrilateral is not strictly convex.
        """
        if self.fixed[e] > 0:
            raise EditError("the edge is part of a breakline, which no triangle may cross")
        if not self.alive[e // 3] or not self.alive[self.mate[e] // 3]:
            raise EditError("the edge is on the rim of the surface: no triangle beyond it")
        if not flips.is_convex(self.arrays, e):
            raise EditError("its two triangles do not form a convex quadrilateral, so the other diagonal leaves them")
        flips.flip(self.arrays, e)

    def read(self) -> Reading:
        """Return the living triangles as plain arrays."""
        number = np.empty(self.vertex_count, np.int32)
        count = compact.number_vertices(self.arrays, self.triangle_count, number)
        is_all, has_lines = count == self.vertex_count, len(self.segments) > 0
        given = (self.arrays, self.triangle_count, number, is_all)
        starts = np.zeros(count + 1, np.int64)
        compact.first_rows(*given, starts)
        triangles, lines = (np.empty((starts[-1], 3), np.int32) for _ in range(2))
        side_by_side(
            lambda low, high: compact.fill_triangles(*given, has_lines, starts, low, high, triangles, lines), count
        )
        return Reading(np.flatnonzero(number >= 0).astype(np.int32), triangles, lines)


def _canonical_segments(xy: Floats, segments: Ints) -> tuple[NDArray[np.int64], Ints]:
    """Turn segments west to east (south to north) and sort them by their ends."""
    a, b = segments[:, 0], segments[:, 1]
    backwards = (xy[a, 0] > xy[b, 0]) | ((xy[a, 0] == xy[b, 0]) & (xy[a, 1] > xy[b, 1]))
    turned = np.where(backwards[:, None], segments[:, ::-1], segments).astype(np.int32)
    order = np.lexsort((turned[:, 1], turned[:, 0]))
    return order, np.ascontiguousarray(turned[order])
