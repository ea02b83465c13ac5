"""Weeding lines: fewer vertices, within a tolerance, and no line moved across another.

References
----------
Douglas, D. H. and Peucker, T. K. (1973). Algorithms for the reduction of the number of points required to represent a
digitized line or its caricature. *Cartographica* 10(2), 112-122. https://doi.org/10.3138/FM57-6770-U75U-7727
Saalfeld, A. (1999). Topologically consistent line simplification with the Douglas-Peucker algorithm. *Cartography and
Geographic Information Science* 26(1), 7-18. https://doi.org/10.1559/152304099782424901
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, FloatRows, Floats, Indices, Mutable, as_index, inner, kernel
from evrin.survey.lines.strands import Strand
from evrin.survey.lines.vertex_cells import VertexCells, cell_number, cells_over
from evrin.tin.exact.predicates import orientation, square


@dataclass(frozen=True)
class Weed:
    """How a line is weeded.

    Attributes
    ----------
    spacing, deflection_deg : float
        A vertex is removed where it is nearer along the line than *spacing* to the last one kept, and the line bends
        there in space by less than *deflection_deg*, measured from the last vertex kept. Both or neither.
    tolerance : float
        A vertex is removed where the weeded line passes it in space no farther away than this.
    """

    spacing: float = 0.0
    deflection_deg: float = 0.0
    tolerance: float = 0.0


@dataclass(frozen=True, eq=False)
class Weeded:
    """What weeding did.

    Attributes
    ----------
    kept : list of (k,) bool
        By line, the vertices that stay.
    strays : (lines,) float64
        How far, in space, the removed vertices are from the weeded line at most.
    before, after : int
        Vertices of the lines that were to be weeded.
    """

    kept: list[Flags]
    strays: Floats
    before: int
    after: int


@inner
def _away_square(xyz: FloatRows, k: int, a: int, b: int) -> float:
    """Squared distance in space of one vertex from the straight line between two; in plan where a height is missing."""
    dx, dy, dz = xyz[b, 0] - xyz[a, 0], xyz[b, 1] - xyz[a, 1], xyz[b, 2] - xyz[a, 2]
    px, py, pz = xyz[k, 0] - xyz[a, 0], xyz[k, 1] - xyz[a, 1], xyz[k, 2] - xyz[a, 2]
    if np.isnan(dz) or np.isnan(pz):
        dz, pz = 0.0, 0.0
    length = dx * dx + dy * dy + dz * dz
    part = 0.0
    if length > 0.0:
        part = min(max((px * dx + py * dy + pz * dz) / length, 0.0), 1.0)
    px, py, pz = px - part * dx, py - part * dy, pz - part * dz
    square_distance: float = px * px + py * py + pz * pz
    return square_distance


@inner
def _plan_square(xyz: FloatRows, a: int, b: int, x: float, y: float) -> float:
    """Squared distance in plan of a place from the straight line between two vertices."""
    dx, dy = xyz[b, 0] - xyz[a, 0], xyz[b, 1] - xyz[a, 1]
    px, py = x - xyz[a, 0], y - xyz[a, 1]
    length = dx * dx + dy * dy
    part = min(max((px * dx + py * dy) / length, 0.0), 1.0) if length > 0.0 else 0.0
    return square(px - part * dx, py - part * dy)


@inner
def _farthest(xyz: FloatRows, a: int, b: int) -> tuple[int, float]:
    best, most = as_index(-1), -1.0
    for k in range(a + 1, b):
        square_distance = _away_square(xyz, k, a, b)
        if square_distance > most:
            best, most = as_index(k), square_distance
    return best, most


@inner
def _keep_within(
    xyz: FloatRows, first: int, last: int, limit: float, kept: Mutable[Flags], stack: Mutable[Indices]
) -> None:
    """Keep what a chain of vertices needs to stay within the square root of *limit*."""
    stack[0], stack[1] = first, last
    size = 2
    while size > 0:
        a, b = stack[size - 2], stack[size - 1]
        size -= 2
        k, most = _farthest(xyz, a, b)
        if most > limit:
            kept[k] = True
            stack[size], stack[size + 1], stack[size + 2], stack[size + 3] = a, k, k, b
            size += 4


@inner
def _keep_bends(xyz: FloatRows, first: int, last: int, spacing: float, cosine: float, kept: Mutable[Flags]) -> None:
    previous = first
    for k in range(first + 1, last):
        ax, ay, az = xyz[k, 0] - xyz[previous, 0], xyz[k, 1] - xyz[previous, 1], xyz[k, 2] - xyz[previous, 2]
        bx, by, bz = xyz[k + 1, 0] - xyz[k, 0], xyz[k + 1, 1] - xyz[k, 1], xyz[k + 1, 2] - xyz[k, 2]
        if np.isnan(az) or np.isnan(bz):
            az, bz = 0.0, 0.0
        there, on = np.sqrt(ax * ax + ay * ay + az * az), np.sqrt(bx * bx + by * by + bz * bz)
        is_straight = there == 0.0 or on == 0.0 or ax * bx + ay * by + az * bz >= cosine * there * on
        if there < spacing and is_straight:
            continue
        kept[k] = True
        previous = k


@inner
def _anchor_ring(xyz: FloatRows, start: int, end: int) -> tuple[int, int]:
    """Two vertices of a ring far apart: the south-westernmost and the one farthest from it."""
    one = as_index(start)
    for k in range(start, end):
        if xyz[k, 0] < xyz[one, 0] or (xyz[k, 0] == xyz[one, 0] and xyz[k, 1] < xyz[one, 1]):
            one = as_index(k)
    other, most = as_index(start), -1.0
    for k in range(start, end):
        square_distance = square(xyz[k, 0] - xyz[one, 0], xyz[k, 1] - xyz[one, 1])
        if square_distance > most:
            other, most = as_index(k), square_distance
    return one, other


@kernel
def _first_choice(xyz: FloatRows, starts: Indices, anchors: Indices, how: FloatRows, kept: Mutable[Flags]) -> None:
    """Keep what the tolerance of each line asks for; rings were turned to start at an anchor, and end with it again."""
    stack = np.empty(4 * xyz.shape[0] + 8, np.int64)
    for line in range(starts.shape[0] - 1):
        first, last = starts[line], starts[line + 1] - 1
        spacing, cosine, tolerance = how[line, 0], how[line, 1], how[line, 2]
        middle = anchors[line]
        kept[first] = kept[last] = True
        if middle >= 0:
            kept[middle] = True
        if spacing <= 0.0 and tolerance <= 0.0:
            for row in range(first, last + 1):
                kept[row] = True
            continue
        if tolerance > 0.0:
            if middle >= 0:
                _keep_within(xyz, first, middle, tolerance * tolerance, kept, stack)
                _keep_within(xyz, middle, last, tolerance * tolerance, kept, stack)
            else:
                _keep_within(xyz, first, last, tolerance * tolerance, kept, stack)
        if spacing > 0.0:
            if middle >= 0:
                _keep_bends(xyz, first, middle, spacing, cosine, kept)
                _keep_bends(xyz, middle, last, spacing, cosine, kept)
            else:
                _keep_bends(xyz, first, last, spacing, cosine, kept)
        if middle >= 0:
            # A ring needs a third corner.
            count = 0
            for k in range(first, last):
                count += kept[k]
            if count < 3:
                far, most = as_index(-1), -1.0
                for k in range(first + 1, last):
                    square_distance = _away_square(xyz, k, first, middle)
                    if not kept[k] and square_distance > most:
                        far, most = as_index(k), square_distance
                if far >= 0:
                    kept[far] = True


@inner
def _is_beside(xyz: FloatRows, a: int, b: int, x: float, y: float) -> bool:
    """Whether a place lies on or between a chain of vertices and the straight line that is to replace it."""
    winding = 0
    for k in range(a, b + 1):
        n = k + 1 if k < b else a
        ax, ay, bx, by = xyz[k, 0], xyz[k, 1], xyz[n, 0], xyz[n, 1]
        if min(ax, bx) <= x <= max(ax, bx) and min(ay, by) <= y <= max(ay, by):
            side = orientation(ax, ay, bx, by, x, y)
            if side == 0.0:
                return True
        elif max(ax, bx) < x or min(ay, by) > y or max(ay, by) < y:
            continue
        else:
            side = orientation(ax, ay, bx, by, x, y)
        if ay <= y < by and side > 0.0:
            winding += 1
        elif by <= y < ay and side < 0.0:
            winding -= 1
    return winding != 0


@inner
def _is_clear(xyz: FloatRows, cells: VertexCells, i: int, j: int, start: int, end: int, most: float) -> bool:
    """Whether no vertex of any line is between the chain from *i* to *j* and its chord."""
    is_ring = xyz[start, 0] == xyz[end, 0] and xyz[start, 1] == xyz[end, 1]
    west, east, south, north = np.inf, -np.inf, np.inf, -np.inf
    for k in range(i, j + 1):
        west, east = min(west, xyz[k, 0]), max(east, xyz[k, 0])
        south, north = min(south, xyz[k, 1]), max(north, xyz[k, 1])
    # Whatever is between a chain and its chord is at most as far from the chord as the chain itself.
    reach = most * (1.0 + 1e-9)
    low, high = (
        cell_number(south, cells.low_y, cells.scale, cells.rows),
        cell_number(north, cells.low_y, cells.scale, cells.rows),
    )
    from_column = cell_number(west, cells.low_x, cells.scale, cells.columns)
    to_column = cell_number(east, cells.low_x, cells.scale, cells.columns)
    for row in range(low, high + 1):
        first, last = row * cells.columns + from_column, row * cells.columns + to_column
        for m in range(cells.first_of[first], cells.first_of[last + 1]):
            k = cells.members[m]
            if i <= k <= j or (is_ring and ((k == start and j == end) or (k == end and i == start))):
                continue
            x, y = xyz[k, 0], xyz[k, 1]
            if _plan_square(xyz, i, j, x, y) <= reach and _is_beside(xyz, i, j, x, y):
                # Ends that meet the end of another line are not between them.
                at_i = x == xyz[i, 0] and y == xyz[i, 1]
                at_j = x == xyz[j, 0] and y == xyz[j, 1]
                if not at_i and not at_j:
                    return False
    return True


@kernel
def _keep_apart(xyz: FloatRows, starts: Indices, how: FloatRows, kept: Mutable[Flags], cells: VertexCells) -> None:
    """Keep more vertices until no vertex of any line is between a chain and what replaces it."""
    stack = np.empty(4 * xyz.shape[0] + 8, np.int64)
    for line in range(starts.shape[0] - 1):
        start, end = starts[line], starts[line + 1] - 1
        limit = how[line, 2] * how[line, 2]
        a = as_index(start)
        for b in range(start + 1, end + 1):
            if not kept[b]:
                continue
            stack[0], stack[1] = a, b
            size = 2
            a = as_index(b)
            while size > 0:
                i, j = stack[size - 2], stack[size - 1]
                size -= 2
                if j == i + 1:
                    continue
                farthest, most = _farthest(xyz, i, j)
                # The parts of a chain may differ from their own lines more than the whole did from its.
                if not _is_clear(xyz, cells, i, j, start, end, most) or (0.0 < limit < most):
                    kept[farthest] = True
                    stack[size], stack[size + 1], stack[size + 2], stack[size + 3] = i, farthest, farthest, j
                    size += 4


@kernel
def _strays(xyz: FloatRows, starts: Indices, kept: Flags, out: Mutable[Floats]) -> None:
    for line in range(starts.shape[0] - 1):
        most = 0.0
        a = starts[line]
        for b in range(starts[line] + 1, starts[line + 1]):
            if kept[b]:
                for k in range(a + 1, b):
                    most = max(most, _away_square(xyz, k, a, b))
                a = b
        out[line] = np.sqrt(most)


@kernel
def _turn_rings(
    xyz: FloatRows,
    starts: Indices,
    closed: Flags,
    out: Mutable[FloatRows],
    origin: Mutable[Indices],
    anchors: Mutable[Indices],
) -> None:
    """Copy lines; each ring from an anchor on, and with it once more at its end."""
    at = 0
    for line in range(starts.shape[0] - 1):
        start, end = starts[line], starts[line + 1]
        anchors[line] = -1
        if not closed[line]:
            for k in range(start, end):
                out[at], origin[at] = xyz[k], k
                at += 1
            continue
        one, other = _anchor_ring(xyz, start, end)
        count = end - start
        anchors[line] = at + (other - one) % count
        for step in range(count + 1):
            k = start + (one - start + step) % count
            out[at], origin[at] = xyz[k], k
            at += 1


def weeded(strands: Sequence[Strand], how: Sequence[Weed | None]) -> Weeded:
    """Weed lines together, so that none moves across another or across a vertex of one.

    The height-aware tolerance is that of Douglas and Peucker in space; a vertex is kept all the same where a vertex of
    any line lies between the old course and the new (after Saalfeld). Ends stay, and a ring keeps three corners.

    Parameters
    ----------
    strands : sequence of Strand
        The lines.
    how : sequence of Weed or None
        By line; lines with None stay unchanged, and nothing is moved across them.

    Returns
    -------
    Weeded

    Raises
    ------
    DataError
        For a spacing without a deflection, or numbers below 0.

    Examples
    --------
    >>> bank = Strand.made("bank", np.array([[0.0, 0, 5], [1, 0.01, 5], [2, 0, 5], [3, 2, 5]]))
    >>> weeded([bank], [Weed(tolerance=0.05)]).kept[0].tolist()
    [True, False, True, True]
    """
    for each in how:
        if each is not None:
            _check(each)
    closed = np.array([strand.closed and len(strand) > 3 for strand in strands], np.bool_)
    counts = np.array([len(strand) for strand in strands], np.int64)
    starts = np.concatenate(([0], np.cumsum(counts)))
    xyz = np.concatenate([np.empty((0, 3)), *(strand.xyz for strand in strands)])
    turned = np.concatenate(([0], np.cumsum(counts + closed)))
    places, origin = np.empty((int(turned[-1]), 3)), np.empty(int(turned[-1]), np.int64)
    anchors = np.empty(len(strands), np.int64)
    _turn_rings(xyz, starts, closed, places, origin, anchors)
    numbers = np.array([_numbers(each) for each in how]).reshape(-1, 3)
    kept = np.zeros(len(places), np.bool_)
    _first_choice(places, turned, anchors, numbers, kept)
    if len(places):
        _keep_apart(places, turned, numbers, kept, cells_over(places))
    strays = np.empty(len(strands))
    _strays(places, turned, kept, strays)
    stays = np.zeros(len(xyz), np.bool_)
    stays[origin[kept]] = True
    by_line = [stays[a:b] for a, b in itertools.pairwise(starts)]
    asked = [k for k, each in enumerate(how) if each is not None]
    return Weeded(by_line, strays, int(counts[asked].sum()), sum(int(by_line[k].sum()) for k in asked))


def _check(how: Weed) -> None:
    if min(how.spacing, how.deflection_deg, how.tolerance) < 0.0:
        raise DataError(f"weeding distances must not be below 0; got {how}")
    if (how.spacing > 0.0) != (how.deflection_deg > 0.0):
        raise DataError("weeding by spacing needs spacing and deflection_deg together")


def _numbers(how: Weed | None) -> tuple[float, float, float]:
    if how is None:
        return 0.0, 0.0, 0.0
    return how.spacing, float(np.cos(np.radians(how.deflection_deg))), how.tolerance
