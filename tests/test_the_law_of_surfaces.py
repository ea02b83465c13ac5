"""What every surface is, asked by `Surface.faults`; the judge is rational arithmetic over every pair of triangles."""

from fractions import Fraction
from itertools import combinations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin import DataError, Frame, Surface
from evrin.analysis import band_polygons
from evrin.making import Pad, combine, pad_to_ground
from exact import turn
from pairs import WORKS, judged


@pytest.mark.parametrize("work", WORKS)
def test_what_evrin_makes_of_random_pairs_has_no_fault(work):
    seeds = range(6 if work.startswith("written") else 21)
    assert {seed: what for seed, what in judged(WORKS[work], seeds) if what} == {}


@pytest.mark.thorough
@pytest.mark.parametrize("work", WORKS)
def test_what_evrin_makes_of_many_random_pairs_has_no_fault(work):
    assert {seed: what for seed, what in judged(WORKS[work], range(21, 400)) if what} == {}


def half_plane(polygon, a, b):
    """The part of a polygon of fractions left of a line."""
    sides = [(b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0]) for p in polygon]
    kept = []
    for k, (p, s) in enumerate(zip(polygon, sides, strict=True)):
        q, t = polygon[(k + 1) % len(polygon)], sides[(k + 1) % len(polygon)]
        if s >= 0:
            kept.append(p)
        if s * t < 0:
            part = s / (s - t)
            kept.append((p[0] + part * (q[0] - p[0]), p[1] + part * (q[1] - p[1])))
    return kept


def share_area(one, other):
    polygon = one
    for a, b in zip(other, other[1:] + other[:1], strict=True):
        polygon = half_plane(polygon, a, b) if polygon else []
    return sum(p[0] * q[1] - q[0] * p[1] for p, q in zip(polygon, polygon[1:] + polygon[:1], strict=True)) > 0


def judged_triangles(vertices, triangles):
    """Which triangles are not counter-clockwise, and which share area with another, in fractions."""
    faces = [[tuple(map(Fraction, vertices[v, :2].tolist())) for v in corners] for corners in triangles.tolist()]
    turned = {t for t, corners in enumerate(triangles.tolist()) if turn(*vertices[corners]) <= 0}
    twice = set()
    for t, u in combinations(sorted(set(range(len(faces))) - turned), 2):
        if share_area(faces[t], faces[u]):
            twice |= {t, u}
    return turned, twice


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**6), st.sampled_from(["as they are", "soup", "moved", "turned", "folded", "far"]))
def test_faults_are_those_that_fractions_find(seed, kind):
    rng = np.random.default_rng(seed)
    lattice = rng.integers(0, 5, (12, 2)) if seed % 2 else rng.uniform(0, 5, (12, 2))
    xy = lattice + np.array([431000.0, 5412000.0]) * (kind == "far")
    try:
        given_surface = evrin.triangulate(np.column_stack((xy, rng.uniform(0, 1, 12))))
    except evrin.GeometryError:
        return
    vertices, triangles = given_surface.vertices.copy(), given_surface.triangles.copy()
    if kind == "soup":
        triangles = rng.integers(0, len(vertices), (6, 3)).astype(np.int32)
    elif kind == "moved":
        vertices[rng.integers(len(vertices)), :2] += rng.uniform(-2, 2, 2)
    elif kind == "turned":
        triangles[0] = triangles[0][::-1]
    elif kind == "folded":
        vertices[:, 0] = np.where(vertices[:, 0] > 3, 6 - vertices[:, 0], vertices[:, 0])
    elif kind == "far":
        vertices = np.round(vertices, 1)
    surface = Surface(vertices, triangles, np.full(triangles.shape, -1, np.int32))
    found = {fault.kind: set(fault.rows.tolist()) for fault in surface.faults()}
    if "numbers" in found:
        assert all(len(set(triangles[row].tolist())) < 3 for row in found["numbers"]) and set(found) == {"numbers"}
        return
    turned, twice = judged_triangles(vertices, triangles)
    upright = {t for t in turned if len({tuple(vertices[v, :2]) for v in triangles[t]}) == 2}
    assert found.get("turned", set()) == turned - upright
    # Where an edge has more than two triangles, others may hide what is shared.
    assert bool(found.get("covers-twice")) == bool(twice)
    assert found.get("covers-twice", set()) == twice or ("edges" in found and found["covers-twice"] <= twice)


