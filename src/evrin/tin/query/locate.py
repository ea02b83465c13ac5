"""Which triangle holds a place, on any set of triangles: holes, islands and overlaps included.

A walk from the last answer settles most places of a sorted batch; the rest go down a tree of bounding boxes packed
in the order of a space-filling curve.

Reference
---------
Kamel, I., Faloutsos, C. (1993). On packing R-trees. *CIKM '93*, 490-499. https://doi.org/10.1145/170088.170403
"""

import numpy as np

from evrin.kernels import FloatRows, Floats, Indices, IntRows, Ints, Mutable, as_index, inner, kernel
from evrin.tin.exact.plane import plane_height
from evrin.tin.exact.predicates import orientation

_BRANCH = 8
_WALK_LIMIT = 64
_DEPTH = 32
# Nodes this part of a step beyond a triangle's box are still tested, exactly; rounding in finding them is far less.
_NODE_ROUNDING = 1e-6


@kernel
def triangle_boxes(vertices: FloatRows, triangles: IntRows, order: Indices, boxes: Mutable[FloatRows]) -> None:
    for k in range(order.shape[0]):
        a, b, c = triangles[order[k], 0], triangles[order[k], 1], triangles[order[k], 2]
        boxes[k, 0] = min(vertices[a, 0], vertices[b, 0], vertices[c, 0])
        boxes[k, 1] = min(vertices[a, 1], vertices[b, 1], vertices[c, 1])
        boxes[k, 2] = max(vertices[a, 0], vertices[b, 0], vertices[c, 0])
        boxes[k, 3] = max(vertices[a, 1], vertices[b, 1], vertices[c, 1])


@kernel
def join_boxes(boxes: Mutable[FloatRows], levels: Indices) -> None:
    """Fill each level above the first with the joint boxes of _BRANCH boxes below."""
    for level in range(1, levels.shape[0] - 1):
        for k in range(levels[level], levels[level + 1]):
            child = levels[level - 1] + (k - levels[level]) * _BRANCH
            last = min(child + _BRANCH, levels[level])
            for axis in range(4):
                boxes[k, axis] = boxes[child, axis]
            for j in range(child + 1, last):
                boxes[k, 0] = min(boxes[k, 0], boxes[j, 0])
                boxes[k, 1] = min(boxes[k, 1], boxes[j, 1])
                boxes[k, 2] = max(boxes[k, 2], boxes[j, 2])
                boxes[k, 3] = max(boxes[k, 3], boxes[j, 3])


@inner
def has_area(vertices: FloatRows, triangles: IntRows, t: int) -> bool:
    a, b, c = vertices[triangles[t, 0]], vertices[triangles[t, 1]], vertices[triangles[t, 2]]
    return orientation(a[0], a[1], b[0], b[1], c[0], c[1]) > 0.0


@inner
def _triangle_holds(vertices: FloatRows, triangles: IntRows, t: int, x: float, y: float) -> bool:
    for k in range(3):
        a, b = triangles[t, k], triangles[t, (k + 1) % 3]
        if orientation(vertices[a, 0], vertices[a, 1], vertices[b, 0], vertices[b, 1], x, y) < 0.0:
            return False
    return has_area(vertices, triangles, t)


@inner
def search(
    vertices: FloatRows, triangles: IntRows, order: Indices, boxes: FloatRows, levels: Indices, x: float, y: float
) -> int:
    """The first triangle in tree order that holds a place, or -1."""
    stack = np.empty(_DEPTH * _BRANCH, np.int64)
    depth = np.empty(_DEPTH * _BRANCH, np.int64)
    top = levels.shape[0] - 2
    stack[0], depth[0] = levels[top], top
    size = 1
    while size > 0:
        size -= 1
        node, level = stack[size], depth[size]
        if x < boxes[node, 0] or y < boxes[node, 1] or x > boxes[node, 2] or y > boxes[node, 3]:
            continue
        if level == 0:
            if _triangle_holds(vertices, triangles, order[node], x, y):
                return as_index(order[node])
            continue
        child = levels[level - 1] + (node - levels[level]) * _BRANCH
        last = min(child + _BRANCH, levels[level])
        for j in range(last - 1, child - 1, -1):
            stack[size], depth[size] = j, level - 1
            size += 1
    return as_index(-1)


@inner
def walk_towards(vertices: FloatRows, triangles: IntRows, mate: Ints, t: int, x: float, y: float) -> int:
    """Walk towards a place; -1 where the walk meets the rim or takes too long."""
    entered = as_index(-1)
    for _ in range(_WALK_LIMIT):
        moved = False
        for k in range(3):
            if 3 * t + k == entered:
                continue
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            if orientation(vertices[a, 0], vertices[a, 1], vertices[b, 0], vertices[b, 1], x, y) < 0.0:
                entered = as_index(mate[3 * t + k])
                if entered < 0:
                    return as_index(-1)
                t = entered // 3
                moved = True
                break
        if not moved:
            # An upright triangle, as on a wall, has no height of its own; the search finds one beside it.
            return t if has_area(vertices, triangles, t) else as_index(-1)
    return as_index(-1)


@inner
def push_met(
    boxes: FloatRows, levels: Indices, order: Indices, box: Floats, stack: Mutable[Ints], size: int, seen: Mutable[Ints]
) -> int:
    """Push the triangles not seen before whose boxes meet a box, and mark them as seen; return the stack's new size."""
    nodes = np.empty((_DEPTH * _BRANCH, 2), np.int64)
    top = levels.shape[0] - 2
    nodes[0, 0], nodes[0, 1] = levels[top], top
    open_nodes = 1
    while open_nodes > 0:
        open_nodes -= 1
        node, level = nodes[open_nodes, 0], nodes[open_nodes, 1]
        if box[2] < boxes[node, 0] or box[3] < boxes[node, 1] or box[0] > boxes[node, 2] or box[1] > boxes[node, 3]:
            continue
        if level == 0:
            if seen[order[node]] != seen[-1]:
                seen[order[node]] = seen[-1]
                stack[size] = order[node]
                size += 1
            continue
        child = levels[level - 1] + (node - levels[level]) * _BRANCH
        for j in range(min(child + _BRANCH, levels[level]) - 1, child - 1, -1):
            nodes[open_nodes, 0], nodes[open_nodes, 1] = j, level - 1
            open_nodes += 1
    return size


