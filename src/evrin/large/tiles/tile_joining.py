"""Tiles triangulated one by one and joined four by four: what is settled where, and where each tile finds it.

See `evrin.tin.delaunay.tiles` for why the triangles are those of all places at once.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from evrin.kernels import Floats, Indices, Ints
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import load, name_of, once_as, save
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.thinning import Kept, kept_rows
from evrin.large.tiles.tile_part import numbers_of, places_of
from evrin.large.tiles.tile_reading import points_of
from evrin.tin.delaunay.tile_listing import touched_tiles
from evrin.tin.delaunay.tile_tree import Waiting, joined

Square = tuple[int, int, int]
Box = tuple[float, float, float, float]


class Node(NamedTuple):
    """A square of tiles: how often its side was doubled, column and row of the square.

    Attributes
    ----------
    name : str
        Of its results: a digest of all that they depend on.
    square : tuple of int
        Level, column and row.
    children : tuple of str
        Names of those that it joins.
    box : tuple of float
        West, south, east, north, without an end where no tile is beyond.
    """

    name: str
    square: Square
    children: tuple[str, ...]
    box: Box


@dataclass(frozen=True)
class Tree:
    """Squares of tiles, smaller ones before the one that they are part of.

    Attributes
    ----------
    corner : tuple of int
        The tile in the south-west.
    nodes : dict
        By square.
    """

    corner: Tile
    nodes: dict[Square, Node]

    def nodes_of(self, tile: Tile) -> list[str]:
        """Return the names of the squares that hold a tile."""
        levels = max(level for level, _, _ in self.nodes) + 1
        squares = [self._square(tile, level) for level in range(levels)]
        return [self.nodes[square].name for square in squares if square in self.nodes]

    def leaf_of(self, tile: Tile) -> Node:
        """Return the node of a single tile."""
        return self.nodes[self._square(tile, 0)]

    def levels(self) -> Iterator[list[Node]]:
        """Yield the squares of each size above a tile, smallest first."""
        top = max(level for level, _, _ in self.nodes)
        for wanted in range(1, top + 1):
            yield [node for (level, _, _), node in self.nodes.items() if level == wanted]

    def _square(self, tile: Tile, level: int) -> Square:
        return level, (tile[0] - self.corner[0]) >> level, (tile[1] - self.corner[1]) >> level


def tree_over(job: Job, kept: Mapping[Tile, Kept]) -> Tree:
    """Return the squares that join tiles which have vertices."""
    tiles = np.array([tile for tile, each in kept.items() if each.vertices], np.int64)
    low, high = tiles.min(axis=0), tiles.max(axis=0)
    side = int((high - low).max()) + 1
    top = max(side - 1, 0).bit_length()
    corner, extent = (int(low[0]), int(low[1])), (high - low + 1).tolist()
    nodes: dict[Square, Node] = {}
    for tile in map(tuple, (tiles - low).tolist()):
        square = (0, tile[0], tile[1])
        box = _box(job, corner, extent, square, is_all=top == 0)
        whole = (corner[0] + tile[0], corner[1] + tile[1])
        nodes[square] = Node(name_of(job.tiling, whole, kept[whole].digest, box), square, (), box)
    for level in range(1, top + 1):
        groups: dict[Square, list[Node]] = {}
        for square, node in list(nodes.items()):
            if square[0] == level - 1:
                groups.setdefault((level, square[1] >> 1, square[2] >> 1), []).append(node)
        for square, parts in sorted(groups.items()):
            names = tuple(node.name for node in sorted(parts, key=lambda node: node.square))
            box = _box(job, corner, extent, square, is_all=level == top)
            nodes[square] = Node(name_of(names, box), square, names, box)
    return Tree(corner, nodes)


def _box(job: Job, corner: Tile, extent: list[int], square: Square, *, is_all: bool) -> Box:
    side = 1 << square[0]
    start = [square[1] * side, square[2] * side]
    low = [(corner[k] + start[k]) * job.tiling.size if start[k] > 0 else -np.inf for k in (0, 1)]
    end = [start[k] + side for k in (0, 1)]
    high = [(corner[k] + end[k]) * job.tiling.size if end[k] < extent[k] else np.inf for k in (0, 1)]
    return (-np.inf, -np.inf, np.inf, np.inf) if is_all else (low[0], low[1], high[0], high[1])


class SettledTriangles(NamedTuple):
    """What is settled in a square.

    Attributes
    ----------
    triangles : int
        How many.
    listed : list
        Column and row of each tile that some of them touch, and a digest of those that do.
    """

    triangles: int
    listed: list[tuple[int, int, str]]


def triangulate_tile(job: Job, node: Node, tile: Tile, kept: Kept) -> SettledTriangles:
    """Triangulate the vertices of one tile, and keep what is settled."""

    def make() -> SettledTriangles:
        rows = np.asarray(kept_rows(job, kept))
        xy = np.ascontiguousarray(points_of(job, "ground", tile)[rows][:, :2])
        ids = (rows + numbers_of(job).first(tile)).astype(np.int32)
        return _settled(job, node, [Waiting(xy, ids, np.empty((0, 2), np.int32))])

    return once_as(job.at("tree", node.name).with_suffix(".json"), SettledTriangles, make)


def join_squares(job: Job, node: Node) -> SettledTriangles:
    """Triangulate what waits in up to four squares, and keep what is settled now."""

    def make() -> SettledTriangles:
        parts = []
        for name in node.children:
            path = job.at("tree", name)
            waiting = [np.array(load(path.with_suffix(f".{each}.npy"))) for each in Waiting._fields]
            parts.append(Waiting(*waiting))
        return _settled(job, node, parts)

    return once_as(job.at("tree", node.name).with_suffix(".json"), SettledTriangles, make)


def _settled(job: Job, node: Node, parts: list[Waiting]) -> SettledTriangles:
    triangles, waiting = joined(parts, np.array(node.box))
    path = job.at("tree", node.name)
    for name, array in waiting._asdict().items():
        save(path.with_suffix(f".{name}.npy"), array)
    listed, tiles = _by_tile(job, triangles)
    save(path.with_suffix(".triangles.npy"), listed)
    save(path.with_suffix(".tiles.npy"), tiles)
    digests = [hashlib.sha256(listed[start:stop].tobytes()).hexdigest()[:16] for _, _, start, stop in tiles.tolist()]
    nodes = [(row[0], row[1], digest) for row, digest in zip(tiles.tolist(), digests, strict=True)]
    return SettledTriangles(len(triangles), nodes)


def _by_tile(job: Job, triangles: Ints) -> tuple[Ints, Indices]:
    """Triangles tile by tile, each in all that it touches, and column, row, first and last of each tile."""
    if len(triangles) == 0:
        return np.empty((0, 3), np.int32), np.empty((0, 4), np.int64)
    ids, corners = np.unique(triangles, return_inverse=True)
    places = places_of(job, ids, numbers_of(job))[:, :2]
    tiles = job.tiling.tiles_of(places)
    corners = corners.reshape(-1, 3)
    corner_places: Floats = np.ascontiguousarray(places[corners])
    triangle_tiles = np.empty((2 * len(triangles) + 64, 3), np.int64)
    while True:
        count = touched_tiles(corner_places, np.ascontiguousarray(tiles[corners]), job.tiling.size, triangle_tiles)
        if count <= len(triangle_tiles):
            break
        triangle_tiles = np.empty((count, 3), np.int64)
    triangle_tiles = triangle_tiles[:count]
    order = np.lexsort((triangle_tiles[:, 0], triangle_tiles[:, 1], triangle_tiles[:, 2]))
    triangle_tiles = triangle_tiles[order]
    starts = np.flatnonzero(np.append(True, (triangle_tiles[1:, 1:] != triangle_tiles[:-1, 1:]).any(axis=1)))
    stops = np.append(starts[1:], count)
    return triangles[triangle_tiles[:, 0]], np.column_stack((triangle_tiles[starts, 1:], starts, stops))
