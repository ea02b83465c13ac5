"""Every claim about the triangulation, judged in exact rational arithmetic."""

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

import exact
from evrin.base.errors import GeometryError
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.exact.predicates import in_circle, orientation
from evrin.tin.mesh.limiting import Limit, limit_mesh
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query.inside_rings import is_inside_rings
from zoo import SHAPES, SITE, any_coordinate, lattice, places, small_grid


def mesh_of(xy, z=None):
    order, starts = distinct_places(xy)
    rows = order[starts[:-1]]
    height = np.zeros(len(xy)) if z is None else z
    return Mesh(np.ascontiguousarray(xy[rows]), height[rows])


def edges_of(triangles):
    """Each edge with the apexes of its triangles."""
    edges = {}
    for a, b, c in triangles.tolist():
        for u, v, apex in ((a, b, c), (b, c, a), (c, a, b)):
            edges.setdefault((min(u, v), max(u, v)), []).append(apex)
    return edges


def judge(mesh, reading, hull_area=None):
    """Counter-clockwise, no overlap, hull filled, Euler's count, and Delaunay at each free edge."""
    xy = mesh.xy[reading.vertices]
    triangles = reading.triangles
    assert all(exact.turn(*(xy[v] for v in t)) > 0 for t in triangles)
    assert exact.twice_area(xy, triangles) == (exact.twice_hull_area(xy) if hull_area is None else hull_area)
    edges = edges_of(triangles)
    assert max(len(apexes) for apexes in edges.values()) <= 2
    assert len(xy) - len(edges) + len(triangles) == 1
    fixed = {
        tuple(sorted((t[k], t[(k + 1) % 3])))
        for t, lines in zip(triangles.tolist(), reading.lines.tolist(), strict=True)
        for k in range(3)
        if lines[k] >= 0
    }
    for (u, v), apexes in edges.items():
        if len(apexes) == 2 and (u, v) not in fixed:
            side = exact.turn(xy[u], xy[v], xy[apexes[0]])
            assert side * exact.circle(xy[u], xy[v], xy[apexes[0]], xy[apexes[1]]) <= 0
    return edges, fixed


def is_flat(xy):
    return all(exact.turn(xy[0], b, c) == 0 for b in xy[1:] for c in xy[1:])


@given(st.lists(any_coordinate, min_size=8, max_size=8))
@example([0.0, 0.0, 0.0, -1.0, 0.0, 1.0, 1.0, 652345.678])  # the leading parts of the sum cancel
def test_signs_are_those_of_exact_arithmetic(c):
    assert exact.sign(orientation(*c[:6])) == exact.sign(exact.turn(c[0:2], c[2:4], c[4:6]))
    true = exact.circle(c[0:2], c[2:4], c[4:6], c[6:8])
    assert exact.sign(in_circle(*c)) == exact.sign(true)


@given(st.integers(-3, 3), st.integers(-3, 3), st.floats(0.1, 1e6))
def test_signs_hold_within_a_rounding_of_the_line_and_the_circle(i, j, size):
    x, y = size * (1 + i * 2.0**-52), size * (1 + j * 2.0**-52)
    assert exact.sign(orientation(0.0, 0.0, size, size, x, y)) == exact.sign(exact.turn((0, 0), (size, size), (x, y)))
    corners = (size, 0.0, 0.0, size, -size, 0.0)
    true = exact.circle(corners[0:2], corners[2:4], corners[4:6], (x - size, y - 2.0 * size))
    assert exact.sign(in_circle(*corners, x - size, y - 2.0 * size)) == exact.sign(true)


@given(places())
def test_any_shots_give_a_delaunay_triangulation_that_uses_them_all(xy):
    assume(len(xy) >= 3 and not is_flat(xy))
    mesh = mesh_of(xy)
    reading = mesh.read()
    judge(mesh, reading)
    assert {tuple(p) for p in mesh.xy[reading.vertices].tolist()} == {tuple(p) for p in (xy + 0.0).tolist()}


@pytest.mark.parametrize("name", SHAPES)
def test_awkward_shapes_triangulate_exactly(name):
    mesh = mesh_of(SHAPES[name])
    judge(mesh, mesh.read())


@given(places(), st.randoms(use_true_random=False))
def test_the_order_of_the_rows_does_not_matter(xy, random):
    assume(not is_flat(xy))
    shuffled = list(range(len(xy)))
    random.shuffle(shuffled)
    first, second = mesh_of(xy), mesh_of(xy[shuffled])
    one, other = first.read(), second.read()
    assert np.array_equal(first.xy[one.vertices], second.xy[other.vertices])
    assert np.array_equal(one.triangles, other.triangles)


