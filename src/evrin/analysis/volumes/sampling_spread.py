"""How far a volume depends on where the shots happen to be: by what half of them would have given.

Between shots a surface is straight, so what it cuts off a crest or adds at a toe goes with the square of their
distance. With half the shots that is twice as much: what leaving out half of them changes is about what all of them are
wrong by.
"""

from __future__ import annotations

import numpy as np

from evrin.base.errors import GeometryError
from evrin.kernels import Floats
from evrin.making.triangulation import Triangulation
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.query.inside_rings import is_inside_rings

_HALVES = 4
# Where there are more shots, what they miss is less than a thousandth.
_ENOUGH = 20_000
_FEWEST = 8


def sampling_spread(surface: Surface, ring: Floats, seed: int = 1) -> float:
    """Return by how much a volume within a ring changes, on average, as half of the shots in it are left out.

    Vertices of lines, and those beyond the ring, stay.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    ring : (k, 2) or (k, 3) float64
        Closed.
    seed : int
        Of what is left out.

    Examples
    --------
    >>> import evrin
    >>> x, y = (axis.ravel() for axis in np.mgrid[-9:9.5:1.5, -9:9.5:1.5])
    >>> bowl = evrin.triangulate(np.column_stack((x, y, (x * x + y * y) / 20)))
    >>> ring = 6.0 * np.column_stack((np.cos(np.arange(0, 6.3, 0.3)), np.sin(np.arange(0, 6.3, 0.3))))
    >>> 3.0 < sampling_spread(bowl, ring) < 12.0
    True
    """
    low, high = ring[:, :2].min(axis=0), ring[:, :2].max(axis=0)
    margin = 0.15 * (high - low).max()
    xy = surface.vertices[:, :2]
    near = ((xy >= low - margin) & (xy <= high + margin)).all(axis=1)
    inside = near & is_inside_rings(np.ascontiguousarray(xy), [ring])
    edges, has_line = _edges_with_lines(surface, near)
    on_line = np.zeros(len(xy), np.bool_)
    on_line[edges[has_line]] = True
    free = np.flatnonzero(inside & ~on_line)
    if not _FEWEST <= len(free) <= _ENOUGH:
        return 0.0
    lines = [SourceLine("", surface.vertices[edge], False) for edge in edges[has_line]]
    nodes, weight = _nodes_in(ring)
    whole = surface.height(*nodes.T)
    rng = np.random.default_rng(seed)
    changes = []
    for _ in range(_HALVES):
        kept = near.copy()
        kept[rng.permutation(free)[: len(free) // 2]] = False
        try:
            half, _ = Triangulation(surface.vertices[kept], lines).surface()
        except GeometryError:
            continue
        change = half.height(*nodes.T) - whole
        changes.append(float(np.nansum(change)) * weight)
    return float(np.sqrt(np.mean(np.square(changes)))) if changes else 0.0


def _edges_with_lines(surface: Surface, near: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    inside = near[surface.triangles].all(axis=1)
    triangles, lines = surface.triangles[inside], surface.edge_lines[inside]
    edges = np.concatenate([triangles[:, [k, (k + 1) % 3]] for k in range(3)])
    on_line = np.concatenate([lines[:, k] >= 0 for k in range(3)])
    unique, first = np.unique(np.sort(edges, axis=1), axis=0, return_index=True)
    return unique, on_line[first]


def _nodes_in(ring: Floats, along: int = 150) -> tuple[Floats, float]:
    low, high = ring[:, :2].min(axis=0), ring[:, :2].max(axis=0)
    step = float((high - low).max()) / along
    x, y = np.meshgrid(*(np.arange(a + step / 2, b, step) for a, b in zip(low, high, strict=True)))
    nodes = np.column_stack((x.ravel(), y.ravel()))
    return nodes[is_inside_rings(nodes, [ring])], step * step
