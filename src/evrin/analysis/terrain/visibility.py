"""Which triangle and which line is nearest to the eye, sample by sample."""

from __future__ import annotations

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, IntRows, Mutable, kernel
from evrin.tin.exact.predicates import square


@kernel
def paint(
    corners: FloatRows,
    heights: Floats,
    triangles: IntRows,
    count: int,
    depth: Mutable[FloatRows],
    which: Mutable[IntRows],
    height: Mutable[FloatRows],
) -> None:
    """Keep, at each sample, the triangle nearest to the eye; those from *count* on are the cut around the edge."""
    rows, columns = depth.shape
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by = corners[a, 0], corners[a, 1], corners[b, 0], corners[b, 1]
        cx, cy = corners[c, 0], corners[c, 1]
        twice = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if twice == 0.0:
            continue
        left, right = max(int(np.ceil(min(ax, bx, cx))), 0), min(int(np.floor(max(ax, bx, cx))), columns - 1)
        low, high = max(int(np.ceil(min(ay, by, cy))), 0), min(int(np.floor(max(ay, by, cy))), rows - 1)
        for row in range(low, high + 1):
            for column in range(left, right + 1):
                wb = ((column - ax) * (cy - ay) - (row - ay) * (cx - ax)) / twice
                wc = ((bx - ax) * (row - ay) - (by - ay) * (column - ax)) / twice
                wa = 1.0 - wb - wc
                if wa < -1e-9 or wb < -1e-9 or wc < -1e-9:
                    continue
                point_depth = wa * corners[a, 2] + wb * corners[b, 2] + wc * corners[c, 2]
                if point_depth < depth[row, column]:
                    depth[row, column] = point_depth
                    which[row, column] = min(t, count)
                    height[row, column] = wa * heights[a] + wb * heights[b] + wc * heights[c]


@kernel
def stroke(
    points: FloatRows, starts: Indices, width: float, depth: FloatRows, entry: int, line: Mutable[IntRows]
) -> None:
    """Mark the samples that a layer of lines covers, where nothing is nearer to the eye."""
    rows, columns = depth.shape
    reach = width / 2.0
    whole = int(np.ceil(reach))
    for k in range(starts.shape[0] - 1):
        for i in range(starts[k], starts[k + 1] - 1):
            dx, dy = points[i + 1, 0] - points[i, 0], points[i + 1, 1] - points[i, 1]
            steps = int(max(abs(dx), abs(dy)) * 1.5) + 1
            for s in range(steps + 1):
                part = s / steps
                x, y = points[i, 0] + part * dx, points[i, 1] + part * dy
                point_depth = points[i, 2] + part * (points[i + 1, 2] - points[i, 2])
                column, row = int(np.rint(x)), int(np.rint(y))
                if not (0 <= row < rows and 0 <= column < columns) or point_depth > depth[row, column]:
                    continue
                for v in range(max(row - whole, 0), min(row + whole, rows - 1) + 1):
                    for u in range(max(column - whole, 0), min(column + whole, columns - 1) + 1):
                        if square(u - x, v - y) <= reach * reach:
                            line[v, u] = entry
