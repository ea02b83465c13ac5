"""Places that come tile by tile, more of them than memory holds, triangulated as if they had come at once.

Tiles are joined two by two, four by four and so on. What one step settles is handed out and forgotten; what waits is as
long as the joined tile's edge is, not as large as its area. `evrin.tin.delaunay.tiles` proves that the result is exact.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import Floats, Ints
from evrin.tin.delaunay.joined_tiles import Part, settle
from evrin.tin.exact.curve_order import distinct_places


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
