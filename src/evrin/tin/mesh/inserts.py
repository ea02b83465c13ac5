"""Many places at once: heights read off a mesh, and vertices put into it."""

import numpy as np

from evrin.kernels import FloatRows, Floats, Ints, Mutable, as_index, kernel
from evrin.tin.delaunay.triangulating import OUTSIDE, find_triangle, following, preceding
from evrin.tin.exact.plane import plane_height
from evrin.tin.exact.predicates import square
from evrin.tin.mesh.flips import insert_vertex
from evrin.tin.mesh.mesh_arrays import MeshArrays


@kernel
def heights_on_mesh(mesh: MeshArrays, near: int, places: FloatRows, out: Mutable[Floats]) -> None:
    xy, z, corner = mesh.xy, mesh.z, mesh.corner
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        e, on_edge = find_triangle(xy, corner, mesh.mate, near, x, y)
        near = e
        t = e // 3
        if not mesh.alive[t] and on_edge >= 0 and mesh.alive[mesh.mate[on_edge] // 3]:
            t = mesh.mate[on_edge] // 3
        out[i] = np.nan
        if mesh.alive[t]:
            a, b, c = corner[3 * t], corner[3 * t + 1], corner[3 * t + 2]
            out[i] = plane_height(
                xy[a, 0],
                xy[a, 1],
                z[a],
                xy[b, 0],
                xy[b, 1],
                z[b],
                xy[c, 0],
                xy[c, 1],
                z[c],
                x,
                y,
            )
            continue
        for h in range(3 * t, 3 * t + 3):
            v = corner[h]
            if v != OUTSIDE and xy[v, 0] == x and xy[v, 1] == y:
                out[i] = z[v]


@kernel
def insert_places(
    mesh: MeshArrays,
    vertices: int,
    near: int,
    places: FloatRows,
    heights: Floats,
    reach: float,
    number: Mutable[Ints],
) -> int:
    """Put places into the mesh; *number* receives the vertex of each, one within reach if there is one.

    Return the new count of vertices.
    """
    stack = np.empty(64, np.int64)
    near = as_index(near)
    for i in range(places.shape[0]):
        mesh.xy[vertices, 0], mesh.xy[vertices, 1] = places[i, 0], places[i, 1]
        mesh.z[vertices] = heights[i]
        vertex, stack = insert_vertex(mesh, vertices, 2 * vertices - 2, near, reach, stack)
        number[i] = vertex
        near = as_index(mesh.spoke[vertex])
        if vertex == vertices:
            vertices += 1
    return vertices


@kernel
def nearest_edge(mesh: MeshArrays, near: int, x: float, y: float) -> int:
    """The half-edge, of the triangle that holds a place, that passes closest to it; -1 outside the hull."""
    xy, corner = mesh.xy, mesh.corner
    e, _ = find_triangle(xy, corner, mesh.mate, near, x, y)
    t = e - e % 3
    best = -1
    least = np.inf
    for h in range(t, t + 3):
        a, b = corner[h], corner[following(h)]
        if a == OUTSIDE or b == OUTSIDE or corner[preceding(h)] == OUTSIDE:
            continue
        dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
        part = ((x - xy[a, 0]) * dx + (y - xy[a, 1]) * dy) / (dx * dx + dy * dy)
        part = min(max(part, 0.0), 1.0)
        square_distance = square(xy[a, 0] + part * dx - x, xy[a, 1] + part * dy - y)
        if square_distance < least:
            least = square_distance
            best = h
    return best


@kernel
def short_edges(mesh: MeshArrays, first: int, stop: int, reach: float) -> Ints:
    """The vertices (k, 2) at either end of edges of some triangles no longer than reach, lower number first."""
    xy, corner = mesh.xy, mesh.corner
    out = np.empty((16, 2), np.int32)
    size = 0
    for t in range(first, stop):
        b = corner[3 * t + 2]
        for e in range(3 * t, 3 * t + 3):
            a, b = b, corner[e]
            # Beyond the hull a corner is below all others.
            if a >= b or a == OUTSIDE or abs(xy[a, 0] - xy[b, 0]) > reach or abs(xy[a, 1] - xy[b, 1]) > reach:
                continue
            if square(xy[a, 0] - xy[b, 0], xy[a, 1] - xy[b, 1]) > reach * reach:
                continue
            if size == out.shape[0]:
                larger = np.empty((2 * size, 2), np.int32)
                for k in range(size):
                    larger[k, 0], larger[k, 1] = out[k, 0], out[k, 1]
                out = larger
            out[size, 0], out[size, 1] = a, b
            size += 1
    return out[:size]