@given(st.integers(0, 35))
def test_ties_on_a_lattice_are_settled_by_place_not_by_history(late):
    square = lattice(6)
    assume(abs(square[late] - 2.5).max() < 2.0)
    grown = mesh_of(np.delete(square, late, axis=0))
    grown.insert(square[[late]], np.zeros(1))
    direct = mesh_of(square)
    corner_sets = [
        {frozenset(map(tuple, mesh.xy[mesh.read().vertices][t].tolist())) for t in mesh.read().triangles}
        for mesh in (grown, direct)
    ]
    assert corner_sets[0] == corner_sets[1]


@given(places(6, 30), st.data())
def test_forced_edges_are_kept_and_all_others_stay_delaunay(xy, data):
    assume(not is_flat(xy))
    mesh = mesh_of(xy)
    n = mesh.vertex_count
    pairs = data.draw(st.lists(st.tuples(st.integers(0, n - 1), st.integers(0, n - 1)), min_size=1, max_size=8))
    segments = np.array(pairs, np.int32)
    segments = segments[segments[:, 0] != segments[:, 1]]
    hull = exact.twice_hull_area(xy)
    crossings, _ = mesh.force(segments, np.ones(len(segments), bool))
    reading = mesh.read()
    edges, fixed = judge(mesh, reading, None if len(crossings.vertices) else hull)
    assert fixed <= set(edges)
    number = {v: k for k, v in enumerate(reading.vertices.tolist())}
    graph = {}
    for u, v in fixed:
        graph.setdefault(u, set()).add(v)
        graph.setdefault(v, set()).add(u)
    for a, b in segments.tolist():
        reached, waiting = set(), [number[a]]
        while waiting:
            u = waiting.pop()
            if u not in reached:
                reached.add(u)
                waiting += graph[u]
        assert number[b] in reached


