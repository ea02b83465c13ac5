"""Slopes in every unit, areas by band, arrows, paths of water that never climb, hollows, summits, trust."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin.analysis import distance_to_shots, figures_by_source, level_ground, too_large, trust
from evrin.analysis.quality.statistics import surface_figures
from evrin.analysis.terrain.banding import areas_of, usual_interval
from evrin.analysis.terrain.drainage import hollows, summits, water_paths
from evrin.analysis.terrain.slopes import (
    SLOPE_UNITS,
    aspect_bands,
    aspects,
    height_bands,
    slope_bands,
    slope_from,
    slope_in,
)
from evrin.base.errors import DataError
from evrin.draw import flow_arrows
from evrin.surface import Provenance, Shots, SourceLine
from test_contours import random_ground
from zoo import SITE, lattice

RAMP = evrin.triangulate([[0, 0, 0], [30, 0, 0], [30, 40, 30], [0, 40, 30]])


@given(st.sampled_from(SLOPE_UNITS), st.lists(st.floats(1e-6, 1e3), min_size=1, max_size=5))
def test_a_slope_turned_into_a_unit_and_back_is_itself(unit, slopes):
    assert slope_from(slope_in(slopes, unit), unit) == pytest.approx(slopes, rel=1e-9)


def test_slopes_read_as_the_trade_reads_them():
    assert slope_in(0.05, "one_in").item() == 20.0 and slope_in(1.0, "degrees").item() == pytest.approx(45.0)
    assert slope_in([0.0, np.inf], "degrees").tolist() == [0.0, 90.0] and np.isinf(slope_in(0.0, "one_in"))
    with pytest.raises(DataError, match=r"not a unit of slope\. Choose one of ratio, percent"):
        slope_in(1.0, "gradians")


@pytest.mark.parametrize(("unit", "limits"), [("percent", (50, 100)), ("degrees", (30, 45)), ("one_in", (2, 1))])
def test_a_ramp_lies_in_one_band_in_every_unit(unit, limits):
    bands = slope_bands(RAMP, limits, unit)
    assert bands["plan_area"].tolist() == pytest.approx([0.0, 1200.0, 0.0])
    assert bands["slope_area"].sum() == pytest.approx(RAMP.slope_area) == pytest.approx(1500.0)
    assert bands["share_percent"].sum() == pytest.approx(100.0)
    with pytest.raises(DataError, match="must rise from above 0, the steeper later"):
        slope_bands(RAMP, limits[::-1], unit)


@given(st.integers(0, 300), st.lists(st.floats(0.1, 4.9), min_size=1, max_size=4, unique=True))
def test_bands_of_height_divide_triangles_exactly(seed, limits):
    ground = random_ground(seed)
    edges = sorted(limits)
    bands = height_bands(ground, edges)
    assert bands["plan_area"].sum() == pytest.approx(ground.plan_area)
    assert bands["slope_area"].sum() == pytest.approx(ground.slope_area)
    assert (bands["plan_area"] >= -1e-9).all()
    # Cut in half anywhere, a band is the sum of its halves.
    middle = (0.0 + edges[0]) / 2.0
    assert height_bands(ground, [middle, *edges])["plan_area"].iloc[:2].sum() == pytest.approx(
        bands["plan_area"].iloc[0], abs=1e-6
    )


def test_bands_of_height_on_a_cone_are_those_of_circles():
    angle = np.linspace(0, 2 * np.pi, 720, endpoint=False)
    ring = np.column_stack((10 * np.cos(angle), 10 * np.sin(angle), np.zeros(720)))
    cone = evrin.triangulate(np.vstack((ring, [[0, 0, 10.0]])))
    assert height_bands(cone, [4.0])["plan_area"].tolist() == pytest.approx([64 * np.pi, 36 * np.pi], rel=1e-4)
    for limits in ([5, 4], [], [np.nan]):
        with pytest.raises(DataError, match="must rise"):
            height_bands(cone, limits)


def test_aspect_is_the_bearing_downhill_and_level_ground_has_none():
    for bearing in range(0, 360, 45):
        fall = np.array([np.sin(np.radians(bearing)), np.cos(np.radians(bearing))])
        xy = lattice(4)
        plane = evrin.triangulate(np.column_stack((xy, -0.1 * xy @ fall)))
        assert np.allclose((aspects(plane) - bearing + 180) % 360 - 180, 0.0)
        bands = aspect_bands(plane)
        assert bands["falls"].tolist() == ["N", "NE", "E", "SE", "S", "SW", "W", "NW", "level"]
        assert bands["plan_area"].iloc[bearing // 45] == pytest.approx(plane.plan_area)
    flat = evrin.triangulate(np.column_stack((lattice(3), np.full(9, 7.0))))
    assert np.isnan(aspects(flat)).all() and aspect_bands(flat)["share_percent"].iloc[-1] == 100.0


def test_usual_bands_are_round_and_what_has_none_is_refused():
    assert areas_of(RAMP, "slope", unit="one_in")["to"].iloc[0] == 50.0
    assert areas_of(RAMP, "height")["to"].tolist() == [5, 10, 15, 20, 25, 30] and usual_interval(RAMP) == 1.25
    flat = evrin.triangulate(np.column_stack((lattice(3), np.full(9, 7.0))))
    assert areas_of(flat, "height")["plan_area"].sum() == pytest.approx(4.0)
    for by, limits in (("aspect", (1, 2)), ("relief", ())):
        with pytest.raises(DataError, match="aspect"):
            areas_of(RAMP, by, limits)


@given(st.integers(0, 200))
def test_arrows_point_down_at_the_slope_of_their_triangle(seed):
    ground = random_ground(seed)
    arrows = flow_arrows(ground, 7.0)
    assert np.hypot(*arrows.directions.T) == pytest.approx(1.0)
    step = 1e-6
    falls = ground.height(*arrows.places.T) - ground.height(*(arrows.places + step * arrows.directions).T)
    same = ground.triangles_at(*arrows.places.T) == ground.triangles_at(*(arrows.places + step * arrows.directions).T)
    assert np.allclose(falls[same] / step, arrows.slopes[same], rtol=1e-3, atol=1e-6)
    for spacing in (0.0, -1.0, 1e-4):
        with pytest.raises(DataError, match="choose a wider one"):
            flow_arrows(ground, spacing)


@settings(max_examples=40)
@given(st.integers(0, 500), st.booleans(), st.booleans())
def test_water_never_climbs_and_ends_where_it_states(seed, whole, at_site):
    ground = random_ground(seed, whole=whole)
    if at_site:
        ground = evrin.triangulate(ground.vertices + [*SITE, 40.0])
    rng = np.random.default_rng(seed)
    low, high = ground.vertices[:, :2].min(axis=0), ground.vertices[:, :2].max(axis=0)
    starts = rng.uniform(low, high, (12, 2))
    starts = np.vstack((starts[ground.triangles_at(*starts.T) >= 0], ground.vertices[:5, :2]))
    for start, path in zip(starts, water_paths(ground, starts), strict=True):
        assert (path.points[0, :2] == start).all() and (np.diff(path.points[:, 2]) <= 0.0).all()
        heights = ground.height(*path.points.T[:2])
        known = np.isfinite(heights)  # rounding may put a place on the rim just outside
        assert np.abs(heights - path.points[:, 2])[known].max() < 1e-9 * 50 + (1e-6 if at_site else 0.0)
        # Nowhere between does the path rise either: it is straight inside triangles.
        middles = (path.points[:-1] + path.points[1:]) / 2.0
        between = ground.height(*middles.T[:2])
        assert not (between > path.points[:-1, 2] + 1e-6).any() and not (between < path.points[1:, 2] - 1e-6).any()
        end = path.points[-1]
        if path.end == "pit":
            at_end = (ground.vertices[ground.triangles, :2] == end[:2]).all(axis=2).any(axis=1)
            around = ground.vertices[ground.triangles[at_end]]
            assert len(around) and (around[..., 2] >= end[2] - 1e-12).all()
        assert path.fall >= 0.0 and path.length >= 0.0


def test_water_takes_the_valley_the_steepest_side_and_stops_on_level_ground():
    x, y = (each.ravel() for each in np.meshgrid(np.arange(0.0, 9.0), np.arange(0.0, 9.0)))
    valley = evrin.triangulate(
        np.column_stack((x, y, np.abs(x - 4.0) + 0.1 * y)), breaklines=[[[4, 0, 0], [4, 8, 0.8]]]
    )
    (path,) = water_paths(valley, [(1.3, 6.7)])
    assert path.end == "edge of the surface" and path.points[-1].tolist() == [4.0, 0.0, 0.0]
    assert (path.points[path.points[:, 1] < 5.0, 0] == 4.0).all()
    table = evrin.triangulate(np.column_stack((x, y, np.where((np.abs(x - 4) <= 1) & (np.abs(y - 4) <= 1), 1.0, 3.0))))
    (into,) = water_paths(table, [(4.2, 5.7)])
    assert into.end == "level ground" and into.points[-1, 2] == 1.0
    (still,) = water_paths(table, [(4.1, 4.2)])
    assert still.end == "level ground" and still.length == 0.0
    with pytest.raises(DataError, match=r"-5\.000, 2\.000 lies outside the surface"):
        water_paths(valley, [(1, 1), (-5, 2)])


def flooded(ground, vertex):
    """The lowest level at which water from a vertex reaches the rim, by trying the levels of all vertices."""
    z = ground.vertices[:, 2]
    rim = {int(v) for loop in ground.rim() for v in loop}
    edges = ground.edges.tolist()
    for level in np.unique(z[z >= z[vertex]]).tolist():
        wet, grew = {vertex}, True
        while grew:
            new = {b for a, b in edges + [e[::-1] for e in edges] if a in wet and b not in wet and z[b] <= level}
            grew = bool(new)
            wet |= new
        if wet & rim:
            return level
    raise AssertionError("water found no way out")


@settings(max_examples=15)
@given(st.integers(0, 300))
def test_hollows_spill_where_flooding_them_step_by_step_does(seed):
    ground = random_ground(seed, count=45)
    found = hollows(ground).set_index("vertex")
    for vertex, row in found.iterrows():
        floor = ground.vertices[vertex, 2]
        assert row["depth"] == pytest.approx(row["spill_height"] - floor) and row["depth"] > 0.0
        # A hollow inside a deeper one spills into it before it reaches the rim.
        assert row["spill_height"] <= flooded(ground, int(vertex)) + 1e-12
    if len(found):
        deepest = int(found.index[0])
        assert found["depth"].is_monotonic_decreasing
        lowest = int(found["height"].idxmin())
        assert found.loc[lowest, "spill_height"] == flooded(ground, lowest)
        assert deepest in found.index
    assert len(hollows(ground, 1.0)) == (found["depth"] >= 1.0).sum()


def test_a_bowl_holds_water_to_its_lowest_lip_and_a_heap_rises_from_its_saddle():
    x, y = (each.ravel() for each in np.meshgrid(np.arange(0.0, 21.0), np.arange(0.0, 11.0)))
    two = np.maximum(6 - np.hypot(x - 5, y - 5), 4 - np.hypot(x - 15, y - 5))
    ground = evrin.triangulate(np.column_stack((x, y, two)))
    peaks = summits(ground)
    assert peaks[["easting", "northing", "height"]].values.tolist()[:2] == [[5, 5, 6], [15, 5, 4]]
    assert peaks["rise"].iloc[0] == pytest.approx(6 - two.min()) and peaks["saddle_height"].iloc[1] < 2.0
    pits = hollows(evrin.triangulate(np.column_stack((x, y, -two))))
    assert pits[["easting", "northing", "height"]].values.tolist() == [[5, 5, -6], [15, 5, -4]]
    assert pits["depth"].iloc[1] == pytest.approx(peaks["rise"].iloc[1])
    assert len(hollows(RAMP)) == 0 and len(summits(RAMP, 40.0)) == 0


def test_level_ground_is_reported_part_by_part():
    x, y = (each.ravel() for each in np.meshgrid(np.arange(0.0, 12.0), np.arange(0.0, 6.0)))
    z = np.where(x < 4, 1.0, np.where(x > 7, 3.0, x * 0.37 + 0.01 * y))
    found = level_ground(evrin.triangulate(np.column_stack((x, y, z))))
    assert found["height"].tolist() == [3.0, 1.0] or found["height"].tolist() == [1.0, 3.0]
    assert found["plan_area"].tolist() == [15.0, 15.0] and found["triangles"].sum() == 60
    assert len(level_ground(RAMP)) == 0 and len(level_ground(evrin.triangulate([[0, 0, 1], [9, 0, 1], [0, 9, 1]]))) == 1


@given(st.integers(0, 200))
def test_the_distance_to_shots_is_that_of_a_search_one_by_one(seed):
    ground = random_ground(seed)
    moved = evrin.triangulate(ground.vertices + [*SITE, 0.0])
    places = np.random.default_rng(seed).uniform(0, 100, (9, 2))
    wanted = np.hypot(*(places[:, None] - ground.vertices[None, :, :2]).transpose(2, 0, 1)).min(axis=1)
    assert distance_to_shots(ground, places) == pytest.approx(wanted)
    assert distance_to_shots(moved, places + SITE) == pytest.approx(wanted, abs=1e-6)


def test_added_vertices_are_not_shots_and_the_trust_map_shows_it():
    shots = Shots.of_file("day1.csv", [1, 2, 3, 4])
    square = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0], [5, 5, 0]])
    order = [
        int(np.flatnonzero((square.vertices[:, :2] == xy).all(axis=1))[0])
        for xy in ((0, 0), (10, 0), (10, 10), (0, 10))
    ]
    shot_of = np.full(5, -1, np.int32)
    shot_of[order] = np.arange(4)
    ground = square.with_lines((), Provenance(shots, shot_of))
    known = trust(ground, nodes=10_000)
    assert known.largest[0] == pytest.approx(np.sqrt(50.0), abs=0.15) and known.spacing == 5.0
    assert known.largest[1:] == pytest.approx((5.0, 5.0), abs=0.15)
    bands = known.bands([2.0, 4.0])
    assert bands["plan_area"].iloc[0] == pytest.approx(4 * np.pi, rel=0.05)
    assert bands["share_percent"].sum() == pytest.approx(100.0)
    assert known.bands()["to"].tolist() == [2.5, 5.0, 10.0, 20.0, np.inf]
    sources = figures_by_source(ground)
    assert sources["file"].tolist() == ["(made)", "day1.csv"] and sources["vertices"].tolist() == [1, 4]
    assert sources["plan_area"].sum() == pytest.approx(100.0)


def test_only_triangles_larger_than_those_round_them_are_too_large():
    xy = lattice(24)
    hole = (np.abs(xy - 12.0) < 4.6).all(axis=1)
    ground = evrin.triangulate(np.column_stack((xy[~hole], np.zeros((~hole).sum()))) + [0, 0, 1])
    large = too_large(ground)
    middles = ground.vertices[ground.triangles[large], :2].mean(axis=1)
    assert 4 < large.sum() < 60 and (np.abs(middles - 12.0) < 5.0).all()
    assert (
        too_large(ground, most=3).sum() <= 3 and not too_large(evrin.triangulate(np.column_stack((xy, xy[:, 0])))).any()
    )
    # Ground that grows coarser bit by bit is not too large anywhere.
    x = np.cumsum(1.06 ** np.arange(40))
    coarser = np.array([(a, b, 0.0) for a in x for b in x])
    assert too_large(evrin.triangulate(coarser)).mean() < 0.02
    shore = SourceLine(
        "pond", np.column_stack((np.array([[8, 8], [16, 8], [16, 16], [8, 16.0]]), np.full(4, 1.0))), True, "flat"
    )
    assert not too_large(ground.with_lines((shore,))).any()


def test_the_figures_of_a_surface_are_those_of_its_shape():
    figures = surface_figures(RAMP)
    assert (figures["plan_area"], figures["slope_area"]) == pytest.approx((1200.0, 1500.0))
    assert figures["mean_slope_percent"] == pytest.approx(75.0) == pytest.approx(figures["steepest_percent"])
    assert (figures["edges"], figures["rim_length"], figures["longest_edge"]) == (5, 140.0, 50.0)
    assert figures["mean_height"] == pytest.approx(15.0) and figures["breakline_edges"] == 0
    apart = evrin.Surface.from_arrays(
        np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [5, 5, 0], [6, 5, 0], [5, 6, 0.0]]), [[0, 1, 2], [3, 4, 5]]
    )
    assert surface_figures(apart)["parts"] == 2 and surface_figures(apart)["lowest"] == 0.0
    (row,) = figures_by_source(RAMP).to_dict(orient="records")
    assert row["file"] == "(not known)" and row["share_percent"] == pytest.approx(100.0)
