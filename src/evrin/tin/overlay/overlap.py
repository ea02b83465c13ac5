"""Where a convex polygon and the triangles of a mesh overlap: found through neighbours, cut out by exact signs.

Which corners the overlap of a polygon and a triangle has follows from signs alone, all of them between corners as
given: corners of the one within the other, and sides that cross. So neighbours agree, and nothing is counted twice or
missed where edges are shared, touch or run along one another.
"""

from __future__ import annotations

import numpy as np

from evrin.kernels import Flags, FloatRows, IndexRows, Indices, IntRows, Ints, Mutable, as_index, lean, lean_kernel
from evrin.tin.exact.predicates import side_of
from evrin.tin.overlay.overlap_arrays import Layer, Piece, Walker
from evrin.tin.query.locate import has_area, push_met, search, walk_towards

MOST_CORNERS = 16
SUBJECT, TRIANGLE, CROSSING = 0, 1, 2
# Where bits by corner or side of the subject are kept: its corners above and below each edge of the triangle, and the
# triangle's corners left and right of each side of the subject; and sides that enter and leave at each edge.
ABOVE, BELOW, LEFT, RIGHT, ENTERS, LEAVES = 0, 3, 6, 9, 12, 15
_APART, _SUBJECT_INSIDE, _TRIANGLE_INSIDE, _CROSSING = 0, 1, 2, 3


@lean_kernel
def mark_upright(vertices: FloatRows, triangles: IntRows, is_upright: Mutable[Flags]) -> None:
    """Write which triangles have no plan area."""
    for t in range(triangles.shape[0]):
        is_upright[t] = not has_area(vertices, triangles, t)


def counter_clockwise(vertices: FloatRows, triangles: Ints) -> Ints:
    """Return triangles of which those that are clockwise, in exact arithmetic, are turned over."""
    flat = np.empty(len(triangles), np.bool_)
    mark_upright(vertices, triangles, flat)
    if not flat.any():
        return triangles
    rows = np.flatnonzero(flat)
    back = np.ascontiguousarray(triangles[rows][:, [0, 2, 1]])
    still = np.empty(len(rows), np.bool_)
    mark_upright(vertices, back, still)
    out = triangles.copy()
    out[rows[~still]] = back[~still]
    return out


def walker_through(triangles: int) -> Walker:
    """Return room for walking through a layer of so many triangles."""
    state = np.array([0, 0, -1], np.int64)
    piece = Piece(
        np.empty((3, MOST_CORNERS)),
        np.empty((MOST_CORNERS, 3)),
        np.empty(18, np.int64),
        np.empty((MOST_CORNERS, 3), np.int64),
        np.empty((MOST_CORNERS, 4)),
    )
    return Walker(np.zeros(triangles + 1, np.int32), np.empty(triangles, np.int32), state, np.empty(4), piece)


@lean
def start_subject(layer: Layer, walker: Walker, subject: FloatRows, size: int) -> None:
    """Begin with the triangle that holds the subject's first corner, reached from where the last subject was."""
    walker.seen[-1] += 1
    state = walker.state
    state[0], state[1] = 0, 0
    x, y = subject[0, 0], subject[0, 1]
    at = as_index(-1)
    if state[2] >= 0:
        at = walk_towards(layer.vertices, layer.triangles, layer.mate, state[2], x, y)
    if at < 0:
        at = search(layer.vertices, layer.triangles, layer.order, layer.boxes, layer.levels, x, y)
    if at >= 0:
        state[0], state[2] = 1, at
        walker.stack[0] = at
        walker.seen[at] = walker.seen[-1]
    else:
        state[1] = 1
    box = walker.box
    box[0] = box[2] = x
    box[1] = box[3] = y
    for k in range(1, size):
        box[0], box[2] = min(box[0], subject[k, 0]), max(box[2], subject[k, 0])
        box[1], box[3] = min(box[1], subject[k, 1]), max(box[3], subject[k, 1])


