"""The overlap of two meshes as a mesh of its own, whose heights are their difference.

Each of its vertices is a vertex of the one or the other, a place where edges of both cross, or a place on the line
where the two are equal, along which it is split. Vertices are known by what they are, never by how near they are.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import FloatRows, Floats, IndexRows, Indices, IntRows, Ints, Mutable, as_index, lean, lean_kernel
from evrin.tin.overlay.equal_lines import EQUAL
from evrin.tin.overlay.overlap import (
    MOST_CORNERS,
    SUBJECT,
    TRIANGLE,
    next_overlap,
    rise_at,
    start_subject,
    walker_through,
)
from evrin.tin.overlay.overlap_arrays import Layer, Piece, Walker
from evrin.tin.overlay.overlay import Room, fill_face, new_room

_NOTHING = -1
_CROSSING_KEY = 2**62
_SHIFT = 2**31
# Two heights at one place further apart than this are the foot and the top of a step.
_STEP = 1e-7
_SPREAD = 0x9E3779B97F4A7C15 - 2**64
_ROOM = 4


class Made(NamedTuple):
    """The mesh while it is made.

    Attributes
    ----------
    vertices : (v, 3) float64
    triangles : (t, 3) int32
    keys : (h,) int64
        What is known of each vertex, at the place in the table that follows from it.
    numbers : (h,) int32
    counts : (3,) int64
        Vertices and triangles so far, and triangles left out.
    ids : (3, MOST_CORNERS) int64
        Vertices of a piece, and of its parts above and below.
    """

    vertices: Mutable[FloatRows]
    triangles: Mutable[IntRows]
    keys: Mutable[Indices]
    numbers: Mutable[Ints]
    counts: Mutable[Indices]
    ids: Mutable[IndexRows]


@lean
def _number(made: Made, key: int, x: float, y: float, d: float) -> int:
    """The vertex of a key, made where there is none yet; another of the same key where there is a step."""
    mask = made.keys.shape[0] - 1
    at = ((key * _SPREAD) >> 20) & mask
    while made.numbers[at] >= 0:
        number = as_index(made.numbers[at])
        if made.keys[at] == key and abs(made.vertices[number, 2] - d) <= _STEP:
            return number
        at = (at + 1) & mask
    number = as_index(made.counts[0])
    made.counts[0] += 1
    made.keys[at], made.numbers[at] = key, number
    made.vertices[number, 0], made.vertices[number, 1], made.vertices[number, 2] = x, y, d
    return number


@lean
def _edge(layer: Layer, half: int) -> int:
    mate = as_index(layer.mate[half])
    return mate if 0 <= mate < half else half


@lean
def _key_of(first: Layer, t: int, other: Layer, s: int, piece: Piece, n: int) -> int:
    what, k, i = piece.found[n, 0], piece.found[n, 1], piece.found[n, 2]
    if what == SUBJECT:
        return as_index(first.triangles[t, k])
    if what == TRIANGLE:
        return as_index(first.vertices.shape[0] + other.triangles[s, i])
    return as_index(_CROSSING_KEY + _edge(first, 3 * t + k) * _SHIFT + _edge(other, 3 * s + i))


@lean
def _smallest(made: Made, row: int, size: int, start: int) -> float:
    """The smallest area, twice, of the fan of a polygon from one of its corners."""
    a = made.ids[row, start]
    ax, ay = made.vertices[a, 0], made.vertices[a, 1]
    least = np.inf
    for k in range(1, size - 1):
        b, c = made.ids[row, (start + k) % size], made.ids[row, (start + k + 1) % size]
        bx, by = made.vertices[b, 0] - ax, made.vertices[b, 1] - ay
        cx, cy = made.vertices[c, 0] - ax, made.vertices[c, 1] - ay
        least = min(least, bx * cy - by * cx)
    return least


@lean
def _put_fan(made: Made, row: int, size: int) -> None:
    """Add a convex polygon as triangles, from the corner that makes the widest; what has no area is left out."""
    best, start = -np.inf, as_index(0)
    if size > 3:
        for k in range(size):
            least = _smallest(made, row, size, k)
            if least > best:
                best, start = least, as_index(k)
    for k in range(1, size - 1):
        a, b, c = made.ids[row, start], made.ids[row, (start + k) % size], made.ids[row, (start + k + 1) % size]
        ax, ay = made.vertices[a, 0], made.vertices[a, 1]
        bx, by, cx, cy = made.vertices[b, 0], made.vertices[b, 1], made.vertices[c, 0], made.vertices[c, 1]
        if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) <= 0.0:
            made.counts[2] += 1
            continue
        count = made.counts[1]
        made.triangles[count, 0], made.triangles[count, 1], made.triangles[count, 2] = a, b, c
        made.counts[1] += 1


@lean
def _equal_between(made: Made, a: int, b: int) -> int:
    """The vertex on the edge between two vertices where the difference is nothing."""
    low, high = min(a, b), max(a, b)
    here, there = made.vertices[low, 2], made.vertices[high, 2]
    part = here / (here - there)
    x = made.vertices[low, 0] + part * (made.vertices[high, 0] - made.vertices[low, 0])
    y = made.vertices[low, 1] + part * (made.vertices[high, 1] - made.vertices[low, 1])
    return _number(made, as_index(-2 - (low * _SHIFT + high)), x, y, 0.0)


@lean
def _put_piece(made: Made, size: int) -> None:
    """Add a piece whose corners are in the first row of ids, in two where the difference changes its sign."""
    low = high = made.vertices[made.ids[0, 0], 2]
    for k in range(1, size):
        d = made.vertices[made.ids[0, k], 2]
        low, high = min(low, d), max(high, d)
    if low >= 0.0 or high <= 0.0:
        _put_fan(made, as_index(0), size)
        return
    above = below = as_index(0)
    for k in range(size):
        a, b = made.ids[0, k], made.ids[0, (k + 1) % size]
        here, there = made.vertices[a, 2], made.vertices[b, 2]
        if here >= 0.0:
            made.ids[1, above] = a
            above += 1
        if here <= 0.0:
            made.ids[2, below] = a
            below += 1
        if (here > 0.0 and there < 0.0) or (here < 0.0 and there > 0.0):
            between = _equal_between(made, a, b)
            made.ids[1, above] = made.ids[2, below] = between
            above += 1
            below += 1
    _put_fan(made, as_index(1), above)
    _put_fan(made, as_index(2), below)


@lean_kernel
def put_overlaps(first: Layer, other: Layer, walker: Walker, room: Room, made: Made) -> bool:
    """Add the overlap of all triangles of two meshes; whether there was room enough."""
    face = room.face
    for t in range(first.triangles.shape[0]):
        if not fill_face(first, t, face):
            continue
        start_subject(other, walker, face, as_index(3))
        while True:
            s, size = next_overlap(other, walker, face, as_index(3))
            if s < 0:
                break
            if made.counts[0] + 2 * MOST_CORNERS > made.vertices.shape[0]:
                return False
            if made.counts[1] + 2 * MOST_CORNERS > made.triangles.shape[0]:
                return False
            count = as_index(0)
            for n in range(size):
                d = rise_at(other, walker.piece, face, s, n)
                if abs(d) <= EQUAL:
                    d = 0.0
                key = _key_of(first, t, other, s, walker.piece, n)
                number = _number(made, key, walker.piece.places[n, 0], walker.piece.places[n, 1], d)
                if count == 0 or made.ids[0, count - 1] != number:
                    made.ids[0, count] = number
                    count += 1
            if count > 1 and made.ids[0, 0] == made.ids[0, count - 1]:
                count -= 1
            if count > 2:
                _put_piece(made, count)
    return True


def overlay_mesh(first: Layer, other: Layer) -> tuple[Floats, Ints, bool]:
    """Return vertices (n, 3) and triangles (m, 3) of the overlap of two meshes; heights are *other* less *first*.

    Places are rounded, so a triangle can be turned or left out; whether none was left out is returned as well.

    Parameters
    ----------
    first, other : Layer
        In coordinates of one origin.
    """
    wanted = _ROOM * (len(first.triangles) + len(other.triangles)) + 8 * MOST_CORNERS
    while True:
        table = 1 << int(np.ceil(np.log2(1.5 * wanted)))
        made = Made(
            np.empty((wanted, 3)),
            np.empty((2 * wanted, 3), np.int32),
            np.zeros(table, np.int64),
            np.full(table, _NOTHING, np.int32),
            np.zeros(3, np.int64),
            np.zeros((3, MOST_CORNERS), np.int64),
        )
        if put_overlaps(first, other, walker_through(len(other.triangles)), new_room(), made):
            vertices, triangles, left_out = made.counts.tolist()
            return made.vertices[:vertices].copy(), made.triangles[:triangles].copy(), left_out == 0
        wanted *= 2
