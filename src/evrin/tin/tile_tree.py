"""Places that come tile by tile, more of them than memory holds, triangulated as if they had come at once.

Tiles are joined two by two, four by four and so on. What one step settles is handed out and forgotten; what waits is as
long as the joined tile's edge is, not as large as its area. See `evrin.tin.tiles` for why the result is the same.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from typing import NamedTuple

import numpy as np

from evrin.errors import GeometryError
from evrin.tin.curve_order import distinct_places
from evrin.tin.joined_tiles import EVERYWHERE, Part, settle
from evrin.tin.types import Floats, Ints


class Grid(NamedTuple):
    """Rectangles by column and row: where they begin, and the last one ends.

    A place on an edge between two belongs to the one east or north of it. Beyond the outermost edges there is no place.
    """

    east: Floats
    north: Floats


class Waiting(NamedTuple):
    """Places that wait, their numbers, and the walls around what is settled beyond them.

    Attributes
    ----------
    xy : (k, 2) float64
    ids : (k,) int32
    walls : (e, 2) int32
    """

    xy: Floats
    ids: Ints
    walls: Ints


def triangles_by_tiles(grid: Grid, places_of: Callable[[int, int], tuple[Floats, Ints]]) -> Iterator[Ints]:
    """Yield the triangles (m, 3) of all places, some at a time, by the numbers of their corners.

    Parameters
    ----------
    grid : Grid
    places_of : callable
        Takes column and row, and returns the places (k, 2) of that tile, each place once, and a number (k,) int32 for
        each, which no other place has. Is called once for each tile.

    Yields
    ------
    (m, 3) int32
        Counter-clockwise. All together are the triangulation of all places, whatever the grid.

    Raises
    ------
    GeometryError
        Where all places lie on one line.
    """
    columns, rows = len(grid.east) - 1, len(grid.north) - 1
    size = 1
    while size < max(columns, rows):
        size *= 2
    count = 0
    for triangles in _settled(grid, places_of, 0, 0, size, top=True):
        count += len(triangles)
        yield triangles
    if count == 0:
        raise GeometryError("fewer than three places, or all of them on one line; a surface needs one to the side")


def _settled(
    grid: Grid, places_of: Callable[[int, int], tuple[Floats, Ints]], column: int, row: int, size: int, *, top: bool
) -> Generator[Ints, None, Waiting]:
    """Yield what is settled in a square of tiles, and return what waits."""
    columns, rows = len(grid.east) - 1, len(grid.north) - 1
    if column >= columns or row >= rows:
        return Waiting(np.empty((0, 2)), np.empty(0, np.int32), np.empty((0, 2), np.int32))
    if size == 1:
        xy, ids = places_of(column, row)
        parts = [Waiting(xy, ids, np.empty((0, 2), np.int32))]
    else:
        half = size // 2
        parts = []
        for inner_row in (row, row + half):
            for inner_column in (column, column + half):
                part = yield from _settled(grid, places_of, inner_column, inner_row, half, top=False)
                parts.append(part)
    box = EVERYWHERE if top else _box(grid, column, row, size)
    found, waiting = joined(parts, box)
    if len(found):
        yield found
    return waiting


def _box(grid: Grid, column: int, row: int, size: int) -> Floats:
    """The rectangle of a square of tiles, without an end where no tile is beyond it."""
    columns, rows = len(grid.east) - 1, len(grid.north) - 1
    return np.array(
        [
            grid.east[column] if column > 0 else -np.inf,
            grid.north[row] if row > 0 else -np.inf,
            grid.east[column + size] if column + size < columns else np.inf,
            grid.north[row + size] if row + size < rows else np.inf,
        ]
    )


def joined(parts: list[Waiting], box: Floats) -> tuple[Ints, Waiting]:
    """Triangulate what waits in neighbouring squares; return the triangles that are settled now, and what waits still.

    Parameters
    ----------
    parts : list of Waiting
        Of a single tile, its places.
    box : (4,) float64
        West, south, east, north of the squares together, without an end where no place is beyond.

    Returns
    -------
    triangles : (m, 3) int32
        By the numbers of their corners.
    waiting : Waiting
    """
    xy = np.concatenate([part.xy for part in parts])
    ids = np.concatenate([part.ids for part in parts])
    walls = np.concatenate([part.walls for part in parts])
    order, _ = distinct_places(np.ascontiguousarray(xy))
    xy, ids = np.ascontiguousarray(xy[order]), np.ascontiguousarray(ids[order])
    done: Part = settle(xy, ids, walls, box)
    corners = done.corner.reshape(-1, 3)[done.new]
    corners = corners[(corners >= 0).all(axis=1)]
    waits = np.isin(ids, done.waiting)
    return ids[corners], Waiting(xy[waits], ids[waits], done.walls)
