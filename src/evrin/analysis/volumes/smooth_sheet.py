"""A smooth sheet across a gap in the ground, bent as little as can be.

Reference
---------
Briggs, I. C. (1974). Machine contouring using minimum curvature. *Geophysics* 39(1), 39-48.
https://doi.org/10.1190/1.1440410
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags, vstack
from scipy.sparse.linalg import spsolve

from evrin.kernels import Flags, Floats
from evrin.making.from_arrays import triangulate
from evrin.surface.surface import Surface
from evrin.tin.query.inside_rings import is_inside_rings
from evrin.tin.query.nearest_lines import distances_to_lines

# Nodes along the longer side of the gap, how many nodes of ground round it hold the sheet's slope, and how many of
# them next to the rim do not.
_ALONG, _ROUND, _FOOT = 48, 10, 1.0
# How closely the sheet keeps to the ground round the gap and to its rim, beside how little it bends: it follows ground
# over a few nodes, and is not bent by what a single height is wrong by.
_GROUND_WEIGHT, _RIM_WEIGHT = 0.05, 0.02


def smooth_sheet(
    ground: Surface, rim: Floats, is_held: Flags | None = None, around: Callable[[Floats], Flags] | None = None
) -> Surface:
    """Return the sheet inside a closed rim that meets the ground round it in height and slope and bends least.

    Heights at the nodes of a grid minimise the sum of squared second differences; the ground's nodes round the rim and
    places on the rim are kept to. Where there is no ground, the rim alone holds the sheet.

    Parameters
    ----------
    ground : Surface
        The ground round the gap.
    rim : (k, 3) float64
        Closed, its heights on the ground.
    is_held : (k,) bool, optional
        Places of the rim whose heights hold the sheet; all if not given.
    around : callable, optional
        Which places (n, 2) round the rim are ground; all of the surface if not given.

    Returns
    -------
    Surface
        Its rim has the heights of *rim* where that holds it.
    """
    holds = np.ones(len(rim), np.bool_) if is_held is None else is_held
    low, high = rim[:, :2].min(axis=0), rim[:, :2].max(axis=0)
    step = float((high - low).max()) / _ALONG
    west, south = low - _ROUND * step
    columns, rows = (np.ceil((high - low) / step).astype(int) + 2 * _ROUND + 1).tolist()
    x, y = np.meshgrid(west + step * np.arange(columns), south + step * np.arange(rows))
    nodes = np.column_stack((x.ravel(), y.ravel()))
    inside = is_inside_rings(nodes, [rim])
    heights = ground.height(nodes[:, 0], nodes[:, 1])
    # Next to the rim may be the foot of what lies within; the slope is that of the ground from there outwards.
    heights[inside | ~_clear_of(nodes, rim, _FOOT * step)] = np.nan
    if around is not None:
        heights[~around(nodes)] = np.nan
    level = float(rim[holds, 2].mean())
    bending = _second_differences(rows, columns) * (1.0 / step)
    held = np.flatnonzero(np.isfinite(heights))
    on_ground = csr_matrix((np.ones(len(held)), (np.arange(len(held)), held)), shape=(len(held), rows * columns))
    on_rim, rim_weights = _at_places((rim[holds, :2] - [west, south]) / step, rows, columns)
    ground_weight = _GROUND_WEIGHT / step
    rim_rows = csr_matrix(diags(rim_weights * _RIM_WEIGHT / step) @ on_rim)
    equations = vstack((bending, on_ground * ground_weight, rim_rows))
    wanted = np.concatenate(
        (
            np.zeros(bending.shape[0]),
            (heights[held] - level) * ground_weight,
            (rim[holds, 2] - level) * rim_weights * _RIM_WEIGHT / step,
        )
    )
    system = (equations.T @ equations).tocsc()
    solved = spsolve(system, equations.T @ wanted) + level
    within = np.flatnonzero(inside & _clear_of(nodes, rim, 0.5 * step))
    edge = rim.copy()
    if not holds.all():
        across, _ = _at_places((rim[~holds, :2] - [west, south]) / step, rows, columns)
        edge[~holds, 2] = across @ solved
    points = np.vstack((edge, np.column_stack((nodes[within], solved[within]))))
    closed = np.vstack((edge, edge[:1]))
    return triangulate(points, [closed], [rim[:, :2]], units=ground.units, crs=ground.crs)


def _second_differences(rows: int, columns: int) -> csr_matrix:
    """Second differences along both axes, and across, of a grid's nodes."""
    number = np.arange(rows * columns).reshape(rows, columns)
    parts = [
        (number[:, :-2], number[:, 1:-1], number[:, 2:]),
        (number[:-2], number[1:-1], number[2:]),
    ]
    blocks = []
    for before, here, after in parts:
        blocks.append(_block([(before, 1.0), (here, -2.0), (after, 1.0)], rows * columns))
    cross = [(number[:-1, :-1], 1.0), (number[:-1, 1:], -1.0), (number[1:, :-1], -1.0), (number[1:, 1:], 1.0)]
    blocks.append(_block(cross, rows * columns) * np.sqrt(2.0))
    return vstack(blocks).tocsr()


def _block(terms: list[tuple[np.ndarray, float]], count: int) -> csr_matrix:
    size = terms[0][0].size
    row = np.tile(np.arange(size), len(terms))
    column = np.concatenate([index.ravel() for index, _ in terms])
    value = np.repeat([factor for _, factor in terms], size)
    return coo_matrix((value, (row, column)), shape=(size, count)).tocsr()


def _at_places(places: Floats, rows: int, columns: int) -> tuple[csr_matrix, Floats]:
    """Rows that interpolate a grid at places, and weights by which each cell of it counts once."""
    cell = np.clip(np.floor(places).astype(int), 0, [columns - 2, rows - 2])
    part = places - cell
    first = cell[:, 1] * columns + cell[:, 0]
    column = np.concatenate((first, first + 1, first + columns, first + columns + 1))
    u, v = part.T
    value = np.concatenate(((1 - u) * (1 - v), u * (1 - v), (1 - u) * v, u * v))
    row = np.tile(np.arange(len(places)), 4)
    _, which, count = np.unique(first, return_inverse=True, return_counts=True)
    matrix = coo_matrix((value, (row, column)), shape=(len(places), rows * columns)).tocsr()
    return matrix, 1.0 / np.sqrt(count[which])


def _clear_of(nodes: Floats, rim: Floats, distance: float) -> Flags:
    closed = np.ascontiguousarray(np.vstack((rim, rim[:1]))[:, :2])
    return distances_to_lines(nodes, closed, np.array([0, len(closed)], np.int64)) > distance
