"""How much lies between two meshes: walked together, triangle by triangle, nothing built.

Over the overlap of two triangles the difference of heights is one plane, so what it holds above and below nothing is
found in closed form, as exactly as rounding allows. Sums carry the part that rounding would lose.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats, IntRows, Mutable, as_index, lean, lean_kernel
from evrin.tin.exact.predicates import orientation, side_of, two_sum
from evrin.tin.overlay.overlap import MOST_CORNERS, next_overlap, rise_at, start_subject
from evrin.tin.overlay.overlap_arrays import Layer, Walker
from evrin.tin.query.locate import push_met

# What is summed: volume and plan area above, then below; plan areas further than the tolerance; areas in all.
FIELDS = 8
FILL, FILL_AREA, CUT, CUT_AREA, FILL_BEYOND, CUT_BEYOND, COMMON_AREA, SUBJECT_AREA = range(FIELDS)


class Cells(NamedTuple):
    """A layer of triangles that limit the sum.

    Attributes
    ----------
    layer : Layer
    counts : (c,) bool
        Which of its triangles count.
    depth : (c,) float64
        Added to the difference of heights in each.
    """

    layer: Layer
    counts: Flags
    depth: Floats


class Sums(NamedTuple):
    """What a walk adds up.

    Attributes
    ----------
    totals : (FIELDS, 2) float64
        Each with what rounding would have lost.
    of_subject : (m, 6) float64
        By triangle of the first mesh: area, and its moments about the triangle's first corner, above and below;
        without rows where not asked for.
    of_other : (k, 6) float64
        The same of the second.
    """

    totals: Mutable[FloatRows]
    of_subject: Mutable[FloatRows]
    of_other: Mutable[FloatRows]


class Room(NamedTuple):
    """Room for one subject at a time.

    Attributes
    ----------
    face, cell : (3, 3) float64
        Corners of a triangle of the first mesh, and of a cell.
    corners, part, cut, between : (2 MOST_CORNERS, 3) float64
        Corners of an overlap, of a part of that, and of what lies in a cell, found in steps.
    local : (FIELDS,) float64
        Its sums.
    out : (4,) float64
        One integral.
    moments : (6,) float64
    box : (4,) float64
        Of an overlap.
    """

    face: Mutable[FloatRows]
    cell: Mutable[FloatRows]
    corners: Mutable[FloatRows]
    part: Mutable[FloatRows]
    cut: Mutable[FloatRows]
    between: Mutable[FloatRows]
    local: Mutable[Floats]
    out: Mutable[Floats]
    moments: Mutable[Floats]
    box: Mutable[Floats]


def new_room() -> Room:
    """Return room for one subject at a time."""
    face, cell = np.empty((2, 3, 3))
    corners, part, cut, between = np.empty((4, 2 * MOST_CORNERS, 3))
    return Room(face, cell, corners, part, cut, between, np.empty(FIELDS), np.empty(4), np.empty(6), np.empty(4))


@lean
def add_to(totals: Mutable[FloatRows], field: int, value: float) -> None:
    """Add to a sum that keeps what rounding loses."""
    totals[field, 0], lost = two_sum(totals[field, 0], value)
    totals[field, 1] += lost


@lean
def integral_above(
    corners: FloatRows, size: int, sign: float, level: float, part: Mutable[FloatRows], out: Mutable[Floats]
) -> None:
    """Volume above a level, plan area and moments of the part of a convex polygon where sign times its height is above.

    *out* takes the volume, the area, and its moments eastwards and northwards about the polygon's first corner.
    """
    count = 0
    for k in range(size):
        after = k + 1 if k + 1 < size else 0
        here, there = sign * corners[k, 2] - level, sign * corners[after, 2] - level
        if here >= 0.0:
            part[count, 0], part[count, 1], part[count, 2] = corners[k, 0], corners[k, 1], here
            count += 1
        if (here > 0.0 and there < 0.0) or (here < 0.0 and there > 0.0):
            share = here / (here - there)
            part[count, 0] = corners[k, 0] + share * (corners[after, 0] - corners[k, 0])
            part[count, 1] = corners[k, 1] + share * (corners[after, 1] - corners[k, 1])
            part[count, 2] = 0.0
            count += 1
    out[0] = out[1] = out[2] = out[3] = 0.0
    if count < 3:
        return
    east, north = corners[0, 0], corners[0, 1]
    ax, ay = part[0, 0], part[0, 1]
    for k in range(1, count - 1):
        bx, by, cx, cy = part[k, 0], part[k, 1], part[k + 1, 0], part[k + 1, 1]
        area = 0.5 * ((bx - ax) * (cy - ay) - (by - ay) * (cx - ax))
        out[0] += area * (part[0, 2] + part[k, 2] + part[k + 1, 2]) / 3.0
        out[1] += area
        out[2] += area * ((ax - east) + (bx - east) + (cx - east)) / 3.0
        out[3] += area * ((ay - north) + (by - north) + (cy - north)) / 3.0


@lean
def _add_moments(rows: Mutable[FloatRows], t: int, first: int, out: Floats, east: float, north: float) -> None:
    rows[t, first] += out[1]
    rows[t, first + 1] += out[2] + out[1] * east
    rows[t, first + 2] += out[3] + out[1] * north


@lean
def _add_piece(
    corners: FloatRows,
    size: int,
    tolerance: float,
    part: Mutable[FloatRows],
    out: Mutable[Floats],
    local: Mutable[Floats],
    moments: Mutable[Floats],
) -> None:
    """Add one overlap to the sums of its subject; *moments* takes area and moments above and below."""
    low = high = corners[0, 2]
    for k in range(1, size):
        low, high = min(low, corners[k, 2]), max(high, corners[k, 2])
    for k in range(6):
        moments[k] = 0.0
    for side in range(2):
        sign = 1.0 if side == 0 else -1.0
        most = high if side == 0 else -low
        if most <= 0.0:
            continue
        integral_above(corners, size, sign, 0.0, part, out)
        first = FILL if side == 0 else CUT
        local[first] += out[0]
        local[first + 1] += out[1]
        for k in range(3):
            moments[3 * side + k] = out[1 + k]
        if most > tolerance:
            if tolerance > 0.0:
                integral_above(corners, size, sign, tolerance, part, out)
            local[FILL_BEYOND if side == 0 else CUT_BEYOND] += out[1]


@lean
def _area(corners: FloatRows, size: int) -> float:
    ax, ay = corners[0, 0], corners[0, 1]
    twice = 0.0
    for k in range(1, size - 1):
        bx, by, cx, cy = corners[k, 0], corners[k, 1], corners[k + 1, 0], corners[k + 1, 1]
        twice += (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    return 0.5 * twice


@lean
def fill_face(layer: Layer, t: int, face: Mutable[FloatRows]) -> bool:
    """Write the corners of a triangle; whether it has plan area."""
    for k in range(3):
        for axis in range(3):
            face[k, axis] = layer.vertices[layer.triangles[t, k], axis]
    return orientation(face[0, 0], face[0, 1], face[1, 0], face[1, 1], face[2, 0], face[2, 1]) > 0.0


@lean
def _left_of(polygon: FloatRows, size: int, face: FloatRows, k: int, out: Mutable[FloatRows]) -> int:
    """Write the part of a polygon left of a side of a face, heights straight between its corners; return its size."""
    after = (k + 1) % 3
    ax, ay, bx, by = face[k, 0], face[k, 1], face[after, 0], face[after, 1]
    count = as_index(0)
    there = side_of(ax, ay, bx, by, polygon[size - 1, 0], polygon[size - 1, 1])
    for n in range(size):
        before = n - 1 if n > 0 else size - 1
        here, last = side_of(ax, ay, bx, by, polygon[n, 0], polygon[n, 1]), there
        there = here
        if (here > 0.0 and last < 0.0) or (here < 0.0 and last > 0.0):
            share = last / (last - here)
            for axis in range(3):
                out[count, axis] = polygon[before, axis] + share * (polygon[n, axis] - polygon[before, axis])
            count += 1
        if here >= 0.0:
            for axis in range(3):
                out[count, axis] = polygon[n, axis]
            count += 1
    return count


@lean
def _cut_to_cell(corners: FloatRows, size: int, layer: Layer, cell: int, room: Room) -> int:
    """Write what of a convex polygon lies in a cell into the room's *cut*; return how many corners that has."""
    fill_face(layer, cell, room.cell)
    count = _left_of(corners, size, room.cell, as_index(0), room.cut)
    if count > 2:
        count = _left_of(room.cut, count, room.cell, as_index(1), room.between)
    if count > 2:
        count = _left_of(room.between, count, room.cell, as_index(2), room.cut)
    return count if count > 2 else as_index(0)


