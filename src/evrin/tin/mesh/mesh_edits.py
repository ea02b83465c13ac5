"""Edits to a working mesh: one change each, in order, without building anything again; refused with the reason."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from evrin.base.errors import EditError
from evrin.kernels import Flags, Floats, Indices
from evrin.tin.delaunay.triangulating import following
from evrin.tin.mesh import edit_kernels as edits
from evrin.tin.mesh import flips
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query import compact
from evrin.tin.query.inside_rings import is_inside_rings

Place = tuple[float, float]

_WHY_NOT = {
    edits.LINE_ENDS: "a breakline ends there; cut the line, or leave the shot out of its source",
    edits.LINES_MEET: "breaklines meet or branch there; leave the shot out of its source",
    edits.LINE_STRAYS: "it holds a bend of a breakline, which could not go on straight without crossing other ground",
}


def vertex_near(mesh: Mesh, at: Place, reach: float) -> int:
    """Return the vertex of the surface that a place means.

    Raises
    ------
    EditError
        Where none lies within *reach*, or the nearest is farther away than half of what separates it from its
        neighbours, so that it may well be another than was meant.
    """
    x, y = at
    v = int(edits.nearest_vertex(mesh.arrays, mesh.start, x, y))
    distance = float(np.hypot(mesh.xy[v, 0] - x, mesh.xy[v, 1] - y)) if v >= 0 else np.inf
    if distance > reach:
        raise EditError(
            f"no vertex within {reach:g} of ({x:.3f}, {y:.3f}); the nearest is {distance:.3f} away"
            if v >= 0
            else f"no vertex of the surface near ({x:.3f}, {y:.3f})"
        )
    spacing = spacing_at(mesh, v)
    if distance > 0.5 * spacing:
        raise EditError(
            f"the vertex nearest to ({x:.3f}, {y:.3f}) is {distance:.3f} away where vertices are {spacing:.3f} apart; "
            "it may be another than was meant"
        )
    return v


def spacing_at(mesh: Mesh, v: int) -> float:
    """Return the distance in plan from a vertex to the nearest of its neighbours."""
    star = edits.vertex_star(mesh.arrays, v)
    heads = mesh.corner[star - star % 3 + (star + 1) % 3]
    return float(np.hypot(*(mesh.xy[heads[heads >= 0]] - mesh.xy[v]).T).min())


def edge_joining(mesh: Mesh, a: int, b: int) -> int:
    """Return the half-edge from one vertex to another, or -1."""
    for e in edits.vertex_star(mesh.arrays, a).tolist():
        if mesh.corner[following(e)] == b:
            return int(e)
    return -1


def edge_apart(mesh: Mesh, a: int, b: int) -> int:
    """Return the half-edge whose flip would join two vertices, or -1.

    Several edges can have the same two vertices opposite; a flip joins them across the convex one only, which comes
    first.
    """
    edge = -1
    for e in edits.vertex_star(mesh.arrays, a).tolist():
        across = following(e)
        both_live = mesh.alive[e // 3] and mesh.alive[mesh.mate[across] // 3]
        if both_live and mesh.flip_ends(across) == (a, b):
            if flips.is_convex(mesh.arrays, across):
                return int(across)
            edge = int(across) if edge < 0 else edge
    return edge


def add_vertex(mesh: Mesh, at: Place, height: float | None) -> tuple[int, float]:
    """Put a vertex on the surface and return it with its height, that of the surface where none is given.

    Raises
    ------
    EditError
        Where the place lies outside the surface or at a vertex.
    """
    place = np.array([at])
    ground = float(mesh.heights(place)[0])
    if np.isnan(ground):
        raise EditError(
            f"({at[0]}, {at[1]}) lies outside the surface. Extend the surface there first, by a boundary "
            "that reaches beyond it"
        )
    z = ground if height is None else height
    before = mesh.vertex_count
    v = int(mesh.insert(place, np.array([z]))[0])
    if v < before:
        raise EditError(f"there is a vertex at ({at[0]}, {at[1]}) already; set its height instead")
    return v, z


def move_vertex(mesh: Mesh, v: int, to: Place) -> None:
    """Move a vertex in plan; triangles stay the same.

    Raises
    ------
    EditError
        Where it would cross an edge.
    """
    x, y = to
    if not edits.can_move(mesh.arrays, v, x, y):
        raise EditError(
            f"({x:.3f}, {y:.3f}) lies beyond an edge around the vertex: a triangle would turn over; delete the vertex "
            "and add one there"
        )
    mesh.xy[v] = to


def delete_vertex(mesh: Mesh, v: int) -> None:
    """Take a vertex out and close the ground over it; on the rim, as far as there is ground between its neighbours.

    Raises
    ------
    EditError
        Where that would break a line.
    """
    outcome = int(edits.remove_vertex(mesh.arrays, v))
    if outcome == edits.ON_RIM:
        star = edits.vertex_star(mesh.arrays, v) // 3
        if np.count_nonzero(mesh.alive[star]) == np.count_nonzero(mesh.alive[: mesh.triangle_count]):
            raise EditError("the vertex is not removed: no triangle would be left")
        outcome = int(edits.remove_from_rim(mesh.arrays, v))
        if outcome == edits.TAKEN_OUT:
            return
    if outcome != edits.TAKEN_OUT:
        raise EditError(f"the vertex is not removed: {_WHY_NOT[outcome]}")
    mesh.forget(v)


def force_edge(mesh: Mesh, a: int, b: int) -> int:
    """Force a straight edge between two vertices and return the number of segments that had been forced before.

    Raises
    ------
    EditError
        Where a breakline or an opening is in the way.
    """
    if a == b:
        raise EditError("both ends are the same vertex")
    outcome, e = edits.clear_between(mesh.arrays, a, b)
    ends = [mesh.corner[e], mesh.corner[following(e)]] if e >= 0 else [a, b]
    x, y = mesh.xy[ends].mean(axis=0)
    if outcome == edits.FORCED:
        raise EditError(f"a breakline is in the way near ({x:.3f}, {y:.3f})")
    if outcome == edits.GAP:
        raise EditError(f"the edge would leave the surface near ({x:.3f}, {y:.3f})")
    before = len(mesh.segments)
    mesh.force(np.array([[a, b]], np.int32), np.zeros(1, np.bool_), exact=True)
    return before


def triangles_in(mesh: Mesh, ring: Floats) -> Indices:
    """Return the living triangles whose middle lies inside a ring."""
    living = np.flatnonzero(mesh.alive[: mesh.triangle_count])
    middles = mesh.xy[mesh.corner.reshape(-1, 3)[living]].mean(axis=1)
    return living[is_inside_rings(middles, [ring])]


def triangles_under(mesh: Mesh, line: Floats) -> Indices:
    """Return the living triangles that a line passes through."""
    under = edits.triangles_under(mesh.arrays, mesh.triangle_count, np.ascontiguousarray(line[:, :2], np.float64))
    return np.flatnonzero(under)


def vertices_in(mesh: Mesh, ring: Floats) -> Indices:
    """Return the vertices of the surface inside a ring."""
    vertices = np.flatnonzero(living(mesh))
    return vertices[is_inside_rings(mesh.xy[vertices], [ring])]


def remove_triangles(mesh: Mesh, triangles: Sequence[int] | Indices, *, hole: bool) -> None:
    """Take triangles away.

    Raises
    ------
    EditError
        Where nothing is chosen, nothing would be left, or, unless *hole* is asked for, one would open.
    """
    rows = np.asarray(triangles, np.int64)
    if not len(rows):
        raise EditError("no triangle of the surface there")
    if len(rows) == int(mesh.alive[: mesh.triangle_count].sum()):
        raise EditError("these are all triangles of the surface; nothing would be left")
    opened = -1 if hole else int(edits.opens_hole(mesh.arrays, rows))
    if opened >= 0:
        x, y = mesh.xy[mesh.corner[3 * opened : 3 * opened + 3]].mean(axis=0)
        raise EditError(f"that would open a hole near ({x:.3f}, {y:.3f}); state hole = true if there is to be one")
    edits.take_away(mesh.arrays, rows)


def hold(mesh: Mesh, e: int) -> None:
    """Hold an edge during further edits."""
    if mesh.fixed[e] == 0:
        mesh.fixed[e] = mesh.fixed[mesh.mate[e]] = edits.HELD


def hold_rim(mesh: Mesh) -> None:
    """Hold the rim during edits."""
    edits.hold_rim(mesh.arrays, mesh.triangle_count)


def release(mesh: Mesh) -> None:
    """Let go of all edges that are held for the time of the edits."""
    held = mesh.fixed[: 3 * mesh.triangle_count]
    held[held < 0] = 0


def living(mesh: Mesh) -> Flags:
    """Return which vertices have a triangle of the surface."""
    number = np.empty(mesh.vertex_count, np.int32)
    compact.number_vertices(mesh.arrays, mesh.triangle_count, number)
    return number >= 0
