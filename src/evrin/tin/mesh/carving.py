"""Which triangles of a mesh stay: inside rings, and not at the rim behind a long edge."""

import numpy as np

from evrin.kernels import Flags, FloatRows, Ints, Mutable, inner, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, following
from evrin.tin.exact.predicates import square
from evrin.tin.mesh.flips import CUT, DATA, GROUND, LINES, SIDES
from evrin.tin.mesh.mesh_arrays import MeshArrays


@kernel
def real_triangles(mesh: MeshArrays, triangles: int, vertices: int) -> None:
    """Mark the triangles that have three corners, each with a height."""
    for t in range(triangles):
        mesh.alive[t] = True
    _drop(mesh, triangles, vertices)


@kernel
def drop_unreal(mesh: MeshArrays, triangles: int, vertices: int) -> None:
    """Take away living triangles with a corner that has no height."""
    _drop(mesh, triangles, vertices)


@inner
def _drop(mesh: MeshArrays, triangles: int, vertices: int) -> None:
    corner, alive = mesh.corner, mesh.alive
    lacks_heights = False
    for v in range(vertices):
        lacks_heights = lacks_heights or np.isnan(mesh.z[v])
    for t in range(triangles):
        # Beyond the hull a corner is below all others.
        alive[t] &= min(corner[3 * t], corner[3 * t + 1], corner[3 * t + 2]) != OUTSIDE
        if lacks_heights and alive[t]:
            for e in range(3 * t, 3 * t + 3):
                if np.isnan(mesh.z[corner[e]]):
                    alive[t] = False


@kernel
def middles(mesh: MeshArrays, triangles: int, out: Mutable[FloatRows]) -> int:
    """Write the middles of the living triangles; return how many there are."""
    xy, count = mesh.xy, 0
    for t in range(triangles):
        if mesh.alive[t]:
            a, b, c = mesh.corner[3 * t], mesh.corner[3 * t + 1], mesh.corner[3 * t + 2]
            for k in range(2):
                out[count, k] = (xy[a, k] + xy[b, k] + xy[c, k]) / 3.0
            count += 1
    return count


@inner
def _edge_square(xy: FloatRows, a: int, b: int) -> float:
    return square(xy[a, 0] - xy[b, 0], xy[a, 1] - xy[b, 1])


@inner
def _is_thin(mesh: MeshArrays, t: int, sine: float) -> bool:
    """Whether the smallest angle of a triangle has a sine below this: it lies across from the shortest side."""
    xy = mesh.xy
    a, b, c = mesh.corner[3 * t], mesh.corner[3 * t + 1], mesh.corner[3 * t + 2]
    ab, bc, ca = _edge_square(xy, a, b), _edge_square(xy, b, c), _edge_square(xy, c, a)
    twice = (xy[b, 0] - xy[a, 0]) * (xy[c, 1] - xy[a, 1]) - (xy[b, 1] - xy[a, 1]) * (xy[c, 0] - xy[a, 0])
    longest, total = max(ab, bc, ca), ab + bc + ca
    middle = total - longest - min(ab, bc, ca)
    return bool(twice < sine * np.sqrt(longest * middle))