def test_a_step_is_right_with_its_faces_and_a_fault_without():
    older = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], name="older")
    newer = evrin.triangulate([[4, -1, 2], [9, -1, 2], [9, 9, 2], [4, 9, 2]], name="newer")
    made = combine([older, newer]).surface
    assert made.faults() == [] and (made.triangle_areas == 0.0).sum() == 4
    plan = made.triangle_areas > 0.0
    (fault,) = Surface(made.vertices, made.triangles[plan], made.edge_lines[plan]).faults()
    assert fault.kind == "same-place" and str(fault).startswith("3 vertices at the place of another")


def test_pieces_of_ground_may_touch_at_a_place_but_not_be_one_vertex_twice():
    corners = [[0, 0, 1], [4, 0, 1], [0, 4, 1], [0, 0, 5], [-4, 0, 5], [0, -4, 5]]
    assert Surface.from_arrays(corners, [[0, 1, 2], [3, 4, 5]]).faults() == []
    corners[3][2] = 1
    (fault,) = Surface.from_arrays(corners, [[0, 1, 2], [3, 4, 5]]).faults()
    assert fault.kind == "same-place" and fault.places.tolist() == [[0.0, 0.0]]


def test_arrays_are_turned_by_exact_signs():
    # A product of differences rounds to the same here, on either side of the line.
    base = np.array([[12.0, 12.0, 0], [24.0, 24.0, 0], [0.5, 0.5, 0]])
    for ulp in (-1, 1):
        moved = base.copy()
        moved[2, 0] = np.nextafter(0.5, ulp * np.inf)
        surface = Surface.from_arrays(moved, [[0, 1, 2]])
        assert surface.faults() == [] and turn(*surface.vertices[surface.triangles[0]]) > 0


@pytest.mark.parametrize("height", [np.nan, np.inf, -np.inf])
def test_heights_of_edits_are_numbers_and_nothing_is_changed_by_others(height):
    editor = evrin.Editor.of(evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]]))
    before = editor.surface().vertices.tolist()
    for edit in (
        lambda: editor.add((2, 3), height),
        lambda: editor.set(height, at=(0, 0)),
        lambda: editor.raise_by(height, at=(0, 0)),
        lambda: editor.move((0, 0), (1, 1), height),
    ):
        with pytest.raises(DataError, match="must be a finite number"):
            edit()
    assert editor.surface().vertices.tolist() == before


def test_a_vertex_of_one_on_an_edge_of_the_other_is_there_once_in_their_difference():
    one = evrin.triangulate([[0.7, 1.0, 0.3], [2.7, 3.0, 0.9], [4.5, 6.4, 1.2]])
    made = one.less(evrin.triangulate([[0.7, 0.5, 0.6], [0.9, 4.7, 0.3], [8.1, 8.1, 1.8]]))
    assert made.faults() == []
    assert made.clip(keep=[[0, 0], [5, 0], [5, 7], [0, 7]]).plan_area == pytest.approx(made.plan_area)


def test_what_a_transformation_turns_is_settled_and_shots_are_still_known():
    turn_by = 0.7
    axes = np.array([[np.cos(turn_by), -np.sin(turn_by)], [np.sin(turn_by), np.cos(turn_by)]])
    for size in range(3, 9):
        lattice = 10.0 * np.array([[i, j] for i in range(size) for j in range(size)]) @ axes + (431000.0, 5412000.0)
        ground = evrin.triangulate(np.column_stack((lattice, np.arange(size * size) % 7)))
        feet = ground.transform(Frame("ft"))
        assert feet.faults() == [] and feet.plan_area * 0.3048**2 == pytest.approx(ground.plan_area, rel=1e-7)
        assert len(feet.vertices) == size * size and feet.provenance is not None


