"""Natural-neighbour interpolation over a Delaunay mesh."""

import numpy as np

from evrin.kernels import FloatRows, Floats, Ints, Mutable, as_index, inner, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, find_triangle, following, preceding
from evrin.tin.exact.predicates import in_circle, orientation


@inner
def _circumcentre(ax: float, ay: float, bx: float, by: float) -> tuple[float, float]:
    """Centre of the circle through the origin, a and b."""
    twice = 2.0 * (ax * by - ay * bx)
    if twice == 0.0:
        return np.nan, np.nan
    square_a, square_b = ax * ax + ay * ay, bx * bx + by * by
    return (by * square_a - ay * square_b) / twice, (ax * square_b - bx * square_a) / twice


@inner
def _old_centre(xy: FloatRows, corner: Ints, t: int, x: float, y: float) -> tuple[float, float]:
    """Centre of the circle around a triangle, from a place."""
    a, b, c = corner[3 * t], corner[3 * t + 1], corner[3 * t + 2]
    ax, ay = xy[a, 0], xy[a, 1]
    cx, cy = _circumcentre(xy[b, 0] - ax, xy[b, 1] - ay, xy[c, 0] - ax, xy[c, 1] - ay)
    return cx + (ax - x), cy + (ay - y)


@inner
def _holds(xy: FloatRows, corner: Ints, t: int, x: float, y: float) -> bool:
    """Whether the circle around a triangle holds a place; never that of one beyond the hull."""
    a, b, c = corner[3 * t], corner[3 * t + 1], corner[3 * t + 2]
    if a == OUTSIDE or b == OUTSIDE or c == OUTSIDE:
        return False
    return bool(in_circle(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1], x, y) > 0.0)


@inner
def _new_centre(xy: FloatRows, corner: Ints, h: int, x: float, y: float) -> tuple[float, float]:
    """Centre of the circle through a place, taken as the origin, and the ends of a half-edge."""
    a, b = corner[h], corner[following(h)]
    return _circumcentre(xy[a, 0] - x, xy[a, 1] - y, xy[b, 0] - x, xy[b, 1] - y)


@inner
def _vertex_at(xy: FloatRows, corner: Ints, t: int, x: float, y: float) -> int:
    """The corner of a triangle that is exactly at a place, or -1."""
    for h in range(3 * t, 3 * t + 3):
        if xy[corner[h], 0] == x and xy[corner[h], 1] == y:
            return as_index(corner[h])
    return -1


@inner
def _is_before(xy: FloatRows, corner: Ints, h: int, x: float, y: float) -> bool:
    """Whether a place is on the inner side of a half-edge, or in line with it."""
    a, b = corner[h], corner[following(h)]
    return bool(orientation(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], x, y) >= 0.0)


@inner
def _stolen(xy: FloatRows, corner: Ints, mate: Ints, stamp: Ints, mark: int, rim: int, x: float, y: float) -> float:
    """Twice the area that a place would take from the cell of the vertex where half-edge *rim* of its cavity ends."""
    first_x, first_y = _new_centre(xy, corner, rim, x, y)
    last_x, last_y = first_x, first_y
    area = 0.0
    h = rim
    while True:
        nx, ny = _old_centre(xy, corner, h // 3, x, y)
        area += last_x * ny - nx * last_y
        last_x, last_y = nx, ny
        out = following(h)
        if stamp[mate[out] // 3] != mark:
            nx, ny = _new_centre(xy, corner, out, x, y)
            area += last_x * ny - nx * last_y
            return area + nx * first_y - first_x * ny
        h = as_index(mate[out])


@kernel
def natural_heights(
    xy: FloatRows,
    z: Floats,
    corner: Ints,
    mate: Ints,
    fixed: Ints,
    stamp: Mutable[Ints],
    places: FloatRows,
    out: Mutable[Floats],
) -> None:
    """Heights at places by the natural neighbours that are seen from there across free edges alone.

    NaN beyond the hull, on a fixed edge, and where rounding leaves no weights. *stamp* holds -1 for each triangle.
    """
    cavity = np.empty(64, np.int64)
    near = as_index(0)
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        out[i] = np.nan
        e, _ = find_triangle(xy, corner, mate, near, x, y)
        near = as_index(e)
        t = e // 3
        if corner[e] == OUTSIDE or corner[following(e)] == OUTSIDE or corner[preceding(e)] == OUTSIDE:
            continue
        exact = _vertex_at(xy, corner, t, x, y)
        if exact >= 0:
            out[i] = z[exact]
            continue
        stamp[t] = i
        cavity[0] = t
        count = 1
        done = 0
        while done < count:
            t = cavity[done]
            done += 1
            for h in range(3 * t, 3 * t + 3):
                beyond = mate[h] // 3
                is_free = fixed[h] == 0 and stamp[beyond] != i
                if is_free and _is_before(xy, corner, h, x, y) and _holds(xy, corner, beyond, x, y):
                    if count == cavity.shape[0]:
                        larger = np.empty(2 * count, np.int64)
                        for k in range(count):
                            larger[k] = cavity[k]
                        cavity = larger
                    stamp[beyond] = i
                    cavity[count] = beyond
                    count += 1
        total, weighted, lowest, highest = 0.0, 0.0, np.inf, -np.inf
        for k in range(count):
            for h in range(3 * cavity[k], 3 * cavity[k] + 3):
                if stamp[mate[h] // 3] == i and fixed[h] != 0:
                    # Both sides of a line, seen past its end: what they take cannot be told apart.
                    total = np.nan
                if stamp[mate[h] // 3] != i:
                    weight = _stolen(xy, corner, mate, stamp, i, h, x, y)
                    total += weight
                    near_z = z[corner[following(h)]]
                    weighted += weight * near_z
                    lowest, highest = min(lowest, near_z), max(highest, near_z)
        if abs(total) > 0.0 and np.isfinite(total) and np.isfinite(weighted):
            # A mean is no higher than the highest; among equal heights it is that height, whatever was rounded.
            out[i] = min(max(weighted / total, lowest), highest)
