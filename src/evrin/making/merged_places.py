"""Rows at one place merged into one vertex, and what came up where rows and lines meet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from evrin.kernels import Flags, Floats
from evrin.surface.surface import Surface
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.mesh.working_mesh import Mesh

Rows = NDArray[np.int64]
ONE_OF: dict[str, Callable[[Floats], float]] = {
    "mean": lambda z: float(np.unique(z).mean()),
    "first": lambda z: float(z[0]),
    "last": lambda z: float(z[-1]),
    "lowest": lambda z: float(z.min()),
    "highest": lambda z: float(z.max()),
    "higher": lambda z: float(z.max()),
    "lower": lambda z: float(z.min()),
}


@dataclass(frozen=True)
class UnlikeHeights:
    """Rows at one place whose heights differ: input rows and their heights."""

    rows: Rows
    heights: Floats


@dataclass(frozen=True)
class LineCrossing:
    """Two breaklines that meet where neither has a vertex: line numbers, place, and the height along each."""

    lines: tuple[int, int]
    place: tuple[float, float]
    heights: tuple[float, float]


@dataclass(frozen=True)
class LineMiss:
    """A line that passes a vertex at another height: line, mesh vertex, place, heights along the line and there."""

    line: int
    vertex: int
    place: tuple[float, float]
    heights: tuple[float, float]


@dataclass(frozen=True, eq=False)
class TakenSurface:
    """A surface someone made, to be kept unchanged: its name, itself, and the input row of its first vertex."""

    name: str
    surface: Surface
    first: int

    @property
    def edges(self) -> NDArray[np.int32]:
        """(e, 2) int32: its edges, as rows counted from its first."""
        return self.surface.edges


def firm_places(xy: Floats, has_height: Flags) -> tuple[Rows, Rows]:
    """Return the rows that have a height in canonical order, and where each place begins, as `distinct_places` does."""
    if has_height.all():
        return distinct_places(xy)
    order, starts = distinct_places(xy[has_height])
    return np.flatnonzero(has_height)[order], starts


def mesh_of_places(xy: Floats, order: Rows, starts: Rows, *, merges: bool = True) -> tuple[Rows, Rows, Mesh, int]:
    """Return the mesh of distinct places; those within the snap width of an earlier one are merged and counted."""
    merged = 0
    while True:
        places = np.take(xy, order[starts[:-1]], axis=0)
        mesh = Mesh(places, np.zeros(len(places)), room=len(xy) // 8)
        pairs = mesh.near_pairs() if merges else np.empty((0, 2), np.int32)
        if not len(pairs):
            return order, starts, mesh, merged
        kept_instead = _kept_instead(places, np.unique(pairs), mesh.snap)
        merged += int((kept_instead != np.arange(len(places))).sum())
        group = np.repeat(kept_instead, np.diff(starts))
        moved = np.argsort(group, kind="stable")
        order, group = order[moved], group[moved]
        starts = np.append(np.flatnonzero(np.diff(group, prepend=-1)), len(order))


def _kept_instead(places: Floats, crowded: NDArray[np.int32], snap: float) -> Rows:
    """The place that each one is merged into: itself, or the first that is kept within the snap width of it.

    Of two places that are so near, both are *crowded*: the shortest way between them along edges of the mesh has no
    longer edge.
    """
    from scipy.spatial import cKDTree

    kept = np.arange(len(places))
    tree = cKDTree(places[crowded])
    is_settled = np.zeros(len(crowded), np.bool_)
    for row in range(len(crowded)):
        if not is_settled[row]:
            beside = np.array(tree.query_ball_point(places[crowded[row]], snap))
            free = beside[~is_settled[beside]]
            kept[crowded[free]] = crowded[row]
            is_settled[free] = True
    return kept


def settled_heights(z: Floats, rows: Rows, starts: Rows, policy: str) -> tuple[Floats, list[UnlikeHeights]]:
    """Return one height for each place, by the policy where they are unlike, and the unlike ones."""
    if len(starts) == len(rows) + 1:
        return z[rows], []
    heights = z[rows[starts[:-1]]]
    unlike = []
    for k in np.flatnonzero(np.diff(starts) > 1):
        here = np.sort(rows[starts[k] : starts[k + 1]])
        if (z[here] != z[here[0]]).any():
            heights[k] = ONE_OF[policy](z[here])
            unlike.append(UnlikeHeights(here, z[here]))
    return heights, unlike
