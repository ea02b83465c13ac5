"""The judge: the same questions answered in exact rational arithmetic, slowly."""

from fractions import Fraction


def point(p):
    return Fraction(float(p[0])), Fraction(float(p[1]))


def turn(a, b, c):
    (ax, ay), (bx, by), (cx, cy) = point(a), point(b), point(c)
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


def circle(a, b, c, d):
    rows = [(x - point(d)[0], y - point(d)[1]) for x, y in map(point, (a, b, c))]
    (ax, ay), (bx, by), (cx, cy) = rows
    lifts = [x * x + y * y for x, y in rows]
    return lifts[0] * (bx * cy - cx * by) + lifts[1] * (cx * ay - ax * cy) + lifts[2] * (ax * by - bx * ay)


def sign(value):
    return (value > 0) - (value < 0)


def twice_area(xy, triangles):
    return sum(turn(*(xy[v] for v in t)) for t in triangles)


def twice_hull_area(xy):
    """Twice the area of the convex hull, by Andrew's monotone chain."""
    ordered = sorted({point(p) for p in xy})
    chain = []
    for sequence in (ordered, ordered[::-1]):
        half = []
        for p in sequence:
            while len(half) > 1 and _cross(half[-2], half[-1], p) <= 0:
                half.pop()
            half.append(p)
        chain += half[:-1]
    return sum(p[0] * q[1] - q[0] * p[1] for p, q in zip(chain, chain[1:] + chain[:1], strict=True))


def _cross(a, b, c):
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


def exact_height(corners, x, y):
    """The height at a place in the plane of three corners (x, y, z)."""
    a, b, c = corners
    whole = turn(a, b, c)
    place = (x, y)
    parts = (turn(b, c, place), turn(c, a, place), turn(a, b, place))
    return sum(part * Fraction(float(corner[2])) for part, corner in zip(parts, corners, strict=True)) / whole