def test_a_surface_with_steps_is_clipped_and_measured_and_carries_pads():
    older = evrin.triangulate([[0, 0, 1], [80, 0, 1], [80, 80, 1], [0, 80, 1]], name="older")
    newer = evrin.triangulate([[40, -10, 2], [90, -10, 2], [90, 90, 2], [40, 90, 2]], name="newer")
    both = combine([older, newer]).surface
    ring = [[20, 20], [60, 20], [60, 60], [20, 60]]
    part = both.clip(keep=ring)
    assert part.plan_area == pytest.approx(1600.0) and part.faults() == []
    assert part.height([30, 50], [40, 40]).tolist() == [1.0, 2.0]
    assert both.clip(cut=ring).plan_area == pytest.approx(both.plan_area - 1600.0)
    assert both.volume_above(0.0, {"a": ring}).total.fill == pytest.approx(800.0 + 1600.0)
    assert both.less(0.5, {"a": ring}).plan_area == pytest.approx(1600.0)
    made = pad_to_ground(both, Pad.of([[30, 30], [50, 30], [50, 50], [30, 50]], 1.5))
    assert made.surface.faults() == [] and made.cut == pytest.approx(made.fill, rel=0.2)


@pytest.mark.parametrize("strip", [0.01, 0.05, 3.0])
def test_two_tiles_with_a_strip_in_common_are_found_and_measured_by_nothing(tmp_path, strip):
    rng = np.random.default_rng(5)
    tiles = []
    for west in (0.0, 100.0 - strip):
        corners = np.array([[0.0, 0], [100, 0], [100, 100], [0, 100]])
        xy = np.vstack((corners, rng.uniform(1, 99, (200, 2)))) + (west, 0.0)
        tiles.append(evrin.triangulate(np.column_stack((xy, 40.0 + 0.01 * xy[:, 0]))))
    one, other = tiles
    both = Surface.from_arrays(
        np.vstack((one.vertices, other.vertices)), np.vstack((one.triangles, other.triangles + len(one.vertices)))
    )
    assert [fault.kind for fault in both.faults()] == ["covers-twice"]
    # Only what rounding turned is settled; an overlap stays, and is found.
    assert both.transform(Frame("ft")).plan_area * 0.3048**2 == pytest.approx(both.plan_area)
    evrin.write(tmp_path / "two.xml", both)
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "two.xml"\nrole = "surface"\n')
    found = [each for each in evrin.Recipe.read(tmp_path / "site.toml").build().findings if each.code == "covers-twice"]
    # Narrower than two centimetres is what rounding in a file does.
    assert len(found) == (strip > 0.02)
    if found:
        x, y = found[0].place
        assert 100.0 - strip <= x <= 100.0 and 0.0 <= y <= 100.0
        with pytest.raises(evrin.GeometryError, match="covers ground more than once"):
            both.volume_above(39.0)
        rough = Surface.from_arrays(
            both.vertices + rng.normal(0.0, [0.0, 0.0, 0.1], both.vertices.shape), both.triangles
        )
        with pytest.raises(evrin.GeometryError, match="covers ground more than once"):
            rough.profile([(1.0, 50.0), (199.0 - strip, 51.0)])
    else:
        assert both.volume_above(39.0).total.fill > 0.0
    # Where both are at one height it makes no difference which is asked.
    along = both.profile([(1.0, 50.0), (199.0 - strip, 51.0)])
    assert (np.diff(along.chainage) >= 0.0).all() and np.allclose(along.heights, 40.0 + 0.01 * along.points[:, 0])


@pytest.mark.parametrize(("at_steps", "beside"), [("lower", 10.0), ("higher", 12.0), ("mean", 11.0)])
def test_a_finished_surface_with_a_step_is_taken_as_stated_or_not_at_all(tmp_path, at_steps, beside):
    square = np.array([[0, 0, 10], [100, 0, 10], [100, 100, 10], [0, 100, 10]], np.float64)
    both = combine([evrin.triangulate(square), evrin.triangulate(square + [50, 0, 2])]).surface
    evrin.write(tmp_path / "both.xml", both)
    recipe = '[[source]]\nfile = "both.xml"\nrole = "surface"\n'
    (tmp_path / "site.toml").write_text(recipe)
    with pytest.raises(DataError, match=r"steps, up to 2.000 m at 50.000, .*at_steps"):
        evrin.Recipe.read(tmp_path / "site.toml").build()
    (tmp_path / "site.toml").write_text(f'{recipe}at_steps = "{at_steps}"\n')
    build = evrin.Recipe.read(tmp_path / "site.toml").build()
    assert build.surface.height(50.0, 30.0) == pytest.approx(beside) and build.surface.plan_area == 15000.0
    assert build.surface.faults() == [] and "unlike-heights" not in {each.code for each in build.findings}


