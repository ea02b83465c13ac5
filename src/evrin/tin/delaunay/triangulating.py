"""Delaunay triangulation by insertion along a space-filling curve.

The mesh is two flat arrays over half-edges: half-edge ``e`` of triangle ``e // 3`` leaves vertex ``corner[e]``, and
``mate[e]`` is the half-edge that runs the other way. Beyond each hull edge is an outer triangle whose third
corner is ``OUTSIDE``, a vertex at infinity: the hull is the true one and needs no special case.

Four points on one circle are settled by geometry: the diagonal that holds the westernmost (then southernmost) of the
four is used. This is the limit of lowering each lifted point by an amount that falls off in that order, so the result
is unique: it depends on the set of places only.

References
----------
Lawson, C. L. (1977). Software for C1 surface interpolation. In *Mathematical Software III*, 161-194.
https://doi.org/10.1016/B978-0-12-587260-7.50011-X
Devillers, O., Pion, S., Teillaud, M. (2002). Walking in a triangulation. *Int. J. Found. Comput. Sci.* 13, 181-199.
https://doi.org/10.1142/S0129054102001047
Amenta, N., Choi, S., Rote, G. (2003). Incremental constructions con BRIO. *SoCG '03*, 211-219.
https://doi.org/10.1145/777792.777824
"""

from evrin.kernels import FloatRows, Ints, Mutable, as_index, inner, kernel, lean, lean_kernel
from evrin.tin.exact.predicates import circle_estimate, in_circle, orientation, precedes, side_of

OUTSIDE = -1
_SKELETON_STEP = 8
_FIRST_STEP = _SKELETON_STEP**4
_LONG_WALK = 4_000


@kernel
def following(e: int) -> int:
    return e - 2 if e % 3 == 2 else e + 1


@kernel
def preceding(e: int) -> int:
    return e + 2 if e % 3 == 0 else e - 1


@lean
def is_delaunay(xy: FloatRows, a: int, b: int, left: int, right: int) -> bool:
    """Whether edge *a*-*b* is Delaunay between its apexes; ``left`` is real, any other vertex may be OUTSIDE."""
    if right == OUTSIDE:
        return True
    ax, ay, bx, by = xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1]
    lx, ly, rx, ry = xy[left, 0], xy[left, 1], xy[right, 0], xy[right, 1]
    sign = in_circle(ax, ay, bx, by, lx, ly, rx, ry)
    if sign != 0.0:
        return sign < 0.0
    first_end_x, first_end_y = (ax, ay) if precedes(ax, ay, bx, by) else (bx, by)
    first_apex_x, first_apex_y = (lx, ly) if precedes(lx, ly, rx, ry) else (rx, ry)
    return precedes(first_end_x, first_end_y, first_apex_x, first_apex_y)


@lean
def _is_hull_edge_kept(xy: FloatRows, a: int, b: int, apex: int, far: int) -> bool:
    """As is_delaunay where one vertex other than *apex* is OUTSIDE: no hull edge may hide the new vertex."""
    if far == OUTSIDE:
        return True
    if a == OUTSIDE:
        return orientation(xy[b, 0], xy[b, 1], xy[apex, 0], xy[apex, 1], xy[far, 0], xy[far, 1]) <= 0.0
    return orientation(xy[apex, 0], xy[apex, 1], xy[a, 0], xy[a, 1], xy[far, 0], xy[far, 1]) <= 0.0


@lean
def _flip_towards_apex(corner: Mutable[Ints], mate: Mutable[Ints], e: int) -> None:
    """Flip half-edge *e*, first of its triangle, so that the apex of its triangle sees one vertex more."""
    f = as_index(mate[e])
    f_next = following(f)
    f_last = preceding(f)
    s = f - f % 3
    b = corner[e + 1]
    apex = corner[e + 2]
    far = corner[f_last]
    beyond_left = mate[f_next]
    beyond_right = mate[f_last]
    behind = mate[e + 1]
    corner[e + 1] = far
    mate[e] = beyond_left
    mate[beyond_left] = e
    mate[e + 1] = s + 2
    corner[s] = far
    corner[s + 1] = b
    corner[s + 2] = apex
    mate[s] = beyond_right
    mate[beyond_right] = s
    mate[s + 1] = behind
    mate[behind] = s + 1
    mate[s + 2] = e + 1


@lean
def _relative(xy: FloatRows, vertex: int, x: float, y: float) -> tuple[float, float, float]:
    dx, dy = xy[vertex, 0] - x, xy[vertex, 1] - y
    return dx, dy, dx * dx + dy * dy


@lean
def _settle_star(xy: FloatRows, corner: Mutable[Ints], mate: Mutable[Ints], start: int) -> None:
    """Flip edges opposite the newest vertex until each is Delaunay; its triangles have it as third corner."""
    first = corner[start]
    apex = corner[start + 2]
    x = xy[apex, 0]
    y = xy[apex, 1]
    e = start
    a = corner[e]
    b = corner[e + 1]
    # Places relative to the apex and their squared lengths are kept while the edge turns about it.
    ax, ay, a_lift = _relative(xy, a, x, y)
    bx, by, b_lift = _relative(xy, b, x, y)
    while True:
        far = corner[preceding(as_index(mate[e]))]
        fx, fy, f_lift = _relative(xy, far, x, y)
        if a == OUTSIDE or b == OUTSIDE or far == OUTSIDE:
            is_kept = _is_hull_edge_kept(xy, a, b, apex, far)
        else:
            det, error = circle_estimate(bx, by, b_lift, ax, ay, a_lift, fx, fy, f_lift)
            is_kept = det < 0.0 if abs(det) > error else is_delaunay(xy, a, b, apex, far)
        if not is_kept:
            _flip_towards_apex(corner, mate, e)
            b, bx, by, b_lift = far, fx, fy, f_lift
            continue
        # Beyond the edge to the apex lies a triangle whose third corner is the apex, too.
        e = as_index(mate[e + 1]) - 2
        if b == first:
            return
        a, ax, ay, a_lift = b, bx, by, b_lift
        b = corner[e + 1]
        bx, by, b_lift = _relative(xy, b, x, y)