@kernel
def locate_places(
    vertices: FloatRows,
    triangles: IntRows,
    mate: Ints,
    order: Indices,
    boxes: FloatRows,
    levels: Indices,
    places: FloatRows,
    triangle_at: Mutable[Indices],
) -> None:
    """Write the triangle of each place, its edges included, or -1."""
    last = as_index(-1)
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        t = as_index(-1)
        if last >= 0:
            t = walk_towards(vertices, triangles, mate, last, x, y)
        if t < 0:
            t = search(vertices, triangles, order, boxes, levels, x, y)
        triangle_at[i] = t
        if t >= 0:
            last = t


@kernel
def triangles_beside(
    boxes: FloatRows,
    levels: Indices,
    order: Indices,
    ax: float,
    ay: float,
    bx: float,
    by: float,
    triangles_found: Mutable[Indices],
) -> int:
    """Collect the triangles whose boxes a straight line touches, and return how many, even if too many to hold."""
    stack = np.empty(_DEPTH * _BRANCH, np.int64)
    depth = np.empty(_DEPTH * _BRANCH, np.int64)
    top = levels.shape[0] - 2
    stack[0], depth[0] = levels[top], top
    size = 1
    count = 0
    west, east = min(ax, bx), max(ax, bx)
    south, north = min(ay, by), max(ay, by)
    while size > 0:
        size -= 1
        node, level = stack[size], depth[size]
        x0, y0, x1, y1 = boxes[node, 0], boxes[node, 1], boxes[node, 2], boxes[node, 3]
        if east < x0 or north < y0 or west > x1 or south > y1:
            continue
        left = right = False
        for corner in range(4):
            side = orientation(ax, ay, bx, by, x0 if corner % 2 else x1, y0 if corner < 2 else y1)
            left = left or side >= 0.0
            right = right or side <= 0.0
        if not (left and right):
            continue
        if level == 0:
            if count < triangles_found.shape[0]:
                triangles_found[count] = order[node]
            count += 1
            continue
        child = levels[level - 1] + (node - levels[level]) * _BRANCH
        last = min(child + _BRANCH, levels[level])
        for j in range(child, last):
            stack[size], depth[size] = j, level - 1
            size += 1
    return count


def tree_levels(count: int) -> Indices:
    """Return where each level of a box tree over *count* triangles starts, and where the last one ends."""
    starts, size = [0], count
    while True:
        starts.append(starts[-1] + size)
        if size == 1:
            return np.array(starts, np.int64)
        size = -(-size // _BRANCH)


@inner
def _height(vertices: FloatRows, triangles: IntRows, t: int, x: float, y: float) -> float:
    a, b, c = vertices[triangles[t, 0]], vertices[triangles[t, 1]], vertices[triangles[t, 2]]
    return plane_height(a[0], a[1], a[2], b[0], b[1], b[2], c[0], c[1], c[2], x, y)


@kernel
def heights_in_triangles(
    vertices: FloatRows, triangles: IntRows, triangle_at: Indices, places: FloatRows, out: Mutable[Floats]
) -> None:
    for i in range(places.shape[0]):
        t = triangle_at[i]
        if t < 0:
            out[i] = np.nan
            continue
        out[i] = _height(vertices, triangles, t, places[i, 0], places[i, 1])


@kernel
def heights_on_grid(
    vertices: FloatRows,
    triangles: IntRows,
    west: float,
    south: float,
    step_x: float,
    step_y: float,
    out: Mutable[FloatRows],
) -> None:
    """Write the height at each node of a grid whose row 0 is the southernmost; other nodes keep what they hold."""
    rows, columns = out.shape
    per_x, per_y = 1.0 / step_x, 1.0 / step_y
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by = vertices[a, 0], vertices[a, 1], vertices[b, 0], vertices[b, 1]
        cx, cy = vertices[c, 0], vertices[c, 1]
        first_row = max(int(np.ceil((min(ay, by, cy) - south) * per_y - _NODE_ROUNDING)), 0)
        last_row = min(int(np.floor((max(ay, by, cy) - south) * per_y + _NODE_ROUNDING)), rows - 1)
        if first_row > last_row:
            continue
        first_column = max(int(np.ceil((min(ax, bx, cx) - west) * per_x - _NODE_ROUNDING)), 0)
        last_column = min(int(np.floor((max(ax, bx, cx) - west) * per_x + _NODE_ROUNDING)), columns - 1)
        az, bz, cz = vertices[a, 2], vertices[b, 2], vertices[c, 2]
        for row in range(first_row, last_row + 1):
            y = south + row * step_y
            for column in range(first_column, last_column + 1):
                x = west + column * step_x
                to_c = orientation(ax, ay, bx, by, x, y)
                if to_c < 0.0:
                    continue
                to_a = orientation(bx, by, cx, cy, x, y)
                if to_a < 0.0:
                    continue
                to_b = orientation(cx, cy, ax, ay, x, y)
                if to_b < 0.0:
                    continue
                twice = to_a + to_b + to_c
                if twice > 0.0:
                    out[row, column] = az + (to_b * (bz - az) + to_c * (cz - az)) / twice
