"""The points of a cloud that hold its surface within a tolerance of all the rest.

References
----------
M. Garland and P. S. Heckbert (1995), Fast polygonal approximation of terrains and height fields, Carnegie Mellon
University, CMU-CS-95-181. They add the farthest point of all; here each round adds the farthest of each triangle.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats, Indices
from evrin.surface.locator import Locator
from evrin.surface.surface import Surface
from evrin.tin.exact.curve_order import canonical_order, distinct_places
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query import locate

SAMPLE = 48
# Large odd numbers: three corners give a sum that hardly any other three give, and in doubt a triangle counts as new.
_MIXERS = np.array([0x1E3779B97F4A7C15, 0x3F58476D1CE4E5B9, 0x14D049BB133111EB])


@dataclass(frozen=True, eq=False)
class Thinned:
    """What is kept of a cloud.

    Attributes
    ----------
    kept : (n,) bool
        Which points stay.
    worst : float
        The farthest that any point left out lies above or below the surface through those kept, as measured on all.
    rounds : int
        How often points were added.
    """

    kept: Flags
    worst: float
    rounds: int


def thinned_by_tolerance(
    xyz: Floats, tolerance: float, progress: Callable[[int, int], None] | None = None, *, sample: int = SAMPLE
) -> Thinned:
    """Keep only the points that the surface needs to stay within a height tolerance of all the rest.

    Greedy insertion (Garland, M. and Heckbert, P. S. (1995), *Fast Polygonal Approximation of Terrains and Height
    Fields*, Carnegie Mellon University, CMU-CS-95-181), a round at a time: of each triangle the point farthest above or
    below it is taken in, until no point is farther off than the tolerance. What a point is off is measured in the
    triangle that it lies in, again whenever that triangle changes, so the last round is the proof for all of them.

    Parameters
    ----------
    xyz : (n, 3) float64
        The points.
    tolerance : float
        The largest distance in height that a dropped point may have.
    progress : callable, optional
        Called with the number of points kept and of those still too far off, round by round.
    sample : int
        Along a side, of the points to begin with; up to 180.

    Returns
    -------
    Thinned
        The same choice whatever the order of the rows; of several points at one place the lowest can be kept.

    Raises
    ------
    DataError
        For a tolerance that is not above 0.
    GeometryError
        Where the points give no triangle.
    """
    rows = np.take(np.arange(len(xyz)), canonical_order(np.ascontiguousarray(xyz[:, :2])))
    cloud = np.take(xyz, rows, axis=0)
    kept = _first_sample(cloud, sample)
    worst, rounds = keep_more(cloud, kept, tolerance, np.empty((0, 3)), progress)
    out = np.zeros(len(xyz), np.bool_)
    out[rows[kept]] = True
    return Thinned(out, worst, rounds)


def keep_more(
    cloud: Floats,
    kept: Flags,
    tolerance: float,
    others: Floats,
    progress: Callable[[int, int], None] | None = None,
) -> tuple[float, int]:
    """Add to those kept what the surface through them, and through other points, needs to stay within a tolerance.

    Parameters
    ----------
    cloud : (n, 3) float64
        The points.
    kept : (n,) bool
        Changed.
    tolerance : float
        The largest distance in height that a dropped point may have.
    others : (k, 3) float64
        Vertices of the surface besides, none at the place of a point of the cloud.
    progress : callable, optional
        Is called in each round with how many points are kept and how many are still beyond the tolerance.

    Returns
    -------
    worst : float
        The farthest that any point left out lies above or below.
    rounds : int

    Raises
    ------
    DataError
        For a tolerance that is not above 0.
    """
    if not tolerance > 0.0:
        raise DataError(f"tolerance must be above 0; it is {tolerance:g}")
    points = np.concatenate((cloud, others))
    is_kept = np.concatenate((kept, np.ones(len(others), np.bool_)))
    measured, rounds = _Measured.nothing(len(cloud)), 0
    while True:
        rounds += 1
        measured = measured.after(points, is_kept)
        over = np.flatnonzero(~(measured.error <= tolerance) & ~kept)
        if progress is not None:
            progress(int(kept.sum()), len(over))
        if len(over) == 0:
            left = measured.error[~kept]
            return float(left.max()) if len(left) else 0.0, rounds
        worst = over[worst_of_each(measured.triangle[over], measured.error[over])]
        kept[worst] = is_kept[worst] = True


@dataclass(frozen=True, eq=False)
class _Measured:
    """How far each point lies from a surface, and which triangles there were: one that stays is not measured again.

    Attributes
    ----------
    error : (n,) float64
    triangle : (n,) int64
        Below -1 beyond the rim, each by itself.
    corners : (m, 3) int64
        Of the triangles, by rows of all points, rising.
    """

    error: Floats
    triangle: Indices
    corners: Indices

    @classmethod
    def nothing(cls, count: int) -> _Measured:
        return cls(np.full(count, np.inf), np.full(count, -1), np.empty((0, 3), np.int64))

    def after(self, points: Floats, is_vertex: Flags) -> _Measured:
        """Measure all points against the surface through those chosen."""
        surface, rows = _surface_through(points, np.flatnonzero(is_vertex))
        corners = np.sort(rows[surface.triangles], axis=1)
        # Entry -1, and all below, are places beyond the rim.
        now = np.append(_same_triangles(self.corners, corners), -1)
        triangle = now[np.maximum(self.triangle, -1)]
        error = self.error.copy()
        again = np.flatnonzero(triangle < 0)
        error[again], triangles = errors_at(surface, points[again])
        triangle[again] = np.where(triangles < 0, -2 - again, triangles)
        return _Measured(error, triangle, corners)


def _same_triangles(before: Indices, after: Indices) -> Indices:
    """The row of each of some triangles among others, -1 where it is not among them."""
    if len(before) == 0 or len(after) == 0:
        return np.full(len(before), -1)
    mixed = [(each * _MIXERS).sum(axis=1) for each in (before, after)]
    order = np.argsort(mixed[1])
    at = order[np.minimum(np.searchsorted(mixed[1][order], mixed[0]), len(after) - 1)]
    return np.where((after[at] == before).all(axis=1), at, -1)


def _first_sample(cloud: Floats, sample: int) -> Flags:
    """The corners of the extent and a thin regular sample, the nearest point to each of its nodes."""
    low, high = cloud[:, :2].min(axis=0), cloud[:, :2].max(axis=0)
    step = max(float((high - low).max()) / sample, 1e-9)
    part = (cloud[:, :2] - low) / step
    cell = np.floor(part)
    distances = np.hypot(*(part - cell - 0.5).T)
    # Few cells fit into 16 bits, which are sorted quickest.
    by_cell = np.argsort((cell @ (1, sample + 1)).astype(np.int16), kind="stable")
    starts = np.flatnonzero(np.append(True, (cell[by_cell[1:]] != cell[by_cell[:-1]]).any(axis=1)))
    nearest = np.repeat(np.minimum.reduceat(distances[by_cell], starts), np.diff(starts, append=len(cloud)))
    kept = np.zeros(len(cloud), np.bool_)
    kept[_first_of_each(cloud, by_cell[distances[by_cell] == nearest], cell)] = True
    for east, north in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
        along = east * cloud[:, 0] + north * cloud[:, 1]
        kept[_first_of_each(cloud, np.flatnonzero(along == along.max()), np.zeros_like(cell))] = True
    return kept


def _first_of_each(cloud: Floats, rows: Indices, cell: Floats) -> Indices:
    """Of some points, the first by place and height in each cell."""
    x, y, z = cloud[rows].T
    rows = np.take(rows, np.lexsort((z, y, x, *cell[rows].T)))
    return np.compress(np.append(True, (cell[rows[1:]] != cell[rows[:-1]]).any(axis=1)), rows)


def _surface_through(points: Floats, rows: Indices) -> tuple[Surface, Indices]:
    """The surface through some of the points, and which of all points its vertices are."""
    order, starts = distinct_places(np.ascontiguousarray(points[rows, :2]))
    firsts = rows[order[starts[:-1]]]
    mesh = Mesh(np.take(points[:, :2], firsts, axis=0), np.take(points[:, 2], firsts))
    reading = mesh.read()
    vertices = np.column_stack((mesh.xy[reading.vertices], mesh.z[reading.vertices]))
    surface = Surface(vertices, reading.triangles, np.full(reading.triangles.shape, -1, np.int32))
    return surface, firsts[reading.vertices]


def errors_at(surface: Surface, places: Floats) -> tuple[Floats, Indices]:
    """Return how far each place lies above or below the surface, infinitely beyond its rim, and which triangle.

    Beyond the rim, triangles are numbered below -1, each place by itself.
    """
    if len(places) == 0:
        return np.empty(0), np.empty(0, np.int64)
    where: Locator = surface.locator
    along = np.ascontiguousarray(places[:, :2])
    triangle, heights = np.empty(len(places), np.int64), np.empty(len(places))
    locate.locate_places(
        where.vertices, where.triangles, where.mate, where.order, where.boxes, where.levels, along, triangle
    )
    locate.heights_in_triangles(where.vertices, where.triangles, triangle, along, heights)
    error = np.abs(places[:, 2] - heights)
    outside = triangle < 0
    triangle[outside] = -2 - np.arange(int(outside.sum()))
    error[outside] = np.inf
    return error, triangle


def worst_of_each(triangle: Indices, error: Floats) -> Indices:
    """Return the row of the largest error in each triangle."""
    order = np.lexsort((-error, triangle))
    first = np.ones(len(order), np.bool_)
    first[1:] = triangle[order[1:]] != triangle[order[:-1]]
    return order[first]