@kernel
def trim_rim(mesh: MeshArrays, triangles: int, longest: float, sine: float) -> int:
    """Take away, from the rim inwards, triangles that are thin or reached through free edges longer than *longest*.

    *sine* is that of the smallest angle that a triangle may have. Return how many were removed.
    """
    alive = mesh.alive
    stack = np.empty(3 * triangles, np.int64)
    size = 0
    for e in range(3 * triangles):
        if alive[e // 3] and not alive[mesh.mate[e] // 3]:
            stack[size] = e
            size += 1
    removed = 0
    limit = longest * longest
    while size > 0:
        size -= 1
        e = stack[size]
        if not alive[e // 3] or mesh.fixed[e] != 0:
            continue
        if _edge_square(mesh.xy, mesh.corner[e], mesh.corner[following(e)]) <= limit and not _is_thin(
            mesh, e // 3, sine
        ):
            continue
        alive[e // 3] = False
        removed += 1
        t = e - e % 3
        for h in range(t, t + 3):
            if alive[mesh.mate[h] // 3]:
                stack[size] = mesh.mate[h]
                size += 1
    return removed


@kernel
def trim_inside(mesh: MeshArrays, triangles: int, longest: float, sine: float) -> int:
    """Take away, wherever they are, triangles that are thin or have a free edge longer than *longest*."""
    removed = 0
    limit = longest * longest
    for t in range(triangles):
        if not mesh.alive[t]:
            continue
        is_removed = _is_thin(mesh, t, sine)
        for e in range(3 * t, 3 * t + 3):
            a, b = mesh.corner[e], mesh.corner[following(e)]
            is_removed |= mesh.fixed[e] == 0 and _edge_square(mesh.xy, a, b) > limit
        if is_removed:
            mesh.alive[t] = False
            removed += 1
    return removed


@kernel
def parts(mesh: MeshArrays, triangles: int, label: Mutable[Ints]) -> int:
    """Number the connected parts of the living triangles; -1 elsewhere."""
    for t in range(triangles):
        label[t] = -1
    stack = np.empty(triangles, np.int64)
    count = 0
    for first in range(triangles):
        if not mesh.alive[first] or label[first] >= 0:
            continue
        label[first] = count
        stack[0] = first
        size = 1
        while size > 0:
            size -= 1
            t = stack[size]
            for e in range(3 * t, 3 * t + 3):
                beyond = mesh.mate[e] // 3
                if mesh.alive[beyond] and label[beyond] < 0:
                    label[beyond] = count
                    stack[size] = beyond
                    size += 1
        count += 1
    return count


@kernel
def hold_ground(mesh: MeshArrays, triangles: int) -> None:
    """Hold every free edge between real vertices as GROUND, and mark the rim of what is alive as a side of DATA."""
    for e in range(3 * triangles):
        if mesh.corner[e] == OUTSIDE or mesh.corner[following(e)] == OUTSIDE:
            continue
        if mesh.fixed[e] == 0:
            mesh.fixed[e] = GROUND
        if mesh.alive[e // 3] != mesh.alive[mesh.mate[e] // 3]:
            mesh.fixed[e] |= DATA


@kernel
def mark_region(mesh: MeshArrays, triangles: int, region: Flags, side: int) -> None:
    """Make the rim of a region, and nothing else, carry a side; forget what CUT there was."""
    for e in range(3 * triangles):
        if mesh.fixed[e] > 0:
            mesh.fixed[e] &= ~(side | CUT)
            if region[e // 3] != region[mesh.mate[e] // 3]:
                mesh.fixed[e] |= side


@kernel
def sides_of_triangles(mesh: MeshArrays, triangles: int, sides: Mutable[Ints]) -> None:
    """Write the SIDES that each triangle lies on: from outside, they change at every edge that transforms them."""
    stack = np.empty(triangles, np.int64)
    size = 0
    for t in range(triangles):
        sides[t] = -1
        if mesh.corner[3 * t] == OUTSIDE or mesh.corner[3 * t + 1] == OUTSIDE or mesh.corner[3 * t + 2] == OUTSIDE:
            sides[t] = 0
            stack[size] = t
            size += 1
    while size > 0:
        size -= 1
        t = stack[size]
        for e in range(3 * t, 3 * t + 3):
            beyond = mesh.mate[e] // 3
            if sides[beyond] < 0:
                sides[beyond] = sides[t] ^ (mesh.fixed[e] & SIDES)
                stack[size] = beyond
                size += 1


@kernel
def release_ground(fixed: Mutable[Ints], half_edges: int, first_line: int) -> None:
    """Free the edges held as GROUND and those of lines from *first_line* on, and forget all SIDES."""
    for e in range(half_edges):
        if fixed[e] > 0:
            line = fixed[e] & LINES
            fixed[e] = 0 if line == GROUND or line >= first_line else line


@kernel
def fill_heights(mesh: MeshArrays, triangles: int) -> None:
    """Give living vertices without a height the mean of those they share a living triangle with."""
    z = mesh.z
    total = np.zeros(z.shape[0])
    count = np.zeros(z.shape[0], np.int64)
    for t in range(triangles):
        if not mesh.alive[t]:
            continue
        for e in range(3 * t, 3 * t + 3):
            v = mesh.corner[e]
            for h in range(3 * t, 3 * t + 3):
                if np.isnan(z[v]) and not np.isnan(z[mesh.corner[h]]):
                    total[v] += z[mesh.corner[h]]
                    count[v] += 1
    for v in range(z.shape[0]):
        if count[v] > 0:
            z[v] = total[v] / count[v]