@lean
def find_triangle(xy: FloatRows, corner: Ints, mate: Ints, start: int, x: float, y: float) -> tuple[int, int]:
    """Walk to the triangle that holds a place: a half-edge of it, and the half-edge the place lies on or -1."""
    e = start - start % 3
    for k in range(3):
        if corner[e + k] == OUTSIDE:
            e = mate[e + (k + 1) % 3]
            break
    entered = as_index(-1)
    e -= e % 3
    steps = 0
    dice = as_index(1)
    while True:
        on_edge = -1
        moved = False
        steps += 1
        # Between fixed edges a walk can go round in circles; turning at random ends that (Devillers and others 2002).
        turn = as_index(0)
        if steps > _LONG_WALK:
            dice = (dice * 1103515245 + 12345) & 0x7FFFFFFF
            turn = (dice >> 16) % 3
        for k in range(3):
            h = e + (k + turn) % 3
            if h == entered:
                continue
            a = corner[h]
            b = corner[following(h)]
            side = side_of(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], x, y)
            if side < 0.0:
                entered = as_index(mate[h])
                if corner[preceding(entered)] == OUTSIDE:
                    return entered, -1
                e = entered - entered % 3
                moved = True
                break
            if side == 0.0:
                on_edge = h
        if not moved:
            return e, on_edge


@lean
def _split(corner: Mutable[Ints], mate: Mutable[Ints], e: int, vertex: int, triangles: int) -> int:
    """Replace the triangle of *e* by three around *vertex*, each with it as third corner; return the one on *e*."""
    e_next = following(e)
    e_last = preceding(e)
    a = corner[e]
    b = corner[e_next]
    c = corner[e_last]
    mate_ab = mate[e]
    mate_bc = mate[e_next]
    mate_ca = mate[e_last]
    t = e - e % 3
    u = 3 * triangles
    v = u + 3
    corner[t] = a
    corner[t + 1] = b
    corner[t + 2] = vertex
    corner[u] = b
    corner[u + 1] = c
    corner[u + 2] = vertex
    corner[v] = c
    corner[v + 1] = a
    corner[v + 2] = vertex
    mate[t] = mate_ab
    mate[mate_ab] = t
    mate[u] = mate_bc
    mate[mate_bc] = u
    mate[v] = mate_ca
    mate[mate_ca] = v
    mate[t + 1] = u + 2
    mate[u + 2] = t + 1
    mate[u + 1] = v + 2
    mate[v + 2] = u + 1
    mate[v + 1] = t + 2
    mate[t + 2] = v + 1
    return t


@lean
def _insert(xy: FloatRows, corner: Mutable[Ints], mate: Mutable[Ints], vertex: int, start: int, triangles: int) -> int:
    e, on_edge = find_triangle(xy, corner, mate, start, xy[vertex, 0], xy[vertex, 1])
    t = _split(corner, mate, e if on_edge < 0 else on_edge, vertex, triangles)
    if on_edge >= 0:
        _flip_towards_apex(corner, mate, t)
    _settle_star(xy, corner, mate, t)
    return t


@inner
def _first_bend(xy: FloatRows) -> int:
    for k in range(2, xy.shape[0]):
        if orientation(xy[0, 0], xy[0, 1], xy[1, 0], xy[1, 1], xy[k, 0], xy[k, 1]) != 0.0:
            return k
    return -1


@inner
def _first_triangle(xy: FloatRows, corner: Mutable[Ints], mate: Mutable[Ints], third: int) -> None:
    a, b, c = 0, 1, third
    if orientation(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1]) < 0.0:
        a, b = b, a
    corner[0], corner[1], corner[2] = a, b, c
    for k in range(3):
        outer = 3 + 3 * k
        corner[outer] = corner[(k + 1) % 3]
        corner[outer + 1] = corner[k]
        corner[outer + 2] = OUTSIDE
        mate[k] = outer
        mate[outer] = k
    for k in range(3):
        neighbour = 3 + 3 * ((k + 2) % 3)
        mate[3 + 3 * k + 1] = neighbour + 2
        mate[neighbour + 2] = 3 + 3 * k + 1


@lean_kernel
def delaunay_mesh(xy: FloatRows, corner: Mutable[Ints], mate: Mutable[Ints]) -> int:
    """Triangulate distinct places in canonical order.

    Parameters
    ----------
    xy : (n, 2) float64
        Distinct places along a space-filling curve.
    corner, mate : (6 n,) int32
        Filled with the mesh, outer triangles included.

    Returns
    -------
    int
        The number of triangles, ``2 n - 2``; 0 where all places lie on one line.
    """
    n = xy.shape[0]
    third = _first_bend(xy)
    if third < 0:
        return 0
    _first_triangle(xy, corner, mate, third)
    triangles = as_index(4)
    near = as_index(0)
    step = as_index(_FIRST_STEP)
    coarser = 0
    while step >= 1:
        for vertex in range(0, n, step):
            if vertex < 2 or vertex == third or (coarser > 0 and vertex % coarser == 0):
                continue
            near = _insert(xy, corner, mate, vertex, near, triangles)
            triangles += 2
        coarser = step
        step //= _SKELETON_STEP
    return triangles
