"""The working mesh stays whole through flips and insertions, and places are found wherever they lie."""

import itertools

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import evrin
import exact
from evrin.base.errors import EditError
from evrin.surface import Surface
from evrin.tin.exact.curve_order import canonical_order, distinct_places
from evrin.tin.mesh import edit_kernels as edits
from evrin.tin.mesh import mesh_edits
from test_triangulation_is_exact import edges_of, is_flat, judge, mesh_of
from zoo import SITE, lattice, places, ring_of


@given(places(8, 30), st.lists(st.integers(0, 10**6), min_size=1, max_size=25))
def test_random_flips_keep_the_mesh_whole(xy, picks):
    assume(not is_flat(xy))
    mesh = mesh_of(xy)
    mesh.force(np.array([[0, mesh.vertex_count - 1]], np.int32), np.ones(1, bool))
    before = mesh.read()
    area = exact.twice_area(mesh.xy[before.vertices], before.triangles)
    fixed = int((before.lines >= 0).sum())
    for pick in picks:
        e = pick % (3 * mesh.triangle_count)
        ends, joined = mesh.edge_ends(e), mesh.flip_ends(e)
        try:
            mesh.flip(e)
        except EditError:
            continue
        edges = {tuple(sorted(edge)) for edge in edges_of(mesh.read().vertices[mesh.read().triangles])}
        assert tuple(sorted(joined)) in edges and tuple(sorted(ends)) not in edges
    after = mesh.read()
    corners = mesh.xy[after.vertices]
    assert all(exact.turn(*(corners[v] for v in t)) > 0 for t in after.triangles)
    assert exact.twice_area(corners, after.triangles) == area
    assert max(map(len, edges_of(after.triangles).values())) <= 2
    assert int((after.lines >= 0).sum()) == fixed


@given(places(8, 24), st.integers(0, 10**6))
def test_inserted_places_leave_it_delaunay_and_twice_the_same_is_once(xy, seed):
    assume(not is_flat(xy))
    mesh = mesh_of(xy)
    rng = np.random.default_rng(seed)
    weights = rng.dirichlet(np.ones(len(xy)), 6)
    inside = np.round(weights @ xy, 3)
    inside = inside[np.isfinite(mesh.heights(inside))]
    new = np.vstack((inside, inside[:2], mesh.xy[:2]))
    number = mesh.insert(new, np.zeros(len(new)))
    assert np.array_equal(mesh.xy[number], new)
    assert number[-2:].tolist() == [0, 1]
    judge(mesh, mesh.read(), exact.twice_hull_area(mesh.xy[: mesh.vertex_count]))


@given(places(2, 60), st.randoms(use_true_random=False))
def test_places_have_one_order_and_equal_ones_are_together(xy, random):
    order, starts = distinct_places(xy)
    assert sorted(order.tolist()) == list(range(len(xy)))
    groups = [xy[order[a:b]] for a, b in itertools.pairwise(starts)]
    assert all((group == group[0]).all() for group in groups)
    assert len(groups) == len({tuple(p) for p in (xy + 0.0).tolist()})
    shuffled = list(range(len(xy)))
    random.shuffle(shuffled)
    assert np.array_equal(xy[order], xy[shuffled][canonical_order(xy[shuffled])])


def test_a_site_dwarfed_by_one_far_place_is_still_in_one_order():
    rng = np.random.default_rng(8)
    xy = np.vstack((SITE + np.round(rng.uniform(0, 1, (400, 2)), 3), [[0.0, 0.0], [-4e9, 7e9]]))
    shuffled = rng.permutation(len(xy))
    assert np.array_equal(xy[canonical_order(xy)], xy[shuffled][canonical_order(xy[shuffled])])
    mesh = mesh_of(xy)
    judge(mesh, mesh.read())


def triangles_by_brute_force(ground, x, y):
    found = set()
    for t, corners in enumerate(ground.vertices[ground.triangles][:, :, :2]):
        if all(exact.turn(corners[k], corners[(k + 1) % 3], (x, y)) >= 0 for k in range(3)):
            found.add(t)
    return found


