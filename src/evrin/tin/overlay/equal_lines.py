"""Where two meshes are equal in height: the segments along which one crosses the other."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import FloatRows, Floats, Mutable, as_index, lean, lean_kernel
from evrin.tin.overlay.meshes_between import in_parallel
from evrin.tin.overlay.overlap import MOST_CORNERS, next_overlap, rise_at, start_subject, walker_through
from evrin.tin.overlay.overlap_arrays import Layer, Walker
from evrin.tin.overlay.overlay import fill_face

# Differences below this are rounding, or too small to matter in any unit: there the two are equal.
EQUAL = 1e-9
_PARTS = 2


class Zeros(NamedTuple):
    """Room for one overlap.

    Attributes
    ----------
    face : (3, 3) float64
        Corners of the subject.
    rises : (MOST_CORNERS,) float64
    places : (2 MOST_CORNERS, 2) float64
        Where the difference is nothing, in order round the overlap.
    """

    face: Mutable[FloatRows]
    rises: Mutable[Floats]
    places: Mutable[FloatRows]


@lean
def _zeros_round(piece_places: FloatRows, size: int, zeros: Zeros) -> int:
    """Put the places round an overlap where the difference is nothing; return how many."""
    count = as_index(0)
    for n in range(size):
        after = n + 1 if n + 1 < size else 0
        here, there = zeros.rises[n], zeros.rises[after]
        if here == 0.0:
            zeros.places[count, 0], zeros.places[count, 1] = piece_places[n, 0], piece_places[n, 1]
            count += 1
        if (here > 0.0 and there < 0.0) or (here < 0.0 and there > 0.0):
            part = here / (here - there)
            for axis in range(2):
                start = piece_places[n, axis]
                zeros.places[count, axis] = start + part * (piece_places[after, axis] - start)
            count += 1
    return count


@lean_kernel
def put_equal(
    first: Layer, start: int, stop: int, other: Layer, walker: Walker, zeros: Zeros, out: Mutable[FloatRows]
) -> int:
    """Write segments of equal height between two meshes; return how many there are, though only a full *out* holds.

    Where two are equal over an area, its edges are written, not what is inside it.
    """
    pairs = as_index(0)
    for t in range(start, stop):
        if not fill_face(first, t, zeros.face):
            continue
        start_subject(other, walker, zeros.face, as_index(3))
        while True:
            s, size = next_overlap(other, walker, zeros.face, as_index(3))
            if s < 0:
                break
            differs = False
            for n in range(size):
                d = rise_at(other, walker.piece, zeros.face, s, n)
                zeros.rises[n] = d if abs(d) > EQUAL else 0.0
                differs |= abs(d) > EQUAL
            if not differs:
                continue
            count = _zeros_round(walker.piece.places, size, zeros)
            for k in range(count - 1 if count == 2 else count):
                if count < 2:
                    break
                after = k + 1 if k + 1 < count else 0
                if pairs < out.shape[0]:
                    out[pairs, 0], out[pairs, 1] = zeros.places[k, 0], zeros.places[k, 1]
                    out[pairs, 2], out[pairs, 3] = zeros.places[after, 0], zeros.places[after, 1]
                pairs += 1
    return pairs


def equal_segments(first: Layer, other: Layer) -> Floats:
    """Return the segments (s, 4) along which two meshes are equal in height and beside which they are not.

    Parameters
    ----------
    first, other : Layer
        In coordinates of one origin.
    """
    bounds = np.linspace(0, len(first.triangles), _PARTS + 1).astype(np.int64)
    parts: list[Floats] = [np.empty((0, 4))] * _PARTS

    def run(number: int) -> None:
        start, stop = int(bounds[number]), int(bounds[number + 1])
        room = 1024 + (stop - start) // 4
        while True:
            out = np.empty((room, 4))
            zeros = Zeros(np.empty((3, 3)), np.empty(MOST_CORNERS), np.empty((2 * MOST_CORNERS, 2)))
            count = put_equal(first, start, stop, other, walker_through(len(other.triangles)), zeros, out)
            if count <= room:
                parts[number] = out[:count]
                return
            room = count

    in_parallel(run, _PARTS)
    return np.concatenate(parts)
