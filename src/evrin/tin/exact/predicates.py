"""Exact signs of the two questions a triangulation asks: which side, and inside which circle.

Both first try plain floating point with a forward error bound, which settles nearly every case. Where the bound
does not decide, the determinant is evaluated exactly as a sum of non-overlapping doubles ("expansion"), so the sign is
that of the true real number for any finite input that neither overflows nor underflows.

References
----------
Shewchuk, J. R. (1997). Adaptive precision floating-point arithmetic and fast robust geometric predicates.
*Discrete & Computational Geometry* 18, 305-363. https://doi.org/10.1007/PL00009321
"""

import numpy as np

from evrin.kernels import FloatRows, Floats, IntRows, Mutable, as_index, inner, kernel, lean

_HALF_ULP = 2.0**-53
_SPLITTER = 2.0**27 + 1.0
_ORIENT_BOUND = (3.0 + 16.0 * _HALF_ULP) * _HALF_ULP
_CIRCLE_BOUND = (10.0 + 96.0 * _HALF_ULP) * _HALF_ULP

# The two determinants, multiplied out; rows 2i and 2i + 1 are the easting and northing of the i-th difference.
_ORIENT_MONOMIALS = np.array([[0, 3], [1, 2]], np.int32)
_ORIENT_SIGNS = np.array([1.0, -1.0])
_CIRCLE_MONOMIALS = np.array(
    [
        [2 * i + axis, 2 * i + axis, 2 * (i + j) % 6 + swap, 2 * (i + 3 - j) % 6 + 1 - swap]
        for i in range(3)
        for axis in (0, 1)
        for j, swap in ((1, 0), (1, 1))
    ],
    np.int32,
)
_CIRCLE_SIGNS = np.array([1.0, -1.0] * 6)


@inner
def two_sum(a: float, b: float) -> tuple[float, float]:
    total = a + b
    virtual = total - a
    return total, (a - (total - virtual)) + (b - virtual)


@inner
def two_product(a: float, b: float) -> tuple[float, float]:
    product = a * b
    wide = _SPLITTER * a
    a_high = wide - (wide - a)
    a_low = a - a_high
    wide = _SPLITTER * b
    b_high = wide - (wide - b)
    b_low = b - b_high
    return product, a_low * b_low - (((product - a_high * b_high) - a_low * b_high) - a_high * b_low)


@inner
def _is_difference(a: float, b: float) -> bool:
    """Whether ``a - b`` is a double exactly."""
    return two_sum(a, -b)[1] == 0.0


@inner
def _add_product(factors: Floats, total: Mutable[Floats], size: int) -> int:
    """Add the exact product of the factors to an expansion in place; return its new length."""
    degree = factors.shape[0]
    product = np.empty((2, 1 << degree))
    product[0, 0] = factors[0]
    length = 1
    for d in range(1, degree):
        source = product[(d - 1) % 2]
        out = product[d % 2]
        carry = 0.0
        used = 0
        for k in range(length):
            high, low = two_product(source[k], factors[d])
            carry, tail = two_sum(carry, low)
            if tail != 0.0:
                out[used] = tail
                used += 1
            carry, tail = two_sum(high, carry)
            if tail != 0.0:
                out[used] = tail
                used += 1
        out[used] = carry
        length = used + 1
    for k in range(length):
        term = product[(degree - 1) % 2, k]
        used = 0
        for i in range(size):
            term, tail = two_sum(term, total[i])
            if tail != 0.0:
                total[used] = tail
                used += 1
        # Where the leading parts cancel, the one below leads.
        if term != 0.0:
            total[used] = term
            used += 1
        size = used
    return size


@inner
def _exact_sign(rows: FloatRows, monomials: IntRows, signs: Floats) -> float:
    """Sign-true value of a sum of monomials in differences, each held as a row of leading part and tail."""
    terms, degree = monomials.shape
    ways = 1 << degree
    total = np.empty(terms * ways * ways)
    factors = np.empty(degree)
    size = as_index(0)
    for term in range(terms):
        for way in range(ways):
            is_zero = False
            for d in range(degree):
                factors[d] = rows[monomials[term, d], (way >> d) & 1]
                is_zero = is_zero or factors[d] == 0.0
            if not is_zero:
                factors[0] *= signs[term]
                size = _add_product(factors, total, size)
    return total[size - 1] if size > 0 else 0.0


@inner
def _exact_orientation(ax: float, ay: float, bx: float, by: float, cx: float, cy: float) -> float:
    rows = np.empty((4, 2))
    rows[0, 0], rows[0, 1] = two_sum(ax, -cx)
    rows[1, 0], rows[1, 1] = two_sum(ay, -cy)
    rows[2, 0], rows[2, 1] = two_sum(bx, -cx)
    rows[3, 0], rows[3, 1] = two_sum(by, -cy)
    return _exact_sign(rows, _ORIENT_MONOMIALS, _ORIENT_SIGNS)


@kernel
def orientation(ax: float, ay: float, bx: float, by: float, cx: float, cy: float) -> float:
    """Positive where *c* lies left of the line from *a* to *b*, negative where right, exactly zero on it."""
    left = (ax - cx) * (by - cy)
    right = (ay - cy) * (bx - cx)
    det = left - right
    if abs(det) > _ORIENT_BOUND * (abs(left) + abs(right)):
        return det
    if _is_difference(ax, cx) and _is_difference(ay, cy) and _is_difference(bx, cx) and _is_difference(by, cy):
        if two_product(ax - cx, by - cy)[1] == 0.0 and two_product(ay - cy, bx - cx)[1] == 0.0:
            return det
    return _exact_orientation(ax, ay, bx, by, cx, cy)


