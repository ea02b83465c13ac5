"""What of a grid rises more steeply than ground does: heights above the highest surface below them that nowhere does.

The highest surface below given heights that nowhere rises more steeply than a given slope is their erosion by a cone,
the slope-based filter of Vosselman. Ground that is less steep than that lies on it; a heap with steeper sides stands
out of it from its toe to its top, whatever its shape in plan. Nothing is compared across a wall: paths from cell to
cell do not lead over steps that loose earth could not stand at.

Reference
---------
Vosselman, G. (2000). Slope based filtering of laser altimetry data. *International Archives of Photogrammetry and
Remote Sensing* 33 (B3/2), 935-942.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.ndimage
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components, dijkstra

from evrin.kernels import Flags, Floats

# To the eight neighbours, and a knight's move away, so that distances are right to three parts in a hundred.
_MOVES = ((0, 1), (1, 0), (1, 1), (1, -1), (1, 2), (2, 1), (1, -2), (2, -1))


@dataclass(frozen=True, eq=False)
class Steps:
    """Steps from cell to cell of a grid of heights that lead over no wall.

    Attributes
    ----------
    is_ground : (rows, columns) bool
        Cells with a height.
    is_wall : (rows, columns) bool
        Cells beside a step that leads over a wall.
    graph : csr_array
        The length of each step, there and back; from one node more, the last, to each cell 1.
    """

    is_ground: Flags
    is_wall: Flags
    graph: csr_array

    @classmethod
    def of(cls, heights: Floats, cell: float, steepest: float, noise: float) -> Steps:
        """Return the steps of a grid, but for those that rise more steeply than *steepest* and by more than *noise*."""
        rows, columns = heights.shape
        number = np.arange(heights.size).reshape(heights.shape)
        flat = heights.ravel()
        is_wall = np.zeros(heights.size, np.bool_)
        steps = []
        for up, right in _MOVES:
            west, east = max(0, -right), columns - max(0, right)
            one = number[: rows - up, west:east].ravel()
            other = one + up * columns + right
            length = float(np.hypot(up, right)) * cell
            most = max(steepest * length, noise)
            rise = np.abs(flat[other] - flat[one])
            is_free = rise <= most
            if max(up, abs(right)) > 1:
                middle = one + (columns if up == 2 else 0) + (int(np.sign(right)) if abs(right) == 2 else 0)
                is_free &= np.isfinite(flat[middle]) & (np.abs(flat[middle] - flat[one]) <= most)
                is_free &= np.abs(flat[other] - flat[middle]) <= most
            else:
                over = rise > most
                is_wall[one[over]] = is_wall[other[over]] = True
            steps.append((one[is_free], other[is_free], np.full(int(is_free.sum()), length)))
        one, other, lengths = (np.concatenate(each) for each in zip(*steps, strict=True))
        cells = np.flatnonzero(np.isfinite(flat))
        begin = np.concatenate((one, other, np.full(len(cells), flat.size)))
        end = np.concatenate((other, one, cells))
        data = np.concatenate((lengths, lengths, np.ones(len(cells))))
        graph = csr_array((data, (begin, end)), shape=(flat.size + 1, flat.size + 1))
        return cls(np.isfinite(heights), is_wall.reshape(heights.shape), graph)

    def above_gentle(self, heights: Floats, slope: float) -> Floats:
        """Return how far heights lie above the highest surface below them that nowhere rises more than *slope*.

        Examples
        --------
        >>> ridge = np.array([[0.0, 0.0, 1.0, 2.0, 1.0, 0.0, 0.0]])
        >>> Steps.of(ridge, 1.0, 1.3, 0.0).above_gentle(ridge, 0.25).tolist()
        [[0.0, 0.0, 0.75, 1.5, 0.75, 0.0, 0.0]]
        """
        flat = heights.ravel()
        lowest = float(np.nanmin(flat))
        # The node beside the cells leads to each by its own height; what is reached first is the lowest way there.
        graph = self.graph.copy()
        direct = slice(graph.indptr[flat.size], None)
        cost = slope * graph.data
        cost[direct] = flat[graph.indices[direct]] - lowest + 1.0
        graph.data = cost
        reached = dijkstra(graph, indices=[flat.size])[0, :-1] + lowest - 1.0
        return np.where(self.is_ground.ravel(), flat - reached, np.nan).reshape(heights.shape)

    def joined_to(self, cells: Flags, cell: int) -> Flags:
        """Return which of *cells* can be reached from one of them, by its number, without leaving them."""
        inside = (cells & self.is_ground).ravel()
        if not inside[cell]:
            return np.zeros(cells.shape, np.bool_)
        if not self.is_wall.any():
            part, _ = scipy.ndimage.label(inside.reshape(cells.shape), np.ones((3, 3)))
            return np.asarray(part == part.flat[cell])
        rows = np.append(inside, False)
        begin = np.repeat(np.arange(len(rows)), np.diff(self.graph.indptr))
        is_joined = rows[begin] & rows[self.graph.indices]
        pairs = begin[is_joined], self.graph.indices[is_joined]
        graph = csr_array((np.ones(len(pairs[0])), pairs), shape=(inside.size, inside.size))
        _, part = connected_components(graph, directed=False)
        return np.asarray((inside & (part == part[cell])).reshape(cells.shape))
