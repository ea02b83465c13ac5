"""The triangles that touch one tile, put together from where they were settled."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats, Indices, Ints
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import load, save
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_reading import points_of
from evrin.surface.surface import Surface

_MOST_POINTS = 2**31 - 2


class TileNumbers(NamedTuple):
    """How the ground points of all tiles are numbered.

    Attributes
    ----------
    tiles : tuple of tile
        All tiles, in order.
    firsts : (n,) int64
        The number of the first point of each tile, rising.
    trimmed : str
        Name of the file of triangles that are no part of the surface; empty where there is none.
    """

    tiles: tuple[Tile, ...]
    firsts: Indices
    trimmed: str

    def first(self, tile: Tile) -> int:
        """Return the number of the first point of a tile, -1 where it has none."""
        return int(self.firsts[self.tiles.index(tile)]) if tile in self.tiles else -1


def save_numbers(job: Job, counts: dict[Tile, int]) -> None:
    """Number the ground points of all tiles, tile after tile.

    Raises
    ------
    DataError
        For more than can be numbered.
    """
    total = sum(counts.values())
    if total > _MOST_POINTS:
        raise DataError(f"{total:,} points are left, and {_MOST_POINTS:,} can be numbered; thin by a cell first")
    firsts = np.cumsum([0, *counts.values()])[:-1]
    save(job.at("numbers", "first").with_suffix(".npy"), np.column_stack((list(counts), firsts)).astype(np.int64))


def numbers_of(job: Job, trimmed: str = "") -> TileNumbers:
    """Return how points are numbered."""
    table = np.asarray(load(job.at("numbers", "first").with_suffix(".npy")))
    return TileNumbers(tuple(map(tuple, table[:, :2].tolist())), table[:, 2].copy(), trimmed)


@dataclass(frozen=True, eq=False)
class TilePart:
    """Triangles that touch a tile.

    Attributes
    ----------
    vertices : (n, 3) float64
        Easting, northing, height.
    ids : (n,) int32
        The number of each vertex among all ground points, rising.
    triangles : (m, 3) int32
        Rows of *vertices*, counter-clockwise, in an order that depends on the places alone.
    is_own : (m,) bool
        Triangles whose first vertex lies in the tile: each is own to one tile.
    """

    vertices: Floats
    ids: Ints
    triangles: Ints
    is_own: Flags

    def surface(self, *, own: bool = False) -> Surface:
        """Return the triangles, or those of the tile's own, as a surface; its vertices are those of the part."""
        triangles = self.triangles[self.is_own] if own else self.triangles
        return Surface(self.vertices, triangles, np.full(triangles.shape, -1, np.int32))


def tile_part(job: Job, tile: Tile, nodes: Sequence[str], numbers: TileNumbers) -> TilePart | None:
    """Return the triangles that touch a tile; None where there are none.

    Parameters
    ----------
    job : Job
        What the run is to do.
    tile : tuple of int
        Column and row.
    nodes : sequence of str
        Where triangles that touch the tile were settled.
    numbers : TileNumbers
        Numbers of the ground points.
    """
    listed = [_listed(job, node, tile) for node in nodes]
    triangles = np.concatenate(listed) if listed else np.empty((0, 3), np.int32)
    if numbers.trimmed and len(triangles):
        triangles = triangles[~_are_among(triangles, load(job.at("trimmed", numbers.trimmed).with_suffix(".npy")))]
    if len(triangles) == 0:
        return None
    ids, inverse = np.unique(triangles, return_inverse=True)
    vertices = places_of(job, ids, numbers)
    corners = _in_order(vertices, inverse.reshape(-1, 3).astype(np.int32))
    first = numbers.first(tile)
    last = first + len(points_of(job, "ground", tile)) if first >= 0 else -1
    lowest = ids[corners.min(axis=1)]
    return TilePart(vertices, ids, corners, (lowest >= first) & (lowest < last))


def places_of(job: Job, ids: Ints, numbers: TileNumbers) -> Floats:
    """Return the places (n, 3) of ground points by their numbers, which rise."""
    firsts = numbers.firsts
    at = np.searchsorted(firsts, ids, "right") - 1
    out = np.empty((len(ids), 3))
    for index in np.unique(at).tolist():
        start, stop = np.searchsorted(at, [index, index + 1])
        out[start:stop] = points_of(job, "ground", numbers.tiles[index])[ids[start:stop] - firsts[index]]
    return out


def _listed(job: Job, node: str, tile: Tile) -> Ints:
    path = job.at("tree", node)
    tiles = load(path.with_suffix(".tiles.npy"))
    at = np.flatnonzero((tiles[:, 0] == tile[0]) & (tiles[:, 1] == tile[1])) if len(tiles) else ()
    if len(at) == 0:
        return np.empty((0, 3), np.int32)
    start, stop = tiles[at[:1]].ravel().tolist()[2:]
    return np.array(load(path.with_suffix(".triangles.npy"))[start:stop])


def _are_among(triangles: Ints, others: Ints) -> Flags:
    """Which triangles are among others that are in order; both by numbers that rise from corner to corner."""
    kind = np.dtype((np.void, 12))
    keys = np.ascontiguousarray(np.sort(triangles, axis=1)).view(kind).ravel()
    return np.isin(keys, np.ascontiguousarray(others).view(kind).ravel())


def _in_order(vertices: Floats, corners: Ints) -> Ints:
    """Triangles beginning at their westernmost corner, in the order of the places of their corners."""
    rank = np.empty(len(vertices), np.int32)
    rank[np.lexsort((vertices[:, 1], vertices[:, 0]))] = np.arange(len(vertices), dtype=np.int32)
    ranks = rank[corners]
    turn = (ranks.argmin(axis=1)[:, None] + np.arange(3)) % 3
    corners, ranks = np.take_along_axis(corners, turn, 1), np.take_along_axis(ranks, turn, 1)
    return np.ascontiguousarray(corners[np.lexsort((ranks[:, 2], ranks[:, 1], ranks[:, 0]))])
