"""Height on the plane of a triangle."""

from evrin.tin.types import inner


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
    to_b = (x * cy - y * cx) / twice
    to_c = (bx * y - by * x) / twice
    return az + to_b * (bz - az) + to_c * (cz - az)