@lean
def side_of(ax: float, ay: float, bx: float, by: float, cx: float, cy: float) -> float:
    """The same as `orientation`; what floating point settles is settled where it is asked."""
    left = (ax - cx) * (by - cy)
    right = (ay - cy) * (bx - cx)
    det = left - right
    if abs(det) > _ORIENT_BOUND * (abs(left) + abs(right)):
        return det
    return orientation(ax, ay, bx, by, cx, cy)


@inner
def _exact_circle(ax: float, ay: float, bx: float, by: float, cx: float, cy: float, dx: float, dy: float) -> float:
    rows = np.empty((6, 2))
    rows[0, 0], rows[0, 1] = two_sum(ax, -dx)
    rows[1, 0], rows[1, 1] = two_sum(ay, -dy)
    rows[2, 0], rows[2, 1] = two_sum(bx, -dx)
    rows[3, 0], rows[3, 1] = two_sum(by, -dy)
    rows[4, 0], rows[4, 1] = two_sum(cx, -dx)
    rows[5, 0], rows[5, 1] = two_sum(cy, -dy)
    return _exact_sign(rows, _CIRCLE_MONOMIALS, _CIRCLE_SIGNS)


@inner
def _lift_and_loss(x: float, y: float) -> tuple[float, float]:
    xx, xx_tail = two_product(x, x)
    yy, yy_tail = two_product(y, y)
    lift, tail = two_sum(xx, yy)
    return lift, abs(xx_tail) + abs(yy_tail) + abs(tail)


@inner
def _minor_and_loss(px: float, py: float, qx: float, qy: float) -> tuple[float, float]:
    left, left_tail = two_product(px, qy)
    right, right_tail = two_product(qx, py)
    minor, tail = two_sum(left, -right)
    return minor, abs(left_tail) + abs(right_tail) + abs(tail)


@inner
def _circle_lost_nothing(ax: float, ay: float, bx: float, by: float, cx: float, cy: float) -> bool:
    """Whether plain evaluation of the in-circle determinant rounds nowhere, as on lattices."""
    a_lift, a_loss = _lift_and_loss(ax, ay)
    b_lift, b_loss = _lift_and_loss(bx, by)
    c_lift, c_loss = _lift_and_loss(cx, cy)
    bc, bc_loss = _minor_and_loss(bx, by, cx, cy)
    ca, ca_loss = _minor_and_loss(cx, cy, ax, ay)
    ab, ab_loss = _minor_and_loss(ax, ay, bx, by)
    a_term, a_tail = two_product(a_lift, bc)
    b_term, b_tail = two_product(b_lift, ca)
    c_term, c_tail = two_product(c_lift, ab)
    partial, first_tail = two_sum(a_term, b_term)
    last_tail = two_sum(partial, c_term)[1]
    loss = a_loss + b_loss + c_loss + bc_loss + ca_loss + ab_loss
    return loss + abs(a_tail) + abs(b_tail) + abs(c_tail) + abs(first_tail) + abs(last_tail) == 0.0


@inner
def square(x: float, y: float) -> float:
    """Squared length."""
    return x * x + y * y


@inner
def circle_estimate(
    adx: float,
    ady: float,
    a_lift: float,
    bdx: float,
    bdy: float,
    b_lift: float,
    cdx: float,
    cdy: float,
    c_lift: float,
) -> tuple[float, float]:
    """The in-circle determinant of differences in plain floating point, and how far it may be from the truth."""
    bc = bdx * cdy
    cb = cdx * bdy
    ca = cdx * ady
    ac = adx * cdy
    ab = adx * bdy
    ba = bdx * ady
    det = a_lift * (bc - cb) + b_lift * (ca - ac) + c_lift * (ab - ba)
    size = (abs(bc) + abs(cb)) * a_lift + (abs(ca) + abs(ac)) * b_lift + (abs(ab) + abs(ba)) * c_lift
    return det, _CIRCLE_BOUND * size


@kernel
def in_circle(ax: float, ay: float, bx: float, by: float, cx: float, cy: float, dx: float, dy: float) -> float:
    """Positive where *d* lies inside the circle through counter-clockwise *a*, *b*, *c*; zero exactly on it."""
    adx, ady, bdx, bdy, cdx, cdy = ax - dx, ay - dy, bx - dx, by - dy, cx - dx, cy - dy
    det, error = circle_estimate(adx, ady, square(adx, ady), bdx, bdy, square(bdx, bdy), cdx, cdy, square(cdx, cdy))
    if abs(det) > error:
        return det
    if _is_difference(ax, dx) and _is_difference(bx, dx) and _is_difference(cx, dx):
        if _is_difference(ay, dy) and _is_difference(by, dy) and _is_difference(cy, dy):
            if _circle_lost_nothing(adx, ady, bdx, bdy, cdx, cdy):
                return det
    return _exact_circle(ax, ay, bx, by, cx, cy, dx, dy)


@inner
def precedes(ax: float, ay: float, bx: float, by: float) -> bool:
    """Whether place *a* comes before *b*, west before east, then south before north."""
    return ax < bx or (ax == bx and ay < by)
