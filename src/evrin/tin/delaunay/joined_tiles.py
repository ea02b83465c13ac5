"""One triangulation of parts that are triangulated side by side; `evrin.tin.delaunay.tiles` proves that it is exact."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from evrin.kernels import Flags, Floats, Ints
from evrin.tin.delaunay import tiles
from evrin.tin.delaunay.triangulating import delaunay_mesh

EVERYWHERE = np.array([-np.inf, -np.inf, np.inf, np.inf])
_SMALL = 100_000
_SAMPLE = 10_000


@dataclass
class Part:
    """A triangulation of some places, some of whose triangles are new, and what of it waits.

    Attributes
    ----------
    ids : (k,) int32
        The number of each place among all of them.
    corner, mate : (3 t,) int32
    triangles : int
    new : (t,) bool
        Triangles that are settled here and were in no part that this one joins.
    waiting : (w,) int32
        Numbers of the places that wait.
    walls : (e, 2) int32
        Edges that part what waits, which is on their left, from what is settled.
    """

    ids: Ints
    corner: Ints
    mate: Ints
    triangles: int
    new: Flags
    waiting: Ints
    walls: Ints


def settle(xy: Floats, ids: Ints, walls: Ints, box: Floats) -> Part:
    """Triangulate places that wait, and settle what lies within a box.

    Parameters
    ----------
    xy : (k, 2) float64
        Places in canonical order.
    ids : (k,) int32
        The number of each among all places.
    walls : (e, 2) int32
        Edges, by these numbers, with settled triangles on their right; none of those is new.
    box : (4,) float64
        West, south, east, north of the rectangle that holds no other places than these and those under settled
        triangles.
    """
    corner, mate = np.empty(6 * len(xy) + 6, np.int32), np.empty(6 * len(xy) + 6, np.int32)
    count = int(delaunay_mesh(np.ascontiguousarray(xy), corner, mate)) if len(xy) > 2 else 0
    corner, mate = corner[: 3 * count], mate[: 3 * count]
    if count == 0:
        return Part(ids, corner, mate, 0, np.zeros(0, np.bool_), ids, walls)
    covered = np.zeros(count, np.bool_)
    if len(walls):
        tiles.fill_covered(mate, count, _are_walls(corner, ids, walls), covered)
    if not np.isfinite(box).any():
        return Part(ids, corner, mate, count, ~covered, ids[:0], walls[:0])
    new = np.empty(count, np.bool_)
    tiles.fill_settled(xy, corner, count, box, new)
    new &= ~covered
    settled, waits = new | covered, np.empty(len(xy), np.bool_)
    edges = np.empty((tiles.fill_waiting(corner, mate, count, settled, waits), 2), np.int32)
    tiles.fill_walls(corner, mate, count, settled, ids, edges)
    return Part(ids, corner, mate, count, new, ids[waits], edges)


def _are_walls(corner: Ints, ids: Ints, walls: Ints) -> Flags:
    """Return which half-edges run along walls, the same way."""
    order = np.argsort(ids, kind="stable")
    ends = order[np.searchsorted(ids, walls, sorter=order)].astype(np.int64)
    tail = corner.astype(np.int64).reshape(-1, 3)
    head = np.roll(tail, -1, axis=1)
    keys = np.where((tail < 0) | (head < 0), -1, tail * len(ids) + head).ravel()
    wanted = np.sort(ends[:, 0] * len(ids) + ends[:, 1])
    at = np.minimum(np.searchsorted(wanted, keys), len(wanted) - 1)
    return np.asarray(wanted[at] == keys)


def triangulated(xy: Floats, corner: Ints, mate: Ints, parts: int = 0) -> int:
    """Triangulate distinct places as `delaunay_mesh` does, part by part and side by side where there are many.

    Parameters
    ----------
    xy : (n, 2) float64
        Distinct places in canonical order.
    corner, mate : (6 n,) int32
        Filled with the mesh.
    parts : int
        How many; as many as suit the machine if not given.

    Returns
    -------
    int
        The number of triangles; 0 where all places lie on one line.
    """
    parts = parts or (os.cpu_count() or 1 if len(xy) >= _SMALL else 1)
    if parts < 2:
        return int(delaunay_mesh(xy, corner, mate))
    pieces = _divided(xy, np.arange(len(xy), dtype=np.int32), EVERYWHERE, parts)
    none = np.empty((0, 2), np.int32)
    with ThreadPoolExecutor(os.cpu_count() or 1) as threads:
        done = list(threads.map(lambda piece: settle(np.take(xy, piece[0], axis=0), piece[0], none, piece[1]), pieces))
        waiting = np.sort(np.concatenate([part.waiting for part in done]))
        walls = np.concatenate([part.walls for part in done])
        last = settle(np.take(xy, waiting, axis=0), waiting, walls, EVERYWHERE)
        if last.triangles == 0:
            return int(delaunay_mesh(xy, corner, mate))
        return _joined([*done, last], len(xy), corner, mate, threads)


def _divided(xy: Floats, rows: Ints, box: Floats, parts: int) -> list[tuple[Ints, Floats]]:
    """Divide places into rectangles of about equally many, the longer side first."""
    if parts < 2 or len(rows) < 2:
        return [(rows, box)]
    sample = xy[rows[:: max(len(rows) // _SAMPLE, 1)]]
    spread = sample.max(axis=0) - sample.min(axis=0)
    axis = int(spread[1] > spread[0])
    at = float(np.median(sample[:, axis]))
    below = xy[rows, axis] < at
    out: list[tuple[Ints, Floats]] = []
    for side, place in ((below, axis + 2), (~below, axis)):
        inner = box.copy()
        inner[place] = at
        out += _divided(xy, rows[side], inner, parts // 2)
    return out


def _joined(parts: list[Part], count: int, corner: Ints, mate: Ints, threads: ThreadPoolExecutor) -> int:
    """Put the new triangles of all parts into one mesh, and join them where they were cut off."""
    sizes = [int(part.new.sum()) for part in parts]
    firsts = np.cumsum([0, *sizes])

    def append(number: int) -> Ints:
        part = parts[number]
        cut = np.empty(3 * sizes[number], np.int32)
        size = tiles.append_triangles(
            part.corner, part.mate, part.triangles, part.new, part.ids, int(firsts[number]), corner, mate, cut
        )
        return cut[:size].copy()

    cut = np.concatenate(list(threads.map(append, range(len(parts)))))
    after = np.where(cut % 3 == 2, cut - 2, cut + 1)
    tail, head = corner[cut].astype(np.int64), corner[after].astype(np.int64)
    there, back = (tail + 1) * (count + 1) + head + 1, (head + 1) * (count + 1) + tail + 1
    order, other = np.argsort(there), np.argsort(back)
    mate[cut[order]] = cut[other]
    return int(firsts[-1])
