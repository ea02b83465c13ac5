"""How far places are from the nearest of many lines."""

from __future__ import annotations

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, Mutable, kernel

_BLOCK = 32


@kernel
def _distances(places: FloatRows, segments: FloatRows, boxes: FloatRows, block: int, out: Mutable[Floats]) -> None:
    """Fill the distance of each place to the nearest segment, skipping blocks of them whose box is farther away."""
    nearest = 0
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        best = np.inf
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
                away = ex * ex + ey * ey
                if away < best:
                    best = away
                    nearest = b
        out[i] = np.sqrt(best)


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
    out = np.full(len(places), np.inf)
    is_leg = np.ones(max(len(points) - 1, 0), np.bool_)
    is_leg[starts[1:-1] - 1] = False
    segments = np.hstack((points[:-1], points[1:]))[is_leg] if len(points) > 1 else np.empty((0, 4))
    if len(segments):
        first = np.arange(0, len(segments), _BLOCK)
        low = np.minimum(segments[:, :2], segments[:, 2:])
        high = np.maximum(segments[:, :2], segments[:, 2:])
        boxes = np.hstack((np.minimum.reduceat(low, first), np.maximum.reduceat(high, first)))
        _distances(np.ascontiguousarray(places, np.float64), segments, boxes, _BLOCK, out)
    return out