@lean
def _add_polygon(
    corners: FloatRows,
    size: int,
    t: int,
    s: int,
    face: FloatRows,
    other: Layer,
    tolerance: float,
    room: Room,
    sums: Sums,
) -> None:
    """Add a part of the overlap of face *t* of the first mesh and triangle *s* of the second."""
    local, out, moments = room.local, room.out, room.moments
    local[COMMON_AREA] += _area(corners, size)
    _add_piece(corners, size, tolerance, room.part, out, local, moments)
    if sums.of_subject.shape[0]:
        first = other.triangles[s, 0]
        east, north = other.vertices[first, 0], other.vertices[first, 1]
        x, y = corners[0, 0], corners[0, 1]
        for side in range(0, 6, 3):
            out[1], out[2], out[3] = moments[side], moments[side + 1], moments[side + 2]
            _add_moments(sums.of_subject, t, side, out, x - face[0, 0], y - face[0, 1])
            _add_moments(sums.of_other, s, side, out, x - east, y - north)


@lean
def _add_within_cells(
    size: int,
    t: int,
    s: int,
    face: FloatRows,
    other: Layer,
    cells: Cells,
    cell_walker: Walker,
    tolerance: float,
    room: Room,
    sums: Sums,
) -> None:
    """Add what of the overlap in the room's *corners* lies in cells that count."""
    corners, box, cut = room.corners, room.box, room.cut
    box[0] = box[2] = corners[0, 0]
    box[1] = box[3] = corners[0, 1]
    for n in range(1, size):
        box[0], box[2] = min(box[0], corners[n, 0]), max(box[2], corners[n, 0])
        box[1], box[3] = min(box[1], corners[n, 1]), max(box[3], corners[n, 1])
    layer = cells.layer
    cell_walker.seen[-1] += 1
    met = push_met(layer.boxes, layer.levels, layer.order, box, cell_walker.stack, as_index(0), cell_walker.seen)
    for k in range(met):
        cell = as_index(cell_walker.stack[k])
        if not cells.counts[cell]:
            continue
        count = _cut_to_cell(corners, size, layer, cell, room)
        for n in range(count):
            cut[n, 2] += cells.depth[cell]
        if count:
            _add_polygon(cut, count, t, s, face, other, tolerance, room, sums)


