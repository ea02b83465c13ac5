"""What a surface answers, against planes and shapes whose answers are known."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin.analysis.terrain.place_query import at_place
from evrin.base.errors import DataError, GeometryError
from evrin.surface import Surface
from zoo import SITE, lattice, ring_of

RNG = np.random.default_rng(11)
SCATTER = RNG.uniform(0, 100, (500, 2))


def plane(xy, a=0.03, b=-0.11, c=40.0):
    return a * (xy[:, 0] - SITE[0] * (xy[:, 0].max() > 1e5)) + b * (xy[:, 1] - SITE[1] * (xy[:, 1].max() > 1e5)) + c


def on_plane(xy, **named):
    return evrin.triangulate(np.column_stack((xy, plane(xy))), **named)


@pytest.mark.parametrize("shift", [np.zeros(2), SITE])
def test_a_plane_is_a_plane_everywhere(shift):
    ground = on_plane(SCATTER + shift)
    probe = shift + RNG.uniform(5, 95, (300, 2))
    assert np.allclose(ground.height(*probe.T), plane(probe), atol=1e-7)
    assert np.allclose(ground.slope(*probe.T), np.hypot(0.03, 0.11), atol=1e-6)
    assert np.allclose(ground.gradients, [0.03, -0.11], atol=1e-3)
    assert ground.slope_area == pytest.approx(ground.plan_area * np.sqrt(1 + 0.03**2 + 0.11**2), rel=1e-6)


def test_heights_at_shots_are_the_shots_to_the_last_bit():
    z = RNG.uniform(40, 50, len(SCATTER))
    ground = evrin.triangulate(np.column_stack((SCATTER, z)))
    assert np.array_equal(ground.height(SCATTER[:, 0], SCATTER[:, 1]), z)


def test_outside_is_nan_and_shapes_follow_the_question():
    ground = on_plane(lattice(5))
    assert np.isnan(ground.height(10.0, 10.0)) and np.isnan(ground.slope(-1e-9, 2.0))
    assert np.isnan(ground.height([np.nan, np.inf], [1.0, 1.0])).all()
    assert ground.height(np.ones((2, 3)), 2.0).shape == (2, 3)
    assert ground.height(4.0, 4.0) == plane(np.array([[4.0, 4.0]]))[0]


def test_grids_agree_with_single_places_holes_included():
    ring = 50 + ring_of(12, 20.0)
    outer = np.array([[0.0, 0], [100, 0], [100, 100], [0, 100]])
    ground = evrin.triangulate(np.column_stack((SCATTER, SCATTER[:, 0])), boundaries=[outer, ring])
    grid = ground.heights_on_grid(0.0, 0.0, 2.5, 41, 41)
    north, east = np.mgrid[0:41, 0:41] * 2.5
    single = ground.height(east, north)
    assert np.array_equal(np.isnan(grid), np.isnan(single))
    assert np.nanmax(np.abs(grid - single)) < 1e-9
    assert np.isnan(grid[20, 20]) and not np.isnan(grid[20, 4])


def test_islands_and_holes_are_found_wherever_the_walk_starts():
    squares = [np.array([[x, x], [x + 8, x], [x + 8, x + 8], [x, x + 8]], float) for x in (5, 30, 60, 85)]
    ground = on_plane(SCATTER, boundaries=squares)
    middles = np.array([s.mean(axis=0) for s in squares])
    assert np.allclose(ground.height(*middles.T), plane(middles))
    assert np.isnan(ground.height([20.0, 50.0], [20.0, 50.0])).all()
    assert len(ground.rim()) == 4


def test_the_rim_runs_round_the_ground_with_the_ground_on_its_left():
    ground = on_plane(lattice(6))
    (rim,) = ground.rim()
    x, y = ground.vertices[rim, :2].T
    area = 0.5 * np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)
    assert area == 25.0 and len(rim) == 20


def test_unlike_heights_at_one_place_give_their_mean_and_like_ones_merge():
    corners = [[0.0, 0, 1], [10, 0, 1], [10, 10, 1], [0, 10, 1]]
    ground = evrin.triangulate([*corners, [5, 5, 2.0], [5, 5, 4.0], [5, 5, 4.0], [0, 0, 1]])
    assert len(ground.vertices) == 5
    assert ground.height(5.0, 5.0) == 3.0


@given(st.randoms(use_true_random=False))
def test_the_same_input_gives_the_same_surface_bit_for_bit_whatever_its_order(random):
    points = np.column_stack((np.round(SCATTER[:60] / 10) * 10, SCATTER[:60, 0]))
    lines = [
        np.array([[5.0, 5, 1], [95, 90, 2]]),
        np.array([[5.0, 90, 3], [90, 5, 0]]),
        np.array([[1.0, 50], [99, 51]]),
    ]
    ring = np.array([[2.0, 2], [98, 3], [97, 97], [3, 98]])
    rows, order = list(range(60)), list(range(3))
    random.shuffle(rows)
    random.shuffle(order)
    one = evrin.triangulate(points, lines, [ring], longest_edge=60)
    other = evrin.triangulate(points[rows], [lines[k] for k in order], [ring], longest_edge=60)
    assert one.vertices.tobytes() == other.vertices.tobytes()
    assert one.triangles.tobytes() == other.triangles.tobytes()
    assert ((one.edge_lines >= 0) == (other.edge_lines >= 0)).all()


def test_a_breakline_holds_its_own_heights_and_a_plan_line_those_of_the_ground():
    ground = on_plane(SCATTER, breaklines=[[[20.0, 20, 99.0], [80, 80, 99.0]], [[20.0, 80], [60, 80]]])
    along = np.linspace(20, 80, 13)
    assert np.allclose(ground.height(along, along), 99.0)
    places = np.column_stack((np.linspace(20, 60, 9), np.full(9, 80.0)))
    beside = on_plane(SCATTER, breaklines=[[[20.0, 20, 99.0], [80, 80, 99.0]]])
    assert ground.height(20.0, 80.0) == pytest.approx(float(beside.height(20.0, 80.0)))
    assert np.isfinite(ground.height(*places.T)).all()
    assert {ground.lines[k].name for k in np.unique(ground.edge_lines[ground.edge_lines >= 0])} == {
        "breakline 0",
        "breakline 1",
    }


def test_a_plan_line_that_leaves_the_data_stops_there():
    ground = on_plane(lattice(11), breaklines=[[[5.0, 5.5], [5.0, 50.0], [6.0, 5.5]]])
    assert ground.plan_area == 100.0
    assert (ground.edge_lines < 0).all()


def test_where_a_height_comes_from_is_reported():
    answer = at_place(on_plane(lattice(3)), 0.25, 0.5)
    assert answer.height == pytest.approx(plane(np.array([[0.25, 0.5]]))[0])
    assert len(answer.held_by) == 3 and all(corner.distance < 2.0 for corner in answer.held_by)
    assert answer.held_by[0].shot.record()["text"].startswith("vertex ")
    assert at_place(on_plane(lattice(3)), 9.0, 9.0).height is None


def test_surfaces_cannot_be_changed_by_mistake():
    ground = on_plane(lattice(3))
    with pytest.raises(ValueError, match="read-only"):
        ground.vertices[0, 2] = 0.0
    with pytest.raises(AttributeError):
        ground.name = "other"
    assert ground.renamed(name="other").name == "other" and ground.name == "surface"


def test_given_triangles_are_taken_as_they_are_and_turned_anticlockwise():
    vertices = [[0.0, 0, 1], [1, 0, 1], [1, 1, 2], [0, 1, 2]]
    ground = Surface.from_arrays(vertices, [[0, 2, 1], [0, 2, 3]], name="given")
    assert ground.triangles.tolist() == [[0, 1, 2], [0, 2, 3]]
    assert ground.plan_area == 1.0 and ground.height(0.5, 0.25) == 1.25


@pytest.mark.parametrize(
    ("vertices", "triangles", "output"),
    [
        ([[0.0, 0], [1, 1]], [[0, 1, 1]], r"shape \(n, 3\)"),
        ([[0.0, 0, 0]], np.empty((0, 3)), "m at least 1"),
        ([[0.0, 0, np.nan], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]], "vertex 0 is not finite"),
        ([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 3]], "triangle 0 names a vertex that does not exist"),
    ],
)
def test_impossible_arrays_are_refused_with_the_reason(vertices, triangles, output):
    with pytest.raises(DataError, match=output):
        Surface.from_arrays(vertices, triangles)


@pytest.mark.parametrize(
    ("call", "output"),
    [
        (lambda: evrin.triangulate([[0, 0], [1, 1]]), r"shape \(n, 3\)"),
        (lambda: evrin.triangulate([["a", 0, 0]]), "must be numbers"),
        (lambda: evrin.triangulate([[0, 0, 0], [1, 0, np.inf], [0, 1, 0]]), "row 1 is"),
        (lambda: evrin.triangulate([[0, 0, 0], [1e300, 0, 0], [0, 1, 0]]), "is not a coordinate"),
        (lambda: evrin.triangulate(np.eye(3), [[[0, 0, 0]]]), "breakline 0 has 1 vertices; it needs 2"),
        (lambda: evrin.triangulate(np.eye(3), [[[0, 0, 0], [0, np.nan, 0]]]), "breakline 0: a vertex is not finite"),
        (lambda: evrin.triangulate(np.eye(3), boundaries=[[[0, 0], [1, 1]]]), "boundary 0 has 2 vertices; it needs 3"),
        (lambda: evrin.triangulate(np.eye(3), longest_edge=0), "longest_edge must be above 0"),
    ],
)
def test_impossible_input_is_refused_with_the_reason(call, output):
    with pytest.raises(DataError, match=output):
        call()


def test_a_boundary_beside_the_data_leaves_nothing_and_the_error_states_it():
    with pytest.raises(GeometryError, match="no triangle is left"):
        on_plane(lattice(4), boundaries=[[[50.0, 50], [60, 50], [60, 60]]])
