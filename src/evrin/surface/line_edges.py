"""Which edges of a surface its lines run along."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from evrin.kernels import Floats, Indices
from evrin.surface.surface import SourceLine, Surface

# In parts of the length of a leg: how far a vertex may be from it to count as on it.
_BESIDE = 1e-7
_MOST_ON_A_LEG = 10_000


def chains(surface: Surface, lines: Sequence[SourceLine]) -> list[list[Indices]]:
    """Return for each line the chains of the surface's vertices that it runs through edge by edge.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    lines : sequence of SourceLine
        Lines of the surface.

    Returns
    -------
    list of list of (k,) int64
        A chain ends where the line leaves the edges of the surface; that of a ring begins and ends at one vertex.
    """
    at = {tuple(place): vertex for vertex, place in enumerate(surface.vertices[:, :2].tolist())}
    near = _Neighbours(surface)
    return [_chains_of(line, at, near) for line in lines]


def with_edges_of_lines(surface: Surface) -> Surface:
    """Return a surface whose edges know the line that they belong to, where its lines run along them.

    Parameters
    ----------
    surface : Surface
        The surface to examine.

    Returns
    -------
    Surface

    Examples
    --------
    >>> import evrin
    >>> kerb = evrin.SourceLine("kerb", np.array([[0.0, 0, 1], [4, 4, 2]]))
    >>> bare = Surface.from_arrays([[0, 0, 1], [4, 0, 1], [4, 4, 2], [0, 4, 2]], [[0, 1, 2], [0, 2, 3]])
    >>> with_edges_of_lines(bare.with_lines((kerb,))).edge_lines.tolist()
    [[-1, -1, 0], [0, -1, -1]]
    """
    numbered = [(k, line) for k, line in enumerate(surface.lines) if not line.is_ring]
    line_of_edge: dict[tuple[int, int], int] = {}
    for (k, _), parts in zip(numbered, chains(surface, [line for _, line in numbered]), strict=True):
        for chain in parts:
            for a, b in zip(chain[:-1].tolist(), chain[1:].tolist(), strict=True):
                line_of_edge.setdefault((min(a, b), max(a, b)), k)
    if not line_of_edge:
        return surface
    count = np.int64(len(surface.vertices))
    keys = np.array([a * count + b for a, b in line_of_edge], np.int64)
    order = np.argsort(keys)
    ends = np.stack((surface.triangles, np.roll(surface.triangles, -1, axis=1)), axis=2).astype(np.int64)
    asked = ends.min(axis=2) * count + ends.max(axis=2)
    place = np.minimum(np.searchsorted(keys[order], asked), len(keys) - 1)
    owner = np.array(list(line_of_edge.values()), np.int32)[order][place]
    edge_lines = np.where(keys[order][place] == asked, owner, surface.edge_lines).astype(np.int32)
    return replace(surface, edge_lines=edge_lines)


class _Neighbours:
    """The vertices that edges join to each vertex, and where they are."""

    def __init__(self, surface: Surface) -> None:
        edges = surface.edges.astype(np.int64)
        both = np.concatenate((edges, edges[:, ::-1]))
        order = np.argsort(both[:, 0], kind="stable")
        self.other = both[order, 1]
        self.starts = np.searchsorted(both[order, 0], np.arange(len(surface.vertices) + 1))
        self.xy = surface.vertices[:, :2]

    def leg(self, start: int, end: int) -> list[int] | None:
        """The vertices after *start* along edges that lie on the straight way to *end*; None where they do not."""
        way = self.xy[end] - self.xy[start]
        length = float(np.hypot(*way))
        out: list[int] = []
        here, passed = start, 0.0
        for _ in range(_MOST_ON_A_LEG):
            beside = self.other[self.starts[here] : self.starts[here + 1]]
            if (beside == end).any():
                return [*out, end]
            offsets: Floats = self.xy[beside] - self.xy[start]
            along = offsets @ way / max(length, 1e-300) ** 2
            off = np.abs(offsets[:, 0] * way[1] - offsets[:, 1] * way[0]) / max(length, 1e-300) ** 2
            ahead = np.flatnonzero((off <= _BESIDE) & (along > passed) & (along < 1.0))
            if not len(ahead):
                return None
            step = ahead[int(np.argmin(along[ahead]))]
            here, passed = int(beside[step]), float(along[step])
            out.append(here)
        return None


def _chains_of(line: SourceLine, at: dict[tuple[float, ...], int], near: _Neighbours) -> list[Indices]:
    places = line.points[:, :2].tolist()
    vertices = [at.get(tuple(place), -1) for place in (*places, *(places[:1] if line.closed else ()))]
    parts: list[list[int]] = [[]]
    for here, there in pairwise(vertices):
        leg = near.leg(here, there) if here >= 0 and there >= 0 and here != there else None
        if leg is None:
            parts.append([])
        else:
            parts[-1] += leg if parts[-1] else [here, *leg]
    return [np.array(part, np.int64) for part in parts if len(part) > 1]