@pytest.mark.slow
@given(st.integers(0, 10**6))
def test_the_triangle_found_is_one_that_holds_the_place(seed):
    rng = np.random.default_rng(seed)
    xy = np.round(rng.uniform(0, 20, (40, 2)))
    ring = 10 + ring_of(9, 5.0)
    outer = np.array([[1.0, 1], [19, 1], [19, 19], [1, 19]])
    ground = evrin.triangulate(np.column_stack((xy, xy[:, 0])), boundaries=[outer, ring])
    probe = np.vstack((rng.uniform(-1, 21, (20, 2)), ground.vertices[:5, :2], np.round(rng.uniform(0, 20, (10, 2)))))
    for (x, y), found in zip(probe, ground.triangles_at(*probe.T), strict=True):
        holding = triangles_by_brute_force(ground, x, y)
        assert found in holding if holding else found == -1


def test_triangles_that_overlap_or_meet_three_at_an_edge_are_still_searched():
    vertices = [[0.0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 0], [2, 2, 9], [9, 9, 1], [12, 9, 1], [9, 12, 1]]
    triangles = [[0, 1, 2], [0, 2, 3], [0, 2, 4], [0, 1, 4], [5, 6, 7]]
    ground = Surface.from_arrays(vertices, triangles)
    assert ground.height(9.5, 9.5) == 1.0
    assert np.isfinite(ground.height(1.0, 0.5)) and np.isnan(ground.height(6.0, 6.0))
    assert (ground.mates < 0).sum() >= 7


def test_upright_triangles_have_no_height_of_their_own_and_hide_none():
    vertices = [[0.0, 0, 1], [4, 0, 1], [4, 0, 9], [0, 0, 9], [0, 4, 1], [4, 4, 1]]
    ground = Surface.from_arrays(vertices, [[0, 1, 2], [0, 2, 3], [0, 1, 5], [0, 5, 4]])
    assert ground.height(2.0, 0.0) == 1.0 and ground.height([1.0, 3.0], [3.0, 1.0]).tolist() == [1.0, 1.0]
    assert ground.heights_on_grid(0.0, 0.0, 1.0, 5, 5).tolist() == np.ones((5, 5)).tolist()
    assert ground.profile([(2.0, -1.0), (2.0, 3.0)]).height(2.0) == 1.0


def test_islands_that_touch_at_a_vertex_have_rims_that_close():
    vertices = np.column_stack((lattice(3), np.zeros(9)))
    ground = Surface.from_arrays(vertices, [[0, 1, 4], [0, 4, 3], [4, 5, 8], [4, 8, 7]])
    rims = ground.rim()
    assert sum(len(rim) for rim in rims) == 8
    assert all(len(set(rim.tolist())) >= 3 for rim in rims)


@pytest.mark.parametrize("side", [40, 41])
def test_lattices_have_the_diagonals_of_their_south_western_corners(side):
    mesh = mesh_of(lattice(side))
    reading = mesh.read()
    corners = mesh.xy[reading.vertices][reading.triangles]
    low = corners.min(axis=1)
    assert (corners == low[:, None, :]).all(axis=2).any(axis=1).all()
    assert len(reading.triangles) == 2 * (side - 1) ** 2


@given(places(8, 26), st.integers(0, 10**6))
def test_a_vertex_taken_out_leaves_the_triangulation_of_the_rest(xy, pick):
    assume(not is_flat(xy))
    mesh = mesh_of(xy)
    inner = [v for v in range(mesh.vertex_count) if not on_hull(mesh, v)]
    assume(inner)
    removed = inner[pick % len(inner)]
    area = exact.twice_hull_area(mesh.xy[: mesh.vertex_count])
    mesh_edits.delete_vertex(mesh, removed)
    reading = mesh.read()
    assert removed not in reading.vertices.tolist()
    judge(mesh, reading, area)
    left = np.delete(mesh.xy[: mesh.vertex_count], removed, axis=0)
    other = mesh_of(left)
    again = other.read()
    assert {frozenset(map(tuple, mesh.xy[reading.vertices][t])) for t in reading.triangles} == {
        frozenset(map(tuple, other.xy[again.vertices][t])) for t in again.triangles
    }


def on_hull(mesh, v):
    return any(mesh.corner[e - e % 3 : e - e % 3 + 3].min() < 0 for e in edits.vertex_star(mesh.arrays, v).tolist())