@lean
def _cells_of_face(face: FloatRows, cells: Cells, cell_walker: Walker, local: Mutable[Floats]) -> tuple[int, int]:
    """Add the area of a face in cells that count; return how many it meets, -1 where none counts, and the last."""
    met, last, is_any = as_index(0), as_index(-1), False
    start_subject(cells.layer, cell_walker, face, as_index(3))
    while True:
        cell, count = next_overlap(cells.layer, cell_walker, face, as_index(3))
        if cell < 0:
            break
        met, last = met + 1, cell
        if cells.counts[cell]:
            is_any = True
            local[SUBJECT_AREA] += _area(cell_walker.piece.places, count)
    return met if is_any else as_index(-1), last


@lean_kernel
def add_between(
    first: Layer,
    begin: int,
    end: int,
    other: Layer,
    walker: Walker,
    room: Room,
    is_limited: bool,
    cells: Cells,
    cell_walker: Walker,
    tolerance: float,
    sums: Sums,
) -> None:
    """Add what lies between triangles *begin* to *end* of the first mesh and the second, which is the upper one.

    An overlap that is cut to a cell is never asked again what it overlaps: its corners are rounded.
    """
    face, corners, local = room.face, room.corners, room.local
    for t in range(begin, end):
        if not fill_face(first, t, face):
            continue
        for field in range(FIELDS):
            local[field] = 0.0
        met, depth = as_index(1), 0.0
        if is_limited:
            met, cell = _cells_of_face(face, cells, cell_walker, local)
            if met < 0:
                continue
            depth = cells.depth[cell] if met == 1 else 0.0
        else:
            local[SUBJECT_AREA] = _area(face, as_index(3))
        start_subject(other, walker, face, as_index(3))
        while True:
            s, count = next_overlap(other, walker, face, as_index(3))
            if s < 0:
                break
            for n in range(count):
                corners[n, 0], corners[n, 1] = walker.piece.places[n, 0], walker.piece.places[n, 1]
                corners[n, 2] = rise_at(other, walker.piece, face, s, n) + depth
            if met == 1:
                _add_polygon(corners, count, t, s, face, other, tolerance, room, sums)
            else:
                _add_within_cells(count, t, s, face, other, cells, cell_walker, tolerance, room, sums)
        for field in range(FIELDS):
            add_to(sums.totals, field, local[field])


@lean_kernel
def area_in_cells(first: Layer, cells: Cells, cell_walker: Walker, room: Room, totals: Mutable[FloatRows]) -> None:
    """Add the plan area of a mesh that lies in cells that count."""
    for t in range(first.triangles.shape[0]):
        if not fill_face(first, t, room.face):
            continue
        room.local[SUBJECT_AREA] = 0.0
        _cells_of_face(room.face, cells, cell_walker, room.local)
        add_to(totals, as_index(0), room.local[SUBJECT_AREA])


@lean_kernel
def weights_of_vertices(
    vertices: FloatRows, triangles: IntRows, moments: FloatRows, weights: Mutable[FloatRows]
) -> None:
    """Add to each vertex how much a volume changes with its height: the integral of its share of each triangle."""
    for t in range(triangles.shape[0]):
        if moments[t, 0] == 0.0 and moments[t, 3] == 0.0:
            continue
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        bx, by = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
        cx, cy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
        twice = bx * cy - by * cx
        # Rounding leaves no area to a triangle this thin; its corners share the sum equally.
        is_thin = not twice > 0.0
        for side in range(2):
            area, east, north = moments[t, 3 * side], moments[t, 3 * side + 1], moments[t, 3 * side + 2]
            if is_thin:
                to_b = to_c = area / 3.0
            else:
                to_b, to_c = (east * cy - north * cx) / twice, (bx * north - by * east) / twice
            weights[side, a] += area - to_b - to_c
            weights[side, b] += to_b
            weights[side, c] += to_c
