"""What edges are usual around a place, from the ground that each vertex has of its own."""

import numpy as np

from evrin.kernels import FloatRows, Floats, kernel
from evrin.tin.exact.sorting import sort_by


@kernel
def median_by_area(values: Floats, weights: Floats) -> float:
    """The value up to which half of all the weight lies."""
    order = np.empty(values.shape[0], np.int64)
    for k in range(values.shape[0]):
        order[k] = k
    sort_by(values, order, values.shape[0])
    total = reached = 0.0
    for weight in weights:
        total += weight
    half = total / 2.0
    for k in range(order.shape[0]):
        reached += weights[order[k]]
        if reached >= half:
            return float(values[order[k]])
    return 0.0


@kernel
def usual_edges(
    places: FloatRows, ground: Floats, middles: FloatRows, cell: float, columns: int, rows: int, least: int
) -> Floats:
    """The median, by area, of the edges to be expected over the squares around each place that hold enough vertices."""
    count = places.shape[0]
    starts = np.zeros(columns * rows + 1, np.int64)
    cell_of = np.empty(count, np.int64)
    for v in range(count):
        column, row = int(places[v, 0] / cell), int(places[v, 1] / cell)
        cell_of[v] = min(row, rows - 1) * columns + min(column, columns - 1)
        starts[cell_of[v] + 1] += 1
    for k in range(columns * rows):
        starts[k + 1] += starts[k]
    cursor = starts[:-1].copy()
    members = np.empty(count, np.int32)
    for v in range(count):
        members[cursor[cell_of[v]]] = v
        cursor[cell_of[v]] += 1
    out = np.empty(middles.shape[0])
    for i in range(middles.shape[0]):
        column = min(int(middles[i, 0] / cell), columns - 1)
        row = min(int(middles[i, 1] / cell), rows - 1)
        reach, held = 0, 0
        while True:
            west, east = max(column - reach, 0), min(column + reach, columns - 1)
            south, north = max(row - reach, 0), min(row + reach, rows - 1)
            held = 0
            for r in range(south, north + 1):
                held += starts[r * columns + east + 1] - starts[r * columns + west]
            if held >= min(least, count):
                break
            reach += 1 + reach // 2
        weights = np.empty(held)
        size = 0
        for r in range(south, north + 1):
            for k in range(starts[r * columns + west], starts[r * columns + east + 1]):
                weights[size] = ground[members[k]]
                size += 1
        out[i] = median_by_area(np.sqrt(2.0 * weights), weights)
    return out
