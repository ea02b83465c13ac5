"""Connected components of triangles."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy

from evrin.kernels import Flags, Indices
from evrin.surface.surface import Surface


def joined_parts(count: int, pairs: Indices) -> Indices:
    """Return the number of the part that each of *count* things is in, where pairs (p, 2) of them are joined.

    Examples
    --------
    >>> joined_parts(4, np.array([[0, 2], [3, 1]])).tolist()
    [0, 1, 0, 1]
    """
    links = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    return np.asarray(scipy.sparse.csgraph.connected_components(links, directed=False)[1], np.int64)


def triangle_parts(surface: Surface, triangles: Indices) -> list[Indices]:
    """Return chosen triangles in groups that are joined by edges."""
    if not len(triangles):
        return []
    number = np.full(len(surface.triangles) + 1, -1, np.int64)
    number[triangles] = np.arange(len(triangles))
    mates = surface.mates.reshape(-1, 3)[triangles]
    beside = number[np.where(mates >= 0, mates // 3, -1)]
    rows, columns = np.nonzero(beside >= 0)
    label = joined_parts(len(triangles), np.column_stack((rows, beside[rows, columns])))
    order = np.argsort(label, kind="stable")
    return np.split(triangles[order], np.flatnonzero(np.diff(label[order])) + 1)


def on_lines(surface: Surface, effects: tuple[str, ...] = ()) -> Flags:
    """Return which vertices (n,) an edge on a line ends at, on one of some effects where these are named."""
    out = np.zeros(len(surface.vertices), np.bool_)
    is_meant = np.array([*(not effects or line.effect in effects for line in surface.lines), False], np.bool_)
    if is_meant.any():
        rows, sides = np.nonzero(is_meant[surface.edge_lines])
        out[surface.triangles[rows, sides]] = out[surface.triangles[rows, (sides + 1) % 3]] = True
    return out


def only(surface: Surface, is_kept: Flags) -> Surface:
    """Return a surface of some of the triangles (m,), with their vertices and the lines on record.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
    >>> only(ramp, np.array([True, False]))
    <Surface 'surface': 3 vertices, 1 triangles>
    """
    used = np.unique(surface.triangles[is_kept])
    number = np.full(len(surface.vertices), -1, np.int32)
    number[used] = np.arange(len(used))
    return replace(
        surface,
        vertices=surface.vertices[used],
        triangles=number[surface.triangles[is_kept]],
        edge_lines=surface.edge_lines[is_kept].copy(),
        provenance=None,
        hidden=np.empty((0, 3), np.int32),
    )