@given(places(6, 25), st.permutations(range(5)))
def test_the_order_of_the_lines_does_not_matter(xy, order):
    assume(not is_flat(xy))
    results = []
    for rows in (range(5), order):
        mesh = mesh_of(xy, xy[:, 0] * 0.5)
        n = mesh.vertex_count
        segments = np.array([[k % n, (3 * k + n // 2) % n] for k in rows], np.int32)
        segments = segments[segments[:, 0] != segments[:, 1]]
        mesh.force(segments, np.ones(len(segments), bool))
        reading = mesh.read()
        results.append((mesh.xy[reading.vertices], mesh.z[reading.vertices], reading.triangles))
    assert all(np.array_equal(one, other) for one, other in zip(*results, strict=True))


def test_a_line_runs_through_shots_on_it_and_along_edges_that_exist():
    mesh = mesh_of(SITE + lattice(9))
    corners = mesh.xy[: mesh.vertex_count] - SITE
    number = {tuple(np.round(p).astype(int)): k for k, p in enumerate(corners)}
    crossings, _ = mesh.force(np.array([[number[0, 0], number[8, 8]]], np.int32), np.ones(1, bool))
    assert len(crossings.vertices) == 0
    assert int((mesh.read().lines >= 0).sum()) == 16


def test_lines_that_cross_share_a_vertex_at_the_mean_of_their_heights():
    xy = np.array([[0.0, 0], [10, 10], [0, 10], [10, 0], [5, 12], [5, -2]])
    mesh = mesh_of(xy, np.array([0.0, 0, 3, 3, 1, 1]))
    number = {tuple(p): k for k, p in enumerate(mesh.xy[:6].tolist())}
    ends = [[number[0, 0], number[10, 10]], [number[0, 10], number[10, 0]]]
    crossings, order = mesh.force(np.array(ends, np.int32), np.ones(2, bool))
    (vertex,) = crossings.vertices
    assert mesh.xy[vertex].tolist() == [5.0, 5.0] and mesh.z[vertex] == 1.5
    assert sorted(crossings.heights[0]) == [0.0, 3.0]
    assert {order[crossings.on[0]], order[crossings.across[0]]} == {0, 1}


def plan_area(mesh):
    reading = mesh.read()
    return float(exact.twice_area(mesh.xy[reading.vertices], reading.triangles)) / 2.0


@pytest.mark.parametrize("shift", [np.zeros(2), SITE])
def test_rings_within_rings_cut_crisply_and_leave_the_ground_as_it_was(shift):
    def square(low, high):
        return shift + np.array([[low, low], [high, low], [high, high], [low, high]])

    xy = shift + np.random.default_rng(5).uniform(0, 100, (400, 2))
    mesh = mesh_of(xy, np.sin(xy[:, 0]) + xy[:, 1] - shift[1])
    probe = shift + np.random.default_rng(6).uniform(12, 88, (200, 2))
    before = mesh.heights(probe)
    limit_mesh(mesh, [Limit(True, [square(10, 90), square(30, 70)]), Limit(False, [square(40, 45)])])
    assert plan_area(mesh) == pytest.approx(80.0**2 - 40.0**2, rel=1e-9)
    after = mesh.heights(probe)
    inside = ~is_inside_rings(probe, [square(30, 70)])
    assert np.isnan(after[~inside]).all() and (~inside).any()
    assert np.allclose(after[inside], before[inside], atol=1e-7)


@given(st.integers(0, 10**6), st.sampled_from([np.zeros(2), SITE]), st.integers(3, 9))
def test_what_a_ring_keeps_and_what_it_cuts_make_up_the_whole(seed, shift, corners):
    rng = np.random.default_rng(seed)
    xy = shift + np.round(rng.uniform(0, 100, (40, 2)), rng.integers(0, 4))
    ring = shift + np.round(rng.uniform(-20, 120, (corners, 2)), rng.integers(0, 4))
    parts = []
    for keep, cut in (([], []), ([ring], []), ([], [ring])):
        mesh = mesh_of(xy, 3.0 * (xy[:, 0] - shift[0]))
        mesh.force(np.array([[0, 9], [5, 30], [7, 21]], np.int32), np.ones(3, bool))
        limit_mesh(mesh, [Limit(True, keep), Limit(False, cut)])
        reading = mesh.read()
        rows = mesh.xy[reading.vertices]
        assert np.allclose(mesh.z[reading.vertices], 3.0 * (rows[:, 0] - shift[0]), atol=1e-6)
        assert all(exact.turn(*(rows[v] for v in t)) > 0 for t in reading.triangles)
        parts.append(float(exact.twice_area(rows, reading.triangles)))
    assert parts[1] + parts[2] == pytest.approx(parts[0], rel=1e-9)


def test_rings_may_reach_beyond_the_data_and_a_whole_triangle_cut_adds_nothing():
    xy = np.random.default_rng(7).uniform(0, 100, (300, 2))
    ring = np.array([[-50.0, -50], [60, -50], [60, 150], [-50, 150]])
    whole = mesh_of(xy)
    hull = plan_area(whole)
    limit_mesh(whole, [Limit(True, [ring])], crisp=False)
    assert whole.vertex_count == len(xy) and 0 < plan_area(whole) < hull
    crisp, rest = mesh_of(xy), mesh_of(xy)
    limit_mesh(crisp, [Limit(True, [ring])])
    limit_mesh(rest, [Limit(False, [ring])])
    assert plan_area(crisp) + plan_area(rest) == pytest.approx(hull, rel=1e-12)


def test_long_rim_triangles_go_from_outside_in_and_never_through_a_line():
    xy = np.vstack((lattice(10), [[60.0, 4.5]]))
    mesh = mesh_of(xy)
    removed = mesh.trim(2.0)
    assert removed > 0 and plan_area(mesh) == 81.0
    guarded = mesh_of(xy)
    number = {tuple(p): k for k, p in enumerate(guarded.xy.tolist()[: len(xy)])}
    far, upper, lower = number[60.0, 4.5], number[9.0, 9.0], number[9.0, 0.0]
    guarded.force(np.array([[far, upper], [far, lower]], np.int32), np.ones(2, bool))
    assert guarded.trim(2.0) == 0


def test_trimming_leaves_long_triangles_alone_where_the_rim_does_not_reach():
    ring = np.vstack([lattice(20)[:, :2] + 0.0])
    middle = (abs(ring - 9.5) < 4.0).all(axis=1)
    mesh = mesh_of(ring[~middle])
    assert mesh.trim(2.0) == 0 and plan_area(mesh) == 19.0**2


def test_too_few_places_or_one_straight_line_are_refused_with_the_reason():
    with pytest.raises(GeometryError, match="at least 3 distinct places; there are 2"):
        mesh_of(np.array([[0.0, 0], [1, 1], [0, 0]]))
    with pytest.raises(GeometryError, match="one straight line"):
        mesh_of(np.column_stack((np.arange(50) * 0.1, np.arange(50) * 0.1)))


@given(st.lists(st.tuples(small_grid, small_grid), min_size=3, max_size=8), st.tuples(small_grid, small_grid))
def test_inside_a_ring_is_even_odd_off_its_sides(ring, place):
    ring = np.array(ring)
    x, y = place[0] + 0.25, place[1] + 0.125
    crossings = 0
    for (x0, y0), (x1, y1) in zip(ring, np.roll(ring, -1, axis=0), strict=True):
        if (y0 <= y) != (y1 <= y):
            where = exact.Fraction(x0) + exact.Fraction(y - y0) * exact.Fraction(x1 - x0) / exact.Fraction(y1 - y0)
            assume(where != exact.Fraction(x))
            crossings += where > x
    assert bool(is_inside_rings(np.array([[x, y]]), [ring])[0]) == (crossings % 2 == 1)
