"""One surface out of several: heights, areas, joins and steps, on random, shared, lattice and far-away ground."""

import numpy as np
import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose, assert_array_equal

import evrin
from evrin.making import combine

FAR = np.array([512_345.125, 4_203_456.5])
RULES = ("newer", "higher", "lower")


def ground(rng, count, size, shift, *, lattice=False, base=(0.0, 0.0), name="ground"):
    """A rough surface; on a lattice, with many places and heights in common with others."""
    xy = rng.uniform(0.0, size, (count, 2))
    xy = (np.round(xy / 8.0) * 8.0 if lattice else xy) + shift
    z = 5.0 * np.sin(xy[:, 0] / 15.0) + 3.0 * np.cos(xy[:, 1] / 11.0) + rng.normal(0.0, 0.2, count)
    corners = np.array([[0.0, 0.0], [size, 0.0], [size, size]]) + shift
    heights = np.append(np.round(z) if lattice else z, [1.0, 2.0, 0.0])
    return evrin.triangulate(np.column_stack((np.vstack((xy, corners)) + base, heights)), name=name)


def expected(surfaces, rule, x, y):
    """Heights by asking each surface alone."""
    out = surfaces[0].height(x, y)
    for each in surfaces[1:]:
        other = each.height(x, y)
        if rule == "newer":
            out = np.where(np.isnan(other), out, other)
        else:
            out = (np.fmax if rule == "higher" else np.fmin)(out, other)
    return out


def slits(surface, surfaces):
    """Edges without a neighbour that have ground on both sides."""
    half = np.flatnonzero(surface.mates < 0)
    flat = surface.triangles.ravel()
    tail, head = surface.vertices[flat[half]], surface.vertices[flat[half - half % 3 + (half + 1) % 3]]
    along = (head - tail)[:, :2]
    length = np.hypot(*along.T)
    kept = length > 1e-5
    outward = np.column_stack((along[:, 1], -along[:, 0]))[kept] / length[kept][:, None]
    beyond = ((tail + head)[kept, :2] / 2.0) + 1e-6 * outward
    return sum(int(np.isfinite(each.height(*beyond.T)).sum()) for each in surfaces)


cases = st.tuples(
    st.integers(0, 10**6), st.integers(1, 120), st.integers(1, 120), st.booleans(), st.booleans(), st.integers(2, 3)
)


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(cases, st.sampled_from(RULES))
def test_each_place_has_the_height_of_the_surface_that_stands_there(case, rule):
    """Heights agree everywhere, vertices bit for bit, areas add up, and there is no slit along the join."""
    seed, first, second, lattice, is_far, count = case
    rng = np.random.default_rng(seed)
    base = FAR if is_far else np.zeros(2)
    shifts = np.round(rng.uniform(-60.0, 60.0, (2, 2)) / 8.0) * 8.0
    old = ground(rng, first, 100.0, 0.0, lattice=lattice, base=base, name="old")
    new = ground(rng, second, 80.0, shifts[0], lattice=lattice, base=base, name="new")
    third = ground(rng, 20, 60.0, shifts[1], lattice=lattice, base=base, name="third")
    surfaces = [old, new, third][:count]
    found = combine(surfaces, rule)
    x, y = (rng.uniform(-70.0, 170.0, (2000, 2)) + base).T
    # At far coordinates a new vertex can only lie a nanometre off.
    assert_allclose(found.surface.height(x, y), expected(surfaces, rule, x, y), rtol=0.0, atol=1e-7 if is_far else 1e-9)
    assert_allclose(found.parts["area_used"].sum(), found.surface.plan_area, rtol=1e-12)
    given_rows = {tuple(row) for each in surfaces for row in each.vertices.tolist()}
    shot_of = found.surface.provenance.shot_of
    moved = [row for row in found.surface.vertices[shot_of >= 0].tolist() if tuple(row) not in given_rows]
    # Only a vertex within rounding of another surface's edge may have been moved onto it.
    assert len(moved) <= 3
    assert slits(found.surface, surfaces) == 0


@pytest.mark.slow
@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10**6), st.booleans())
def test_the_order_of_equals_does_not_matter_and_a_surface_with_itself_is_itself(seed, lattice):
    """Higher and lower are the same bit for bit in any order."""
    rng = np.random.default_rng(seed)
    one, other = (ground(rng, 60, 60.0, shift, lattice=lattice, name=f"at {shift}") for shift in (0.0, 16.0))
    for rule in ("higher", "lower"):
        first, second = combine([one, other], rule).surface, combine([other, one], rule).surface
        assert_array_equal(first.vertices, second.vertices)
        assert_array_equal(first.triangles, second.triangles)
    for rule in RULES:
        again = combine([one, one], rule)
        assert_array_equal(again.surface.vertices, one.vertices)
        assert_array_equal(again.surface.triangles, one.triangles)
        assert again.joins == []


