"""Which ground points of a tile are vertices: those that keep the surface within a tolerance of all the rest."""

from __future__ import annotations

import hashlib
from typing import NamedTuple

import numpy as np

from evrin.base.errors import GeometryError
from evrin.kernels import Flags, Floats, Indices
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import load, name_of, once_as, save
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_part import numbers_of, tile_part
from evrin.large.tiles.tile_reading import points_of
from evrin.survey.cloud.tolerance_thinning import SAMPLE, errors_at, keep_more, thinned_by_tolerance, worst_of_each

# Of a tile's side: far enough for a surface to forget where a tile ends.
_AROUND = 0.04


class Kept(NamedTuple):
    """The vertices that a tile has for now.

    Attributes
    ----------
    name : str
        Of the file with their rows.
    digest : str
        Of the rows.
    vertices, added : int
        How many there are, and how many of them are new.
    worst : float
        The farthest that any other point of the tile lies from the surface that was measured.
    """

    name: str
    digest: str
    vertices: int
    added: int
    worst: float


def first_kept(job: Job, tile: Tile, around: list[Tile]) -> Kept:
    """Thin a tile with what lies next to it, and keep what is in it."""

    def make() -> Kept:
        own = np.asarray(points_of(job, "ground", tile))
        thin = job.source.thin
        if thin is None or thin.tolerance is None:
            return _saved(job, f"{tile[0]}_{tile[1]}-0", np.arange(len(own)), 0, 0.0)
        cloud = np.concatenate([own, *(_within(job, other, tile) for other in around if other != tile)])
        try:
            kept = thinned_by_tolerance(cloud, thin.tolerance, sample=_sample(len(cloud))).kept[: len(own)]
        except GeometryError:
            kept = np.ones(len(own), np.bool_)
        rows = np.flatnonzero(kept)
        return _saved(job, f"{tile[0]}_{tile[1]}-0", rows, len(rows), 0.0)

    return once_as(job.at("kept", f"{tile[0]}_{tile[1]}-0").with_suffix(".json"), Kept, make)


def _sample(points: int) -> int:
    """Points along a side to begin with: few in a small tile, as all of them stay."""
    return int(np.clip((points / 500.0) ** 0.5, 1, SAMPLE))


def kept_after_measuring(job: Job, tile: Tile, before: Kept, nodes: list[str], surface: str) -> Kept:
    """Measure every point of a tile against the surface of all, and keep more where one lies too far from it.

    *surface* is a digest of the triangles that touch the tile.
    """
    thin = job.source.thin
    tolerance = np.inf if thin is None or thin.tolerance is None else thin.tolerance
    name = f"{tile[0]}_{tile[1]}-{name_of(before.digest, surface)}"

    def make() -> Kept:
        points = np.asarray(points_of(job, "ground", tile))
        kept = np.zeros(len(points), np.bool_)
        kept[kept_rows(job, before)] = True
        numbers = numbers_of(job)
        part = tile_part(job, tile, nodes, numbers)
        if part is None:
            return before._replace(added=0, worst=0.0)
        left = np.flatnonzero(~kept)
        error, triangle = errors_at(part.surface(), points[left])
        over = ~(error <= tolerance)
        if not over.any():
            return before._replace(added=0, worst=float(error.max()) if len(error) else 0.0)
        was = int(kept.sum())
        kept[left[over][worst_of_each(triangle[over], error[over])]] = True
        first = numbers.first(tile)
        inner = (part.ids >= first) & (part.ids < first + len(points))
        keep_more_here(points, kept, part.vertices[~inner], tolerance)
        return _saved(job, name, np.flatnonzero(kept), int(kept.sum()) - was, float(error[over].max()))

    return once_as(job.at("kept", f"{name}-measured").with_suffix(".json"), Kept, make)


def keep_more_here(points: Floats, kept: Flags, others: Floats, tolerance: float) -> None:
    """Keep more of the points within the rim of those kept, until all lie near the surface through them and others."""
    try:
        keep_more(points, kept, tolerance, others)
    except GeometryError:
        kept[:] = True


def kept_rows(job: Job, kept: Kept) -> Indices:
    """Return which rows of a tile's ground points are its vertices."""
    return load(job.at("kept", kept.name).with_suffix(".npy"))


def _saved(job: Job, name: str, rows: Indices, added: int, worst: float) -> Kept:
    rows = np.ascontiguousarray(rows, np.int64)
    save(job.at("kept", name).with_suffix(".npy"), rows)
    return Kept(name, hashlib.sha256(rows.tobytes()).hexdigest()[:16], len(rows), added, worst)


def _within(job: Job, other: Tile, tile: Tile) -> Floats:
    """Points of another tile that lie near one."""
    xyz = points_of(job, "ground", other)
    west, south, east, north = job.tiling.box(tile, _AROUND * job.tiling.size)
    near = (xyz[:, 0] >= west) & (xyz[:, 0] <= east) & (xyz[:, 1] >= south) & (xyz[:, 1] <= north)
    return np.asarray(xyz[near])