@lean
def _relation(layer: Layer, piece: Piece, subject: FloatRows, size: int, t: int) -> int:
    """Fill in all signs; return how the subject and a triangle overlap, _APART where they share no area."""
    vertices, sides, corners, masks = layer.vertices, piece.sides, piece.corners, piece.masks
    for i in range(3):
        a, b = layer.triangles[t, i], layer.triangles[t, (i + 1) % 3]
        ax, ay, bx, by = vertices[a, 0], vertices[a, 1], vertices[b, 0], vertices[b, 1]
        above = below = as_index(0)
        for k in range(size):
            side = side_of(ax, ay, bx, by, subject[k, 0], subject[k, 1])
            sides[i, k] = side
            above |= as_index(side > 0.0) << k
            below |= as_index(side < 0.0) << k
        masks[ABOVE + i], masks[BELOW + i] = above, below
        above = below = as_index(0)
        for k in range(size):
            after = k + 1 if k + 1 < size else 0
            side = side_of(subject[k, 0], subject[k, 1], subject[after, 0], subject[after, 1], ax, ay)
            corners[k, i] = side
            above |= as_index(side > 0.0) << k
            below |= as_index(side < 0.0) << k
        masks[LEFT + i], masks[RIGHT + i] = above, below
    every = (1 << size) - 1
    if masks[ABOVE] == 0 or masks[ABOVE + 1] == 0 or masks[ABOVE + 2] == 0:
        return _APART
    if masks[LEFT] | masks[LEFT + 1] | masks[LEFT + 2] != every or layer.is_upright[t]:
        return _APART
    if masks[BELOW] | masks[BELOW + 1] | masks[BELOW + 2] == 0:
        return _SUBJECT_INSIDE
    return _TRIANGLE_INSIDE if masks[RIGHT] | masks[RIGHT + 1] | masks[RIGHT + 2] == 0 else _CROSSING


@lean
def _touches(masks: Indices, size: int, i: int) -> bool:
    """Whether an edge of the triangle whose signs were filled in touches the subject."""
    every = (1 << size) - 1
    lies_apart = masks[RIGHT + i] & masks[RIGHT + (i + 1) % 3] != 0
    return not (lies_apart or masks[ABOVE + i] == every or masks[BELOW + i] == every)


