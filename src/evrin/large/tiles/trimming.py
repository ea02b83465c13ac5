"""Long triangles taken away from the rim inwards, over all tiles."""

from __future__ import annotations

import hashlib

import numpy as np

from evrin.kernels import Flags, Ints
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import load, save
from evrin.large.tiles.tile_part import numbers_of, places_of


def long_triangles(job: Job, node: str, longest: float) -> Ints:
    """Return the triangles (m, 3) settled in a square that have an edge longer than this, by their corners' numbers."""
    triangles = np.unique(np.asarray(load(job.at("tree", node).with_suffix(".triangles.npy"))), axis=0)
    if len(triangles) == 0:
        return triangles
    return np.ascontiguousarray(triangles[_edge_is_long(job, triangles, longest).any(axis=1)])


def save_trimmed(job: Job, triangles: Ints, longest: float, *, inside: bool) -> tuple[str, int]:
    """Write down which long triangles go: all of them, or those that the rim reaches through long edges.

    Returns
    -------
    name : str
        Of the file.
    count : int
    """
    leave = triangles if inside else triangles[_is_reached(triangles, _edge_is_long(job, triangles, longest))]
    rows = np.unique(np.sort(leave, axis=1), axis=0).astype(np.int32)
    name = hashlib.sha256(rows.tobytes()).hexdigest()[:24]
    save(job.at("trimmed", name).with_suffix(".npy"), rows)
    return name, len(rows)


def _edge_is_long(job: Job, triangles: Ints, longest: float) -> Flags:
    """Which edges (m, 3), each from the corner of its column to the next, are longer than this."""
    if len(triangles) == 0:
        return np.empty((0, 3), np.bool_)
    ids, corners = np.unique(triangles, return_inverse=True)
    places = places_of(job, ids, numbers_of(job))[:, :2][corners.reshape(-1, 3)]
    along = np.roll(places, -1, axis=1) - places
    return np.asarray((along**2).sum(axis=2) > longest**2)


def _is_reached(triangles: Ints, is_long: Flags) -> Flags:
    """Which triangles are reached from outside through long edges, all triangles beside which are given."""
    ends = np.stack((triangles, np.roll(triangles, -1, axis=1)), axis=2).reshape(-1, 2).astype(np.int64)
    keys = (ends.min(axis=1) << 32) | ends.max(axis=1)
    _, edge, count = np.unique(keys, return_inverse=True, return_counts=True)
    passable = is_long.ravel()
    by_edge = np.argsort(edge, kind="stable")
    starts = np.append(0, np.cumsum(count))
    reached = np.zeros(len(triangles), np.bool_)
    stack = np.unique(np.flatnonzero(passable & (count[edge] == 1)) // 3).tolist()
    reached[stack] = True
    while stack:
        t = stack.pop()
        for half in (3 * t, 3 * t + 1, 3 * t + 2):
            if not passable[half]:
                continue
            for other in (by_edge[starts[edge[half]] : starts[edge[half] + 1]] // 3).tolist():
                if not reached[other]:
                    reached[other] = True
                    stack.append(other)
    return reached