def test_walls_stay_where_they_close_a_step_and_skirts_and_boxes_go(tmp_path):
    square = np.array([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], np.float64)
    both = combine([evrin.triangulate(square), evrin.triangulate(square + [4, 0, 2])]).surface
    skirt, count = both.vertices - [0.0, 0.0, 5.0], len(both.vertices)
    rim = [(a, b) for loop in both.rim() for a, b in zip(loop, np.roll(loop, -1), strict=True)]
    walls = [face for a, b in rim for face in ((b, a, a + count), (b, a + count, b + count))]
    skirted = Surface.from_arrays(np.vstack((both.vertices, skirt)), np.vstack((both.triangles, walls)))
    bottom = both.triangles[both.triangle_areas > 0.0] + count
    boxed = Surface.from_arrays(skirted.vertices, np.vstack((skirted.triangles, bottom)))
    for name, mesh in (("skirt.obj", skirted), ("box.obj,sheet=top", boxed)):
        evrin.write(tmp_path / name.split(",")[0], mesh)
        found = evrin.Surface.read(tmp_path / name.split(",")[0], sheet="top" if "," in name else "")
        assert found.faults() == [] and len(found.triangles) == len(both.triangles)
        assert (found.triangle_areas == 0.0).sum() == (both.triangle_areas == 0.0).sum() > 0
    with pytest.raises(DataError, match="covers places more than once"):
        evrin.Surface.read(tmp_path / "box.obj")


def test_folds_and_hanging_faces_of_a_file_are_findings_with_their_places(tmp_path):
    corners = np.array([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1], [4, 3, 2], [8, 0, -4], [0, 0, -4]], np.float64)
    # The third lies over the first, which has the same edge in the same direction; the last two close no step.
    folds = Surface.from_arrays(corners, [[0, 1, 2], [0, 2, 3], [0, 1, 4], [1, 0, 5], [0, 6, 5]])
    evrin.write(tmp_path / "a.xml", folds)
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "a.xml"\nrole = "surface"\n')
    found = {each.code: each for each in evrin.Recipe.read(tmp_path / "site.toml").build().findings}
    assert found["folded"].place == pytest.approx((4.0, 1.0)) and "1 triangle" in found["folded"].message
    assert found["upright"].place[1] == 0.0 and "2 upright faces" in found["upright"].message
    assert "covers-twice" in found


@pytest.mark.parametrize("is_lattice", [False, True])
def test_a_difference_has_one_outline_and_its_bands_are_polygons_that_fill_it(is_lattice):
    """Heights in whole metres, so that the line of no change and the limits run through vertices and along edges."""
    for seed in range(12):
        rng = np.random.default_rng(seed)
        grounds = []
        for _ in range(2):
            xy = np.vstack(([[0, 0], [50, 0], [50, 50], [0, 50]], rng.uniform(0.0, 50.0, (40, 2))))
            xy = np.round(xy / 5.0) * 5.0 if is_lattice else xy
            grounds.append(evrin.triangulate(np.column_stack((xy, rng.integers(0, 4, len(xy))))))
        difference = grounds[0].less(grounds[1])
        assert len(difference.rim()) == 1 and difference.plan_area == pytest.approx(2500.0)
        whole = shapely.Polygon()
        for ring in band_polygons(difference, [-1.0, 0.0, 1.0]):
            polygon = shapely.Polygon(ring.points[:, :2])
            assert polygon.is_valid
            whole = whole.symmetric_difference(polygon)
        assert whole.area == pytest.approx(2500.0)
