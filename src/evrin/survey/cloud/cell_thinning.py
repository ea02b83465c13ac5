"""One point a cell, of a cloud that comes in parts and may be larger than memory."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise
from typing import Literal

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats, Indices
from evrin.survey.contents import Points

Pick = Literal["lowest", "median", "middle"]
_FOLD = 3_000_000
# More cells than a whole number can count one by one.
_MOST_CELLS = 4e18


def thinned_by_cell(parts: Iterable[Points], cell: float, pick: Pick = "lowest") -> Points:
    """Keep one point of each square cell.

    Cells are counted from the origin of the coordinates, so that the same points give the same choice whatever the
    order and the parts they come in.

    Parameters
    ----------
    parts : iterable of Points
        Memory follows what is kept, except for ``median``, which needs all points of a cell at once.
    cell : float
        Side of a cell.
    pick : {"lowest", "median", "middle"}
        The lowest point; the one of median height (the lower of two); the one nearest the cell's middle.

    Returns
    -------
    Points
        By rows of cells from the south, westernmost first; ``refused`` of all parts.

    Examples
    --------
    >>> from evrin.surface import Shots
    >>> xyz = np.array([[0.2, 0.3, 5.0], [0.8, 0.1, 4.0], [1.5, 0.5, 9.0]])
    >>> thinned_by_cell([Points(xyz, Shots.of_file("c.laz", [1, 2, 3]))], 1.0).xyz.tolist()
    [[0.8, 0.1, 4.0], [1.5, 0.5, 9.0]]
    """
    if pick == "median":
        return _of_median_height(list(parts), cell)
    kept: list[Points] = []
    waiting = 0
    for part in parts:
        kept.append(part.take(_chosen(part.xyz, cell, pick)))
        waiting += len(kept[-1])
        if waiting > _FOLD and len(kept) > 1:
            kept = [_folded(kept, cell, pick)]
            waiting = 0
    return _folded(kept, cell, pick) if kept else Points.none()


def _folded(parts: list[Points], cell: float, pick: Pick) -> Points:
    whole = Points.joined(parts)
    return whole.take(_chosen(whole.xyz, cell, pick))


def _of_median_height(parts: list[Points], cell: float) -> Points:
    """Choose among all parts at once, a band of cells at a time, without a copy of them all."""
    parts = [part for part in parts if len(part)]
    if not parts:
        return Points.none()
    low = np.floor(np.min([part.xyz[:, :2].min(axis=0) for part in parts], axis=0) / cell)
    wide = max(float((np.floor(part.xyz[:, 0] / cell) - low[0]).max()) for part in parts) + 1.0
    numbers = [_cells(part.xyz, cell, low, wide) for part in parts]
    last = max(int(number.max()) for number in numbers) + 1
    bands = np.linspace(0, last, max(1, sum(map(len, parts)) // _FOLD) + 1).astype(np.int64)
    return Points.joined([_median_of_band(parts, numbers, start, end) for start, end in pairwise(bands.tolist())])


def _median_of_band(parts: list[Points], numbers: list[Indices], start: int, end: int) -> Points:
    rows = [np.flatnonzero((number >= start) & (number < end)) for number in numbers]
    band = Points.joined([part.take(inside) for part, inside in zip(parts, rows, strict=True)])
    number = np.concatenate([cells[inside] for cells, inside in zip(numbers, rows, strict=True)])
    order = np.lexsort((band.xyz[:, 1], band.xyz[:, 0], band.xyz[:, 2], number))
    starts = _cell_starts(number, order)
    counts = np.diff(np.append(starts, len(order)))
    return band.take(order[starts + (counts - 1) // 2])


def _chosen(xyz: Floats, cell: float, pick: Pick) -> Indices:
    """Rows of the points to keep, by cell."""
    if len(xyz) == 0:
        return np.empty(0, np.int64)
    low = np.floor(xyz[:, :2].min(axis=0) / cell)
    number = _cells(xyz, cell, low, float((np.floor(xyz[:, 0] / cell) - low[0]).max()) + 1.0)
    keys = [xyz[:, 1], xyz[:, 0], xyz[:, 2]]
    if pick == "middle":
        keys.append(np.hypot(xyz[:, 0] / cell % 1.0 - 0.5, xyz[:, 1] / cell % 1.0 - 0.5))
    order = np.lexsort((*keys, number))
    return order[_cell_starts(number, order)]


def _cells(xyz: Floats, cell: float, low: Floats, wide: float) -> Indices:
    """Number the cell of each point, by rows from the south: one number sorts far quicker than two."""
    column, row = np.floor(xyz[:, 0] / cell) - low[0], np.floor(xyz[:, 1] / cell) - low[1]
    if float(row.max(initial=0.0) + 1.0) * wide > _MOST_CELLS:
        raise DataError(f"a cell of {cell:g} is far too small for points this far apart; give a larger one")
    number: Indices = (row * wide + column).astype(np.int64)
    return number


def _cell_starts(number: Indices, order: Indices) -> Indices:
    """Where in *order* each cell begins."""
    first = np.ones(len(order), np.bool_)
    first[1:] = number[order[1:]] != number[order[:-1]]
    return np.flatnonzero(first)
