"""Lines that take their heights from the shots they pass through."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from evrin.kernels import Floats

Rows = NDArray[np.int64]


@dataclass(frozen=True)
class FittedLine:
    """A line that passes through shots.

    Attributes
    ----------
    xyz : (k, 3) float64
        Height NaN at a vertex that stayed in plan, before the first shot or after the last.
    drawn_as : (k,) int64
        Which vertex of the line as drawn each one is, -1 for a shot.
    shot_of : (k,) int64
        Which shot each vertex is, -1 for none.
    replaced_by : (d,) int64
        The shot that each vertex as drawn is replaced by, -1 where it is kept.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.survey import heights_from_shots
    >>> drawn = np.array([[0.0, 0, np.nan], [10, 0, np.nan]])
    >>> fitted = heights_from_shots(drawn, False, np.array([[0.0, 0, 1.0], [10, 0, 2.0]]), 0.1)
    >>> fitted.xyz[:, 2].tolist()
    [1.0, 2.0]
    """

    xyz: Floats
    drawn_as: Rows
    shot_of: Rows
    replaced_by: Rows


def heights_from_shots(
    xyz: Floats, closed: bool, shots: Floats, reach: float, tree: scipy.spatial.cKDTree | None = None
) -> FittedLine:
    """Lead a plan line through the shots it passes.

    Every shot within *reach* of the line becomes a vertex of it, with the shot's own place and height. A vertex of
    the line that has a shot within reach is replaced by it. A bend between two shots lies on the straight line between
    them, by the distance along the line; one before the first shot or after the last stays in plan, without a height,
    so that it lies on the ground there.

    Parameters
    ----------
    xyz : (k, 3) float64
        The line; its own heights are not used.
    closed : bool
        Whether the line ends where it begins.
    shots : (n, 3) float64
        Where heights come from.
    reach : float
        Plan distance.
    tree : scipy.spatial.cKDTree, optional
        Over the places of the shots, if many lines pass through the same ones.

    Returns
    -------
    FittedLine

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.survey import heights_from_shots
    >>> drawn = np.array([[0.0, 0, np.nan], [10, 0, np.nan]])
    >>> fitted = heights_from_shots(drawn, False, np.array([[0.0, 0, 1.0], [10, 0, 2.0]]), 0.1)
    >>> fitted.xyz[:, 2].tolist()
    [1.0, 2.0]
    """
    tree = tree if tree is not None else scipy.spatial.cKDTree(shots[:, :2])
    places = xyz[:, :2]
    distance, nearest = tree.query(places, distance_upper_bound=reach)
    gave_way = np.where(np.isfinite(distance), nearest, -1).astype(np.int64)
    vertices: list[Floats] = []
    drawn_as: list[int] = []
    shot_of: list[int] = []
    taken: set[int] = set()
    for k in range(len(places)):
        if gave_way[k] < 0:
            vertices.append(np.array([*places[k], np.nan]))
            drawn_as.append(k)
            shot_of.append(-1)
        if k + 1 == len(places) and not closed:
            break
        for shot in _shots_along(tree, shots, places[k], places[(k + 1) % len(places)], reach):
            if shot not in taken:
                taken.add(shot)
                vertices.append(shots[shot])
                drawn_as.append(-1)
                shot_of.append(shot)
    drawn, own = np.array(drawn_as, np.int64), np.array(shot_of, np.int64)
    return FittedLine(_between_shots(np.array(vertices).reshape(-1, 3), closed), drawn, own, gave_way)


def _between_shots(xyz: Floats, closed: bool) -> Floats:
    """Give bends between two shots their heights, by the distance along the line."""
    with_height = np.flatnonzero(np.isfinite(xyz[:, 2]))
    if len(with_height) < 2:
        return xyz
    around = (
        np.vstack((xyz[with_height[0] :], xyz[: with_height[0] + 1]))
        if closed
        else xyz[with_height[0] : with_height[-1] + 1]
    )
    along = np.append(0.0, np.cumsum(np.hypot(*np.diff(around[:, :2], axis=0).T)))
    firm = np.isfinite(around[:, 2])
    heights = np.where(firm, around[:, 2], np.interp(along, along[firm], around[firm, 2]))
    out = xyz.copy()
    out[(with_height[0] + np.arange(len(heights))) % len(xyz), 2] = heights
    return out


def _shots_along(tree: scipy.spatial.cKDTree, xyz: Floats, start: Floats, end: Floats, reach: float) -> list[int]:
    """Shots within reach of a straight leg, in order along it."""
    leg = end - start
    length = float(np.hypot(*leg))
    near = np.array(sorted(tree.query_ball_point((start + end) / 2.0, length / 2.0 + reach)), np.int64)
    if len(near) == 0 or length == 0.0:
        return [int(row) for row in near]
    offsets = xyz[near, :2] - start
    along = np.clip(offsets @ leg / length**2, 0.0, 1.0)
    distance = np.hypot(*(offsets - along[:, None] * leg).T)
    close = distance <= reach
    order = np.lexsort((xyz[near[close], 1], xyz[near[close], 0], along[close]))
    return [int(row) for row in near[close][order]]
