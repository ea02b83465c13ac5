"""Contours followed through each tile by itself, and joined level by level."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.analysis.contours.contour_tracing import crossed_triangles, trace_levels
from evrin.kernels import Floats, Indices, Ints
from evrin.large.running.tile_folder import load, once, save
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_index import Index
from evrin.surface.surface import Surface

_MOST_AT_ONCE = 2_000_000


class Lines(NamedTuple):
    """Lines one after the other: *i* is ``points[starts[i]:starts[i + 1]]``."""

    points: Floats
    starts: Indices


def trace_tile(index: Index, tile: Tile, levels: Floats, stage: str) -> list[list[int]]:
    """Follow each level through the triangles that are own to a tile, and write the pieces.

    Returns
    -------
    list of list of int
        A level's number, and its first piece and the one after its last, for each level that the tile has.
    """
    path = index.job.at(stage, tile)

    def make() -> list[list[int]]:
        part = index.part(tile)
        if part is None or not part.is_own.any():
            return []
        points, counts, level_of, crossed = [], [], [], []
        own = part.surface(own=True)
        for first, last in _in_groups(own, levels):
            pieces = _pieces(own, levels[first:last])
            points.append(pieces[0])
            counts.append(pieces[1])
            level_of.append(pieces[2] + first)
            crossed.append(part.ids[pieces[3]])
        if not points:
            return []
        save(path.with_suffix(".points.npy"), np.concatenate(points))
        save(path.with_suffix(".starts.npy"), np.append(0, np.cumsum(np.concatenate(counts))))
        save(path.with_suffix(".crossed.npy"), np.concatenate(crossed))
        found_levels, firsts = np.unique(np.concatenate(level_of), return_index=True)
        lasts = np.append(firsts[1:], sum(map(len, level_of)))
        return [[int(value) for value in row] for row in zip(found_levels, firsts, lasts, strict=True)]

    return once(path.with_suffix(".json"), make)


def _in_groups(surface: Surface, levels: Floats) -> Iterator[tuple[int, int]]:
    """Levels from one to before another, so that those together cross no more triangles than memory should hold."""
    heights = surface.vertices[:, 2][surface.triangles]
    change = np.bincount(np.searchsorted(levels, heights.min(axis=1), "right"), minlength=len(levels) + 1)
    change = change - np.bincount(np.searchsorted(levels, heights.max(axis=1), "right"), minlength=len(levels) + 1)
    crossings = np.cumsum(change)[:-1]
    crossed = np.flatnonzero(crossings)
    start = 0
    while start < len(crossed):
        total = np.cumsum(crossings[crossed[start:]])
        size = max(int(np.searchsorted(total, _MOST_AT_ONCE, "right")), 1)
        yield int(crossed[start]), int(crossed[start + size - 1]) + 1
        start += size


def _pieces(surface: Surface, levels: Floats) -> tuple[Floats, Indices, Ints, Ints]:
    """Places, how many of each piece, their levels, and the edges over which they come and leave."""
    starts, members = crossed_triangles(surface.vertices, surface.triangles, levels)
    points, no_edges = np.empty((2 * len(members), 2)), np.empty((0, 2), np.int32)
    ends, level_of = np.empty(len(members), np.int64), np.empty(len(members), np.int32)
    crossed = np.empty((len(members), 4), np.int32)
    mesh = surface.vertices, surface.triangles, surface.mates
    count = trace_levels(*mesh, levels, starts, members, points, no_edges, ends, level_of, crossed)
    ends = ends[:count]
    size = int(ends[-1]) if count else 0
    return points[:size].copy(), np.diff(ends, prepend=0), level_of[:count].copy(), crossed[:count].copy()


def join_level(index: Index, stage: str, level: int, pieces: list[tuple[Tile, int, int]]) -> int:
    """Join the pieces of one level from all tiles, and write the lines; return how many."""

    def make() -> int:
        points, counts, crossed = [], [], []
        for tile, first, last in pieces:
            path = index.job.at(stage, tile)
            starts = np.asarray(load(path.with_suffix(".starts.npy"))[first : last + 1])
            points.append(np.asarray(load(path.with_suffix(".points.npy"))[starts[0] : starts[-1]]))
            counts.append(np.diff(starts))
            crossed.append(np.asarray(load(path.with_suffix(".crossed.npy"))[first:last]))
        starts = np.append(0, np.cumsum(np.concatenate(counts)))
        lines = joined(Lines(np.concatenate(points), starts), np.concatenate(crossed))
        for name, array in lines._asdict().items():
            save(_level_path(index, stage, level, name), array)
        return len(lines.starts) - 1

    return once(index.job.at(stage, f"level-{level}").with_suffix(".json"), make)


def lines_of(index: Index, stage: str, level: int) -> Lines:
    """Return the lines of one level, mapped."""
    return Lines(*(load(_level_path(index, stage, level, name)) for name in Lines._fields))


def _level_path(index: Index, stage: str, level: int, name: str) -> Path:
    return index.job.at(stage, f"level-{level}").with_suffix(f".{name}.npy")


def joined(pieces: Lines, crossed: Ints) -> Lines:
    """Join pieces end to beginning, in an order that does not depend on how they were divided.

    Parameters
    ----------
    pieces : Lines
        Pieces of one level.
    crossed : (n, 4) int32
        Low and high end of the edge over which each piece comes, and of that over which it leaves.

    Returns
    -------
    Lines
        A closed one begins, and ends, at its westernmost place.
    """
    order, line_of, is_closed = _chains(crossed)
    counts = np.diff(pieces.starts)[order]
    rows = _spans(pieces.starts[:-1][order], counts)
    points, of = pieces.points[rows], np.repeat(line_of, counts)
    again = np.append(False, (of[1:] == of[:-1]) & (points[1:] == points[:-1]).all(axis=1))
    points, of = points[~again], of[~again]
    bounds = np.searchsorted(of, np.arange(len(is_closed) + 1))
    # A closed line comes back to its first place, which is counted once while it is turned.
    sizes = np.diff(bounds) - is_closed
    shift = np.where(is_closed, _westernmost(points, bounds), 0)
    whole = np.flatnonzero(sizes >= 2)
    sizes, shift, closed, first = sizes[whole], shift[whole], is_closed[whole], bounds[:-1][whole]
    lengths = sizes + closed
    within = _spans(np.zeros(len(whole), np.int64), lengths)
    rows = np.repeat(first, lengths) + (within + np.repeat(shift, lengths)) % np.repeat(sizes, lengths)
    starts = np.append(0, np.cumsum(lengths))
    return _sorted(Lines(points[rows], starts))


def _chains(crossed: Ints) -> tuple[Indices, Indices, Indices]:
    """Pieces in the order in which they follow one another, the line of each, and whether each line is closed."""
    comes, leaves = (crossed[:, k].astype(np.int64) << 32 | crossed[:, k + 1] for k in (0, 2))
    by_edge = np.argsort(comes)
    at = np.minimum(np.searchsorted(comes[by_edge], leaves), len(comes) - 1)
    following = np.where(comes[by_edge[at]] == leaves, by_edge[at], -1)
    is_first = np.ones(len(comes), np.bool_)
    is_first[following[following >= 0]] = False
    after, visited = following.tolist(), np.zeros(len(comes), np.bool_)
    order: list[int] = []
    sizes: list[int] = []
    heads = np.flatnonzero(is_first)
    for piece in heads.tolist():
        _follow(piece, after, visited, order, sizes)
    rings = np.flatnonzero(~visited).tolist()
    for piece in rings:
        if not visited[piece]:
            _follow(piece, after, visited, order, sizes)
    is_closed = np.arange(len(sizes)) >= len(heads)
    return np.array(order, np.int64), np.repeat(np.arange(len(sizes)), sizes), is_closed.astype(np.int64)


def _follow(piece: int, after: list[int], visited: np.ndarray, order: list[int], sizes: list[int]) -> None:
    size = len(order)
    while piece >= 0 and not visited[piece]:
        visited[piece] = True
        order.append(piece)
        piece = after[piece]
    sizes.append(len(order) - size)


def _spans(starts: Indices, lengths: Indices) -> Indices:
    """Rows from each start on, so many."""
    before = np.cumsum(lengths) - lengths
    rows: Indices = np.arange(int(lengths.sum())) + np.repeat(starts - before, lengths)
    return rows


def _westernmost(points: Floats, bounds: Indices) -> Indices:
    """How far into each line its westernmost place is, the southern one of two."""
    line = np.repeat(np.arange(len(bounds) - 1), np.diff(bounds))
    return np.take(np.lexsort((points[:, 1], points[:, 0], line)), bounds[:-1]) - bounds[:-1]


def _sorted(lines: Lines) -> Lines:
    """Lines in the order of their first places, and of their second ones."""
    points, starts = lines
    first, second = points[starts[:-1]], points[starts[:-1] + 1]
    order = np.lexsort((second[:, 1], second[:, 0], first[:, 1], first[:, 0]))
    lengths = np.diff(starts)[order]
    return Lines(points[_spans(starts[:-1][order], lengths)], np.append(0, np.cumsum(lengths)))
