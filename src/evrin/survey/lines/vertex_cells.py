"""A grid of square cells over the vertices of lines, to find those near a place."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, Mutable, inner, kernel

_MOST_CELLS = 4_000_000


@inner
def cell_number(value: float, low: float, scale: float, count: int) -> int:
    """The row or column of a coordinate."""
    return min(max(int((value - low) * scale), 0), count - 1)


class VertexCells(NamedTuple):
    """A grid of cells over all vertices: those of a cell, from *first_of* it to that of the next."""

    first_of: Mutable[Indices]
    members: Mutable[Indices]
    low_x: float
    low_y: float
    scale: float
    columns: int
    rows: int


@inner
def cell_of(cells: VertexCells, x: float, y: float) -> int:
    """The cell of a place."""
    row, column = (
        cell_number(y, cells.low_y, cells.scale, cells.rows),
        cell_number(x, cells.low_x, cells.scale, cells.columns),
    )
    return row * cells.columns + column


@kernel
def sort_into_cells(xyz: FloatRows, cells: VertexCells) -> None:
    """Fill the cells with the vertices in them."""
    for k in range(xyz.shape[0]):
        cells.first_of[cell_of(cells, xyz[k, 0], xyz[k, 1]) + 1] += 1
    for k in range(1, cells.first_of.shape[0]):
        cells.first_of[k] += cells.first_of[k - 1]
    cursor = cells.first_of[:-1].copy()
    for k in range(xyz.shape[0]):
        cell = cell_of(cells, xyz[k, 0], xyz[k, 1])
        cells.members[cursor[cell]] = k
        cursor[cell] += 1


def cells_over(places: Floats) -> VertexCells:
    """Return square cells with about one vertex each."""
    low, high = places[:, :2].min(axis=0), places[:, :2].max(axis=0)
    width, height = np.maximum(high - low, 1e-9)
    wanted = min(len(places), _MOST_CELLS)
    step = max(float(np.sqrt(width * height / wanted)), float(max(width, height)) / wanted)
    columns, rows = int(width / step) + 1, int(height / step) + 1
    first_of, members = np.zeros(columns * rows + 1, np.int64), np.empty(len(places), np.int64)
    cells = VertexCells(
        first_of=first_of,
        members=members,
        low_x=float(low[0]),
        low_y=float(low[1]),
        scale=1.0 / step,
        columns=columns,
        rows=rows,
    )
    sort_into_cells(places, cells)
    return cells
