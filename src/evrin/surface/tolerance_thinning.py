"""The points of a cloud that hold its surface within a tolerance of all the rest."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from evrin.errors import DataError
from evrin.surface.locator import Locator
from evrin.surface.surface import Surface
from evrin.tin import locate
from evrin.tin.curve_order import canonical_order, distinct_places
from evrin.tin.mesh import Mesh
from evrin.tin.types import Flags, Floats, Indices

_SAMPLE = 48


@dataclass(frozen=True, eq=False)
class Thinned:
    """What is kept of a cloud.

    Attributes
    ----------
    kept : (n,) bool
    worst : float
        The farthest that any point left out lies above or below the surface through those kept, as measured on all.
    rounds : int
    """

    kept: Flags
    worst: float
    rounds: int


def thinned_by_tolerance(xyz: Floats, tolerance: float, progress: Callable[[int, int], None] | None = None) -> Thinned:
    """Keep only the points that the surface needs to stay within a height tolerance of all the rest.

    Greedy insertion (Garland, M. and Heckbert, P. S. (1995), *Fast Polygonal Approximation of Terrains and Height
    Fields*, Carnegie Mellon University, CMU-CS-95-181), a round at a time: of each triangle the point farthest above or
    below it is taken in, until no point is farther off than the tolerance. Every round measures every point left out,
    so the last one is the proof.

    Parameters
    ----------
    xyz : (n, 3) float64
    tolerance : float
    progress : callable, optional
        Called with the number of points kept and of those still too far off, round by round.

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
    kept = _first_sample(cloud)
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
    """Mark as kept what the surface through those kept, and other points, needs to stay within a height tolerance.

    Parameters
    ----------
    cloud : (n, 3) float64
    kept : (n,) bool
        Changed.
    tolerance : float
    others : (k, 3) float64
        Vertices of the surface besides, none at the place of a point of the cloud.
    progress : callable, optional

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
    rounds = 0
    while True:
        rounds += 1
        surface = _surface_through(np.concatenate((cloud[kept], others)))
        left = np.flatnonzero(~kept)
        error, triangle = errors_at(surface, cloud[left])
        over = ~(error <= tolerance)
        if progress is not None:
            progress(int(kept.sum()), int(over.sum()))
        if not over.any():
            return float(error.max()) if len(error) else 0.0, rounds
        kept[left[over][worst_of_each(triangle[over], error[over])]] = True


def _first_sample(cloud: Floats) -> Flags:
    """The corners of the extent and a thin regular sample, the nearest point to each of its nodes."""
    low, high = cloud[:, :2].min(axis=0), cloud[:, :2].max(axis=0)
    step = max(float((high - low).max()) / _SAMPLE, 1e-9)
    part = (cloud[:, :2] - low) / step
    cell = np.floor(part)
    away = np.hypot(*(part - cell - 0.5).T)
    order = np.lexsort((cloud[:, 2], cloud[:, 1], cloud[:, 0], away, cell[:, 1], cell[:, 0]))
    first = np.ones(len(order), np.bool_)
    first[1:] = (cell[order[1:]] != cell[order[:-1]]).any(axis=1)
    kept = np.zeros(len(cloud), np.bool_)
    kept[order[first]] = True
    for east, north in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
        kept[np.lexsort((cloud[:, 2], cloud[:, 1], cloud[:, 0], -(east * cloud[:, 0] + north * cloud[:, 1])))[0]] = True
    return kept


def _surface_through(points: Floats) -> Surface:
    order, starts = distinct_places(np.ascontiguousarray(points[:, :2]))
    firsts = order[starts[:-1]]
    mesh = Mesh(np.take(points[:, :2], firsts, axis=0), np.take(points[:, 2], firsts))
    reading = mesh.read()
    vertices = np.column_stack((mesh.xy[reading.vertices], mesh.z[reading.vertices]))
    return Surface(vertices, reading.triangles, np.full(reading.triangles.shape, -1, np.int32))


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
