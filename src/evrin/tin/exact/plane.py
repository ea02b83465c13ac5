"""Height on the plane of a triangle."""

from evrin.kernels import inner

# Thinner than this, as twice the area over the square of the longest side, and rounding decides more than the plane.
_SLIVER = 2.0**-26


@inner
def _height_on_sliver(
    bx: float, by: float, cx: float, cy: float, az: float, bz: float, cz: float, x: float, y: float
) -> float:
    """Height by distance along a triangle without width; its first corner is the origin, its longest side is *b*."""
    length = bx * bx + by * by
    part = min(max((x * bx + y * by) / length, 0.0), 1.0)
    bend = min(max((cx * bx + cy * by) / length, 0.0), 1.0)
    if part <= bend:
        return az + part / bend * (cz - az) if bend > 0.0 else az
    return cz + (part - bend) / (1.0 - bend) * (bz - cz)


@inner
def plane_height(
    ax: float,
    ay: float,
    az: float,
    bx: float,
    by: float,
    bz: float,
    cx: float,
    cy: float,
    cz: float,
    x: float,
    y: float,
) -> float:
    """Height of the plane through three vertices; at a vertex, that vertex's own height to the last bit."""
    bx -= ax
    by -= ay
    cx -= ax
    cy -= ay
    x -= ax
    y -= ay
    if x == bx and y == by:
        return bz
    if x == cx and y == cy:
        return cz
    twice = bx * cy - by * cx
    ab, ac = bx * bx + by * by, cx * cx + cy * cy
    bc = (cx - bx) * (cx - bx) + (cy - by) * (cy - by)
    if abs(twice) < _SLIVER * max(ab, ac, bc):
        if bc > ab and bc > ac:
            return _height_on_sliver(cx - bx, cy - by, -bx, -by, bz, cz, az, x - bx, y - by)
        if ab >= ac:
            return _height_on_sliver(bx, by, cx, cy, az, bz, cz, x, y)
        return _height_on_sliver(cx, cy, bx, by, az, cz, bz, x, y)
    to_b = (x * cy - y * cx) / twice
    to_c = (bx * y - by * x) / twice
    return az + to_b * (bz - az) + to_c * (cz - az)