def test_the_lower_of_two_is_nowhere_above_either_and_the_higher_nowhere_below():
    """At vertices of both and at random places; on a step itself there are two heights."""
    rng = np.random.default_rng(5)
    one, other = ground(rng, 300, 100.0, 0.0), ground(rng, 200, 90.0, 20.0)
    for rule, sign in (("higher", 1.0), ("lower", -1.0)):
        result = combine([one, other], rule).surface
        inner = [np.delete(each.vertices[:, :2], np.concatenate(each.rim()), axis=0).T for each in (one, other)]
        for x, y in (*inner, rng.uniform(-5.0, 115.0, (5000, 2)).T):
            for each in (one, other):
                apart = sign * (result.height(x, y) - each.height(x, y))
                assert np.nanmin(apart) > -1e-9


def plate(west, east, height, name, tilt=0.0):
    """A square plate, level or rising to the north."""
    corners = [[west, 0, height], [east, 0, height], [east, 10, height + tilt], [west, 10, height + tilt]]
    return evrin.triangulate(np.array(corners, float), name=name)


def test_a_step_is_shown_along_the_join_and_closed_by_an_upright_face():
    """A closed form: two plates, the newer from nothing to half a metre above the older."""
    old, new = plate(0, 10, 1.0, "old"), plate(6, 14, 1.0, "new", tilt=0.5)
    found = combine([old, new])
    (join,) = found.joins
    assert (join.length, join.largest, join.mean) == pytest.approx((10.0, 0.5, 0.25))
    assert join.surfaces == ("old", "new")
    assert join.table["step"].iloc[[0, -1]].tolist() in ([0.0, 0.5], [0.5, 0.0])
    upright = np.flatnonzero(found.surface.triangle_areas == 0.0)
    # Two to a segment, and one where the step begins at nothing.
    assert len(upright) == 2 * (len(join.points) - 1) - 1
    assert found.surface.height([5.999, 6.001], [10.0, 10.0]).tolist() == pytest.approx([1.0, 1.5])
    assert [line.name for line in found.surface.lines] == ["join of old and new"]
    assert (found.surface.edge_lines >= 0).sum() >= 2


def test_a_step_that_turns_gets_a_vertex_where_it_is_nothing():
    """Two plates that cross along their join."""
    old, new = plate(0, 10, 1.0, "old"), plate(6, 14, 0.8, "new", tilt=0.4)
    join = combine([old, new]).joins[0]
    assert any(
        abs(step) < 1e-12 and y == pytest.approx(5.0) for step, y in zip(join.steps, join.points[:, 1], strict=True)
    )
    assert join.mean == pytest.approx(0.1)


def test_within_a_band_the_older_ground_meets_the_newer_and_beyond_it_is_unchanged():
    """Raised in proportion to the distance."""
    old, new = plate(0, 10, 1.0, "old"), plate(6, 14, 1.5, "new")
    found = combine([old, new], band=2.0)
    assert found.joins[0].largest == pytest.approx(0.0, abs=1e-9)
    assert_allclose(found.surface.height([3.9, 4.0, 5.0, 5.9, 7.0], [5.0] * 5), [1.0, 1.0, 1.25, 1.475, 1.5], atol=1e-9)


def test_a_ring_limits_where_the_newer_counts():
    """Outside it the older is used, although the newer is there."""
    old, new = plate(0, 10, 1.0, "old"), plate(0, 10, 2.0, "new")
    found = combine([old, new], within=[[2.0, 2.0], [5.0, 2.0], [5.0, 5.0], [2.0, 5.0]])
    assert found.surface.height([3.0, 7.0, 1.9], [3.0, 7.0, 3.0]).tolist() == pytest.approx([2.0, 1.0, 1.0])
    assert found.joins[0].closed
    assert found.joins[0].length == pytest.approx(12.0)


def test_gaps_stay_open_or_are_triangulated_across():
    """Only between pieces, and only with edges as long as allowed."""
    old, new = plate(0, 10, 1.0, "old"), plate(13, 20, 2.0, "new")
    assert np.isnan(combine([old, new]).surface.height(11.0, 5.0))
    assert np.isnan(combine([old, new], across=5.0).surface.height(11.0, 5.0))
    found = combine([old, new], across=12.0)
    assert found.surface.height(11.5, 5.0).item() == pytest.approx(1.5)
    assert found.gaps_filled == pytest.approx(30.0)
    assert found.surface.plan_area == pytest.approx(200.0)