@lean
def next_overlap(layer: Layer, walker: Walker, subject: FloatRows, size: int) -> tuple[int, int]:
    """The next triangle that shares area with the subject, and how many corners the overlap has; -1 after the last."""
    state = walker.state
    while True:
        if state[0] == 0:
            if state[1] != 1:
                return as_index(-1), as_index(0)
            # Beyond the rim, or a hole, there may be more of the mesh that no walk comes to.
            state[1] = 2
            state[0] = push_met(
                layer.boxes, layer.levels, layer.order, walker.box, walker.stack, as_index(0), walker.seen
            )
            continue
        state[0] -= 1
        t = as_index(walker.stack[state[0]])
        relation = _relation(layer, walker.piece, subject, size, t)
        for i in range(3):
            mate = layer.mate[3 * t + i]
            if mate >= 0 and walker.seen[mate // 3] == walker.seen[-1]:
                continue
            if not _touches(walker.piece.masks, size, i):
                continue
            if mate < 0:
                state[1] = max(state[1], 1)
                continue
            walker.seen[mate // 3] = walker.seen[-1]
            walker.stack[state[0]] = mate // 3
            state[0] += 1
        if relation != _APART:
            state[2] = t
            return t, _corners(layer.vertices, layer.triangles, walker.piece, subject, size, t, relation)


@lean
def _put_inner(vertices: FloatRows, triangles: IntRows, piece: Piece, every: int, t: int, count: int, edge: int) -> int:
    """Follow an edge of the triangle into the subject: its end, and those after it, as long as they lie within."""
    for step in range(1, 4):
        i = (edge + step) % 3
        if piece.masks[LEFT + i] != every:
            break
        count = _put_corner(vertices, triangles[t, i], piece.found, piece.places, i, count)
    return count


@lean
def _put_corner(
    vertices: FloatRows, vertex: int, corners: Mutable[IndexRows], places: Mutable[FloatRows], i: int, count: int
) -> int:
    corners[count, 0], corners[count, 1], corners[count, 2] = TRIANGLE, -1, i
    places[count, 0], places[count, 1] = vertices[vertex, 0], vertices[vertex, 1]
    return count + 1


@lean
def _put_crossing(
    vertices: FloatRows,
    triangles: IntRows,
    piece: Piece,
    subject: FloatRows,
    t: int,
    k: int,
    after: int,
    i: int,
    count: int,
) -> int:
    """Put where a side of the subject and an edge of the triangle cross."""
    found, places = piece.found, piece.places
    here = piece.sides[i, k]
    part = here / (here - piece.sides[i, after])
    found[count, 0], found[count, 1], found[count, 2] = CROSSING, k, i
    x, y = subject[k, 0], subject[k, 1]
    x, y = x + part * (subject[after, 0] - x), y + part * (subject[after, 1] - y)
    places[count, 0], places[count, 1] = x, y
    places[count, 2] = part
    # Where both run almost along one another the place is uncertain along them; heights of both are to be of one place.
    a, b = triangles[t, i], triangles[t, (i + 1) % 3]
    dx, dy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
    places[count, 3] = ((x - vertices[a, 0]) * dx + (y - vertices[a, 1]) * dy) / (dx * dx + dy * dy)
    return count + 1


@lean
def _put_corners_on_side(
    vertices: FloatRows,
    triangles: IntRows,
    piece: Piece,
    subject: FloatRows,
    size: int,
    t: int,
    k: int,
    after: int,
    count: int,
) -> int:
    """Put the corners of the triangle strictly between the ends of a side of the subject, and what follows each."""
    ax, ay = subject[k, 0], subject[k, 1]
    dx, dy = subject[after, 0] - ax, subject[after, 1] - ay
    first = second = as_index(-1)
    for i in range(3):
        if piece.corners[k, i] != 0.0:
            continue
        x, y = vertices[triangles[t, i], 0], vertices[triangles[t, i], 1]
        # A corner beyond an end of the side, or at it, does not belong to this side.
        forward, backward = (x - ax) * dx + (y - ay) * dy, (subject[after, 0] - x) * dx + (subject[after, 1] - y) * dy
        if forward > 0.0 and backward > 0.0:
            first, second = (as_index(i), second) if first < 0 else (first, as_index(i))
    if first < 0:
        return count
    # Two on one side: the edge between them runs in the side's direction, as both are counter-clockwise.
    if second >= 0 and (first + 1) % 3 != second:
        first, second = second, first
    every = (1 << size) - 1
    count = _put_corner(vertices, triangles[t, first], piece.found, piece.places, first, count)
    if second >= 0:
        count = _put_corner(vertices, triangles[t, second], piece.found, piece.places, second, count)
    return _put_inner(vertices, triangles, piece, every, t, count, second if second >= 0 else first)


@lean
def _put_triangle(vertices: FloatRows, triangles: IntRows, piece: Piece, subject: FloatRows, size: int, t: int) -> int:
    """Put all corners of a triangle within the subject; one that is a corner of both is put as the subject's."""
    for i in range(3):
        _put_corner(vertices, triangles[t, i], piece.found, piece.places, i, as_index(i))
        for k in range(size):
            if subject[k, 0] == piece.places[i, 0] and subject[k, 1] == piece.places[i, 1]:
                piece.found[i, 0], piece.found[i, 1] = SUBJECT, k
    return as_index(3)


@lean
def _fill_crossings(masks: Mutable[Indices], size: int) -> None:
    """Write as bits the sides of the subject that enter the triangle at each edge, and those that leave there."""
    last = size - 1
    for i in range(3):
        head = (i + 1) % 3
        above, below = masks[ABOVE + i], masks[BELOW + i]
        above_after, below_after = (above >> 1) | ((above & 1) << last), (below >> 1) | ((below & 1) << last)
        apart = (masks[LEFT + i] & masks[RIGHT + head]) | (masks[RIGHT + i] & masks[LEFT + head])
        masks[ENTERS + i] = below & above_after & apart
        masks[LEAVES + i] = above & below_after & apart


@lean
def _put_side(
    vertices: FloatRows, triangles: IntRows, piece: Piece, subject: FloatRows, size: int, t: int, k: int, count: int
) -> int:
    """Put what the triangle has strictly between the ends of a side of the subject, in the side's direction."""
    masks = piece.masks
    after = k + 1 if k + 1 < size else as_index(0)
    # Entering comes first, corners lie between, leaving comes last; of two corners the one nearer comes first.
    for i in range(3):
        if (masks[ENTERS + i] >> k) & 1:
            count = _put_crossing(vertices, triangles, piece, subject, t, k, after, i, count)
    signs = (masks[LEFT] | masks[RIGHT]) & (masks[LEFT + 1] | masks[RIGHT + 1]) & (masks[LEFT + 2] | masks[RIGHT + 2])
    if (signs >> k) & 1 == 0:
        count = _put_corners_on_side(vertices, triangles, piece, subject, size, t, k, after, count)
    for i in range(3):
        if (masks[LEAVES + i] >> k) & 1:
            count = _put_crossing(vertices, triangles, piece, subject, t, k, after, i, count)
            if masks[LEFT + (i + 1) % 3] == (1 << size) - 1:
                count = _put_inner(vertices, triangles, piece, (1 << size) - 1, t, count, i)
    return count


@lean
def _corners(
    vertices: FloatRows, triangles: IntRows, piece: Piece, subject: FloatRows, size: int, t: int, relation: int
) -> int:
    """Put the corners of the overlap, counter-clockwise; return how many."""
    if relation == _TRIANGLE_INSIDE:
        return _put_triangle(vertices, triangles, piece, subject, size, t)
    masks, found, places = piece.masks, piece.found, piece.places
    every = (1 << size) - 1
    count = as_index(0)
    outside = masks[BELOW] | masks[BELOW + 1] | masks[BELOW + 2]
    _fill_crossings(masks, size)
    busy = masks[ENTERS] | masks[ENTERS + 1] | masks[ENTERS + 2] | masks[LEAVES] | masks[LEAVES + 1] | masks[LEAVES + 2]
    for i in range(3):
        busy |= every & ~(masks[LEFT + i] | masks[RIGHT + i])
    if relation == _SUBJECT_INSIDE:
        busy = as_index(0)
    for k in range(size):
        if (outside >> k) & 1 == 0:
            found[count, 0], found[count, 1], found[count, 2] = SUBJECT, k, -1
            places[count, 0], places[count, 1] = subject[k, 0], subject[k, 1]
            count += 1
            if relation == _CROSSING:
                for i in range(3):
                    is_on = ((masks[ABOVE + i] | masks[BELOW + i]) >> k) & 1 == 0
                    if is_on and masks[LEFT + (i + 1) % 3] == every:
                        count = _put_inner(vertices, triangles, piece, every, t, count, i)
                        break
        if (busy >> k) & 1:
            count = _put_side(vertices, triangles, piece, subject, size, t, k, count)
    return count


@lean
def rise_at(layer: Layer, piece: Piece, face: FloatRows, t: int, n: int) -> float:
    """How far the layer's triangle lies above a face at a corner of their overlap; nothing where both are equal.

    Heights are subtracted before they are weighed, so that what is small is not lost in what is large.
    """
    what, k, i = piece.found[n, 0], piece.found[n, 1], piece.found[n, 2]
    vertices, triangles = layer.vertices, layer.triangles
    if what == SUBJECT:
        height = face[k, 2]
        a, b, c = piece.sides[1, k], piece.sides[2, k], piece.sides[0, k]
        rise: float = a * (vertices[triangles[t, 0], 2] - height) + b * (vertices[triangles[t, 1], 2] - height)
        return float((rise + c * (vertices[triangles[t, 2], 2] - height)) / (a + b + c))
    if what == TRIANGLE:
        height = vertices[triangles[t, i], 2]
        a, b, c = piece.corners[1, i], piece.corners[2, i], piece.corners[0, i]
        rise = a * (height - face[0, 2]) + b * (height - face[1, 2]) + c * (height - face[2, 2])
        return rise / float(a + b + c)
    after = (k + 1) % 3
    low, high = vertices[triangles[t, i], 2], vertices[triangles[t, (i + 1) % 3], 2]
    rise = (low - face[k, 2]) + piece.places[n, 3] * (high - low)
    return float(rise - piece.places[n, 2] * (face[after, 2] - face[k, 2]))
