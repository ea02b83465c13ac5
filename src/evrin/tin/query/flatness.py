"""Triangles whose corners are level although the ground is not."""

import numpy as np

from evrin.kernels import Flags, Floats, as_index, inner, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, following, preceding
from evrin.tin.exact.predicates import square
from evrin.tin.mesh.flips import doubled, flip, is_convex
from evrin.tin.mesh.mesh_arrays import MeshArrays


@inner
def _is_flat(z: Floats, on: Flags, a: int, b: int, c: int) -> bool:
    if a == OUTSIDE or b == OUTSIDE or c == OUTSIDE:
        return False
    return bool(on[a] and on[b] and on[c] and z[a] == z[b] and z[b] == z[c])


@kernel
def flat_triangles(mesh: MeshArrays, triangles: int, on: Flags) -> Flags:
    """Which living triangles have three corners of those *on* contours at one height."""
    out = np.zeros(triangles, np.bool_)
    for t in range(triangles):
        out[t] = mesh.alive[t] and _is_flat(
            mesh.z, on, mesh.corner[3 * t], mesh.corner[3 * t + 1], mesh.corner[3 * t + 2]
        )
    return out


@kernel
def flat_flips(
    mesh: MeshArrays,
    triangles: int,
    on: Flags,
    longest: float,
) -> int:
    """Flip free edges wherever that leaves fewer flat triangles; return how many were flipped.

    The new edge may be at most *longest* times as long as the old one.
    """
    xy, z, corner = mesh.xy, mesh.z, mesh.corner
    stack = np.empty(3 * triangles, np.int64)
    size = as_index(0)
    for e in range(3 * triangles):
        if mesh.alive[e // 3] and _is_flat(z, on, corner[e], corner[following(e)], corner[preceding(e)]):
            stack[size] = e
            size += 1
    flipped = 0
    while size > 0:
        size -= 1
        e = stack[size]
        f = as_index(mesh.mate[e])
        if mesh.fixed[e] != 0 or not mesh.alive[e // 3] or not mesh.alive[f // 3]:
            continue
        a, b, c, d = corner[e], corner[f], corner[preceding(e)], corner[preceding(f)]
        before = _is_flat(z, on, a, b, c) + _is_flat(z, on, b, a, d)
        after = _is_flat(z, on, d, c, a) + _is_flat(z, on, c, d, b)
        if after >= before or not is_convex(mesh, e):
            continue
        old = square(xy[a, 0] - xy[b, 0], xy[a, 1] - xy[b, 1])
        if square(xy[c, 0] - xy[d, 0], xy[c, 1] - xy[d, 1]) > longest * longest * old:
            continue
        flip(mesh, e)
        flipped += 1
        if size + 4 > stack.shape[0]:
            stack = doubled(stack)
        stack[size], stack[size + 1], stack[size + 2], stack[size + 3] = e, following(e), f, following(f)
        size += 4
    return flipped
