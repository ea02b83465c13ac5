"""One point a cell, of a cloud that comes in parts and may be larger than memory."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

import numpy as np

from evrin.survey.things import Points
from evrin.tin.types import Floats, Indices

Pick = Literal["lowest", "median", "middle"]
_FOLD = 3_000_000


def thinned_by_cell(parts: Iterable[Points], cell: float, pick: Pick = "lowest") -> Points:
    """Keep one point of each square cell.

    Cells are counted from the origin of the coordinates, so that the same points give the same choice whatever the
    order and the parts they come in.

    Parameters
    ----------
    parts : iterable of Points
        Memory follows what is kept, but for ``median``, which has to see all points of a cell at once.
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
    kept: list[Points] = []
    waiting = 0
    for part in parts:
        kept.append(part if pick == "median" else part.take(_chosen(part.xyz, cell, pick)))
        waiting += len(kept[-1])
        if waiting > _FOLD and pick != "median" and len(kept) > 1:
            kept = [_folded(kept, cell, pick)]
            waiting = 0
    return _folded(kept, cell, pick) if kept else Points.none()


def _folded(parts: list[Points], cell: float, pick: Pick) -> Points:
    whole = Points.joined(parts)
    return whole.take(_chosen(whole.xyz, cell, pick))


def _chosen(xyz: Floats, cell: float, pick: Pick) -> Indices:
    """Rows of the points to keep, by cell."""
    if len(xyz) == 0:
        return np.empty(0, np.int64)
    column, row = np.floor(xyz[:, 0] / cell), np.floor(xyz[:, 1] / cell)
    # Cells first by a number of their own, which sorts far quicker than their two coordinates.
    column -= column.min()
    row -= row.min()
    number = (row * (column.max() + 1.0) + column).astype(np.int64)
    if pick == "middle":
        away = np.hypot(xyz[:, 0] / cell % 1.0 - 0.5, xyz[:, 1] / cell % 1.0 - 0.5)
        order = np.lexsort((xyz[:, 1], xyz[:, 0], xyz[:, 2], away, number))
    else:
        order = np.lexsort((xyz[:, 1], xyz[:, 0], xyz[:, 2], number))
    first = np.ones(len(order), np.bool_)
    first[1:] = number[order[1:]] != number[order[:-1]]
    starts = np.flatnonzero(first)
    if pick == "median":
        counts = np.diff(np.append(starts, len(order)))
        starts = starts + (counts - 1) // 2
    return order[starts]
