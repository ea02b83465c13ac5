"""How far places are from the nearest of many lines."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, Mutable, kernel
from evrin.tin.exact.curve_order import canonical_order

_BLOCK = 32


@kernel
def _find_nearest(
    places: FloatRows,
    segments: FloatRows,
    boxes: FloatRows,
    block: int,
    within: float,
    distances: Mutable[Floats],
    rows: Mutable[Indices],
    parts: Mutable[Floats],
) -> None:
    """Fill the nearest segment of each place, how far along it and how far off, skipping blocks that are farther."""
    nearest = 0
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        best = within * within
        first = nearest
        for turn in range(boxes.shape[0]):
            # Beginning with the block that was nearest to the place before rules most others out at once.
            b = first if turn == 0 else turn - 1 if turn <= first else turn
            away_x = max(boxes[b, 0] - x, 0.0, x - boxes[b, 2])
            away_y = max(boxes[b, 1] - y, 0.0, y - boxes[b, 3])
            if away_x * away_x + away_y * away_y >= best:
                continue
            for s in range(b * block, min((b + 1) * block, segments.shape[0])):
                dx, dy = segments[s, 2] - segments[s, 0], segments[s, 3] - segments[s, 1]
                ex, ey = x - segments[s, 0], y - segments[s, 1]
                square = dx * dx + dy * dy
                part = min(max((ex * dx + ey * dy) / square, 0.0), 1.0) if square > 0.0 else 0.0
                ex, ey = ex - part * dx, ey - part * dy
                off = ex * ex + ey * ey
                if off < best:
                    best = off
                    nearest = b
                    rows[i], parts[i] = s, part
        distances[i] = np.sqrt(best)


class Nearest(NamedTuple):
    """The nearest segment of each place: its row (-1 for none), the part of the way along it, and how far off."""

    rows: Indices
    parts: Floats
    distances: Floats


def nearest_segments(places: Floats, segments: Floats, within: float = np.inf) -> Nearest:
    """Return which segment (s, 4) is nearest to each place (k, 2), and nearer than *within*.

    Examples
    --------
    >>> found = nearest_segments(np.array([[5.0, 2.0], [13.0, 4.0]]), np.array([[0.0, 0.0, 10.0, 0.0]]), within=4.0)
    >>> found.rows.tolist(), found.parts.tolist(), found.distances.tolist()
    ([0, -1], [0.5, 0.0], [2.0, 4.0])
    """
    count = len(places)
    nearest = Nearest(np.full(count, -1, np.int64), np.zeros(count), np.full(count, float(within)))
    if len(segments) and count:
        order = canonical_order(np.ascontiguousarray((segments[:, :2] + segments[:, 2:]) / 2.0))
        ordered = np.ascontiguousarray(segments[order], np.float64)
        first = np.arange(0, len(segments), _BLOCK)
        low = np.minimum(ordered[:, :2], ordered[:, 2:])
        high = np.maximum(ordered[:, :2], ordered[:, 2:])
        boxes = np.hstack((np.minimum.reduceat(low, first), np.maximum.reduceat(high, first)))
        given = np.ascontiguousarray(places, np.float64)
        _find_nearest(given, ordered, boxes, _BLOCK, float(within), nearest.distances, nearest.rows, nearest.parts)
        has = nearest.rows >= 0
        nearest.rows[has] = order[nearest.rows[has]]
    return nearest


def distances_to_lines(places: Floats, points: Floats, starts: Indices) -> Floats:
    """Return the plan distance (k,) of places (k, 2) to the nearest line; infinite where there is none.

    Parameters
    ----------
    places : (k, 2) float64
    points : (p, 2) float64
        Vertices, line after line.
    starts : (n + 1,) int64
        Line *i* is ``points[starts[i]:starts[i + 1]]``.

    Examples
    --------
    >>> line = np.array([[0.0, 0.0], [10.0, 0.0]])
    >>> distances_to_lines(np.array([[5.0, 2.0], [13.0, 4.0]]), line, np.array([0, 2])).tolist()
    [2.0, 5.0]
    """
    is_leg = np.ones(max(len(points) - 1, 0), np.bool_)
    is_leg[starts[1:-1] - 1] = False
    segments = np.hstack((points[:-1], points[1:]))[is_leg] if len(points) > 1 else np.empty((0, 4))
    return nearest_segments(places, segments).distances