def test_lines_and_shots_travel_and_a_line_that_lost_ground_is_left_in_pieces():
    """A breakline through both, of which the middle is replaced."""
    rng = np.random.default_rng(3)
    xyz = np.column_stack((rng.uniform(0, 30, (80, 2)), rng.normal(5, 0.1, 80)))
    line = np.array([[1.0, 15.0, 5.0], [15.0, 15.5, 5.2], [29.0, 15.0, 5.0]])
    old = evrin.triangulate(xyz, breaklines=[line], name="old")
    new = plate(0, 10, 5.4, "new")
    moved = evrin.Surface.from_arrays(new.vertices + np.array([10.0, 10.0, 0.0]), new.triangles, name="new")
    result = combine([old, moved]).surface
    names = [each.name for each in result.lines]
    assert names.count("breakline 0") == 2
    ends = sorted(float(p) for each in result.lines if each.name == "breakline 0" for p in each.points[:, 0])
    assert ends[0] == 1.0
    assert ends[-1] == 29.0
    used = {name for name in np.unique(result.edge_lines) if name >= 0}
    assert used == set(range(len(result.lines)))
    described = [str(result.provenance.describe(k)) for k in range(len(result.vertices))]
    assert any(text.startswith("old vertex") for text in described)
    assert any(text.startswith("new vertex") for text in described)
    assert "on the join of surfaces" in described


def test_what_was_combined_can_be_combined_again():
    """Upright faces of a first join are no obstacle."""
    old, new, third = plate(0, 10, 1.0, "old"), plate(6, 14, 1.5, "new"), plate(3, 8, 3.0, "third")
    stepped = combine([old, new]).surface
    again = combine([stepped, third]).surface
    assert again.height([1.0, 4.0, 7.0, 9.0], [5.0] * 4).tolist() == pytest.approx([1.0, 3.0, 3.0, 1.5])
    assert again.plan_area == pytest.approx(140.0)
    assert (again.triangle_areas == 0.0).sum() >= 4


@pytest.mark.parametrize(
    ("given_surfaces", "options", "message"),
    [
        (1, {}, "two surfaces or more"),
        (2, {"rule": "newest"}, "rule must be one of newer, higher, lower"),
        (2, {"band": -1.0}, "band must lie between"),
        (2, {"band": float("nan")}, "band must lie between"),
        (2, {"across": float("inf")}, "across must lie between"),
        (2, {"band": 1.0, "rule": "higher"}, "a band goes with the rule newer"),
    ],
)
def test_what_cannot_be_combined_is_refused(given_surfaces, options, message):
    """With the reason."""
    with pytest.raises(evrin.EvrinError, match=message):
        combine([plate(0, 10, 1.0, "old"), plate(5, 12, 2.0, "new")][:given_surfaces], **options)


def test_a_surface_with_a_missing_height_is_refused():
    """With the place."""
    hollow = plate(5, 12, 2.0, "new")
    broken = evrin.Surface(hollow.vertices * [1.0, 1.0, np.nan], hollow.triangles, hollow.edge_lines, name="broken")
    with pytest.raises(evrin.EvrinError, match="has no height; remove it first"):
        combine([plate(0, 10, 1.0, "old"), broken])


def test_surfaces_in_unlike_units_are_refused():
    """Whatever their heights."""
    with pytest.raises(evrin.EvrinError, match="unit"):
        combine([plate(0, 10, 1.0, "old"), plate(5, 12, 2.0, "new").renamed(units="ft")])


AROUND = np.linspace(0.0, 2.0 * np.pi, 14, endpoint=False)
STAR = 50.0 + np.where(np.arange(14) % 2, 12.0, 32.0)[:, None] * np.column_stack((np.cos(AROUND), np.sin(AROUND)))
BEND = np.array([[30.0, 30.0], [70.0, 30.0], [70.0, 50.0], [50.0, 50.0], [50.0, 70.0], [30.0, 70.0]])
CORNER = np.array([[-5.0, -5.0], [50.0, -5.0], [50.0, 40.0], [-5.0, 40.0]])


@pytest.mark.parametrize("ring", [STAR, BEND, CORNER, np.array([[30.0, 30.0], [70.0, 30.0], [50.0, 32.0]])])
@pytest.mark.parametrize("band", [2.0, 9.0, 30.0])
@pytest.mark.parametrize("base", [(0.0, 0.0), FAR])
def test_a_band_raises_the_older_in_proportion_to_the_distance(ring, band, base):
    """On four vertices of ground, at corners in and out, to a hundredth of the step; beyond the band not at all."""
    size = np.array([[0, 0, 1], [100, 0, 1], [100, 100, 1], [0, 100, 1]], np.float64)
    old = evrin.triangulate(size + [*base, 0.0])
    newer = evrin.triangulate(np.column_stack((ring + base, np.full(len(ring), 2.0)))).clip(keep=ring + base)
    both = combine([old, newer], band=band).surface
    places = np.random.default_rng(3).uniform(1.0, 99.0, (4000, 2))
    away = shapely.distance(shapely.Polygon(ring), shapely.points(places))
    meant = np.where(away > 0.0, 1.0 + np.maximum(0.0, 1.0 - away / band), 2.0)
    found = both.height(*(places + base).T)
    assert_allclose(found, meant, atol=0.01)
    assert_allclose(found[away >= band], 1.0, atol=1e-12)
    assert not both.faults()
