"""Which triangles straight segments touch, by a whisker too, so that they can be cut along them."""

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats, Ints, Mutable, as_index, kernel
from evrin.tin.overlay.overlap_arrays import Layer
from evrin.tin.query.locate import push_met


@kernel
def mark_met(layer: Layer, segments: FloatRows, reach: float, marks: Mutable[Flags]) -> None:
    """Mark the triangles that come within reach of a segment (s, 4); some that only nearly do may be marked as well."""
    vertices, triangles = layer.vertices, layer.triangles
    seen = np.zeros(triangles.shape[0] + 1, np.int32)
    stack = np.empty(triangles.shape[0], np.int32)
    box = np.empty(4)
    for k in range(segments.shape[0]):
        ax, ay, bx, by = segments[k, 0], segments[k, 1], segments[k, 2], segments[k, 3]
        box[0], box[1], box[2], box[3] = (
            min(ax, bx) - reach,
            min(ay, by) - reach,
            max(ax, bx) + reach,
            max(ay, by) + reach,
        )
        seen[-1] += 1
        size = push_met(layer.boxes, layer.levels, layer.order, box, stack, as_index(0), seen)
        dx, dy = bx - ax, by - ay
        slack = reach * (abs(dx) + abs(dy))
        for n in range(size):
            t = stack[n]
            if layer.is_upright[t] or marks[t]:
                continue
            left = right = False
            for i in range(3):
                v = triangles[t, i]
                across = dx * (vertices[v, 1] - ay) - dy * (vertices[v, 0] - ax)
                left |= across >= -slack
                right |= across <= slack
            if not (left and right):
                continue
            is_apart = False
            for i in range(3):
                u, v = triangles[t, i], triangles[t, (i + 1) % 3]
                ex, ey = vertices[v, 0] - vertices[u, 0], vertices[v, 1] - vertices[u, 1]
                limit = -reach * (abs(ex) + abs(ey))
                first = ex * (ay - vertices[u, 1]) - ey * (ax - vertices[u, 0])
                last = ex * (by - vertices[u, 1]) - ey * (bx - vertices[u, 0])
                is_apart |= first < limit and last < limit
            marks[t] = not is_apart


def met_by(layer: Layer, segments: Floats, reach: float) -> Flags:
    """Return which triangles of a layer come within reach of segments (s, 4)."""
    marks = np.zeros(len(layer.triangles), np.bool_)
    mark_met(layer, np.ascontiguousarray(segments), float(reach), marks)
    return marks


def as_segments(places: Floats, ends: Ints) -> Floats:
    """Return segments (s, 4) between the rows of places (n, 2 or 3) that *ends* (s, 2) names."""
    return np.column_stack((places[ends[:, 0], :2], places[ends[:, 1], :2]))
