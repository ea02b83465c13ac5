"""What may be counted on where lines, rings and the rim meet at rounding distances (docs/what-you-can-count-on.md)."""

import logging
import os
import subprocess
import sys
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import evrin
import exact
import fields
from evrin import Recipe
from evrin.base.errors import DataError, GeometryError
from evrin.making import Triangulation
from evrin.making.limits.cleaned_rings import cleaned_ring, self_crossing
from evrin.tin.exact.snap import snap_width
from evrin.tin.mesh.working_mesh import Mesh
from sites import grid_field, lay_out
from zoo import small_grid

SCRIPTS = Path(__file__).parents[1] / "benchmarks"


def level(places):
    return np.column_stack((np.array(places, float), np.zeros(len(places))))


@pytest.mark.thorough
def test_random_fields_and_recipes_hold_all_that_is_promised_with_every_index_checked():
    started = [
        subprocess.Popen(
            [sys.executable, SCRIPTS / name, "--count", str(count)],
            env=os.environ | {"EVRIN_CHECKS": checks},
            stdout=subprocess.PIPE,
            text=True,
        )
        for name, count, checks in (("random_fields.py", 30, "1"), ("random_recipes.py", 25, "0"))
    ]
    for process, kinds in zip(started, (fields.KINDS, ("plain", "extreme", "far")), strict=True):
        table = process.communicate()[0]
        assert process.returncode == 0, table
        assert [row.split()[0] for row in table.splitlines()[1:]] == list(kinds)


def test_the_judge_sees_ground_lost_shots_lost_and_lines_broken(monkeypatch):
    field = fields.make("nested", 3)
    assert fields.judge(field) == []
    whole = fields.build
    monkeypatch.setattr(fields, "build", lambda field: whole(field, field.rings[:1]))
    assert any("area" in wrong for wrong in fields.judge(field))
    output = ""
    for field in (fields.make("spikes", seed) for seed in range(8)):
        less = fields.Field(field.kind, field.seed, field.xy[2::2], [], field.rings)
        monkeypatch.setattr(fields, "build", lambda _, less=less: whole(less))
        output += " ".join(fields.judge(field))
    assert "shots well inside" in output and "is not there whole" in output


@pytest.mark.parametrize("decimals", [None, 3])
@given(seed=st.integers(0, 10**6))
def test_a_limit_drawn_along_the_rim_keeps_all_the_ground(decimals, seed):
    rng = np.random.default_rng(seed)
    turn = np.exp(1j * rng.uniform(0, 2 * np.pi))
    corners = np.array([0, 200, 200 + 120j, 120j]) * turn
    inside = (rng.uniform(2, 198, 40) + 1j * rng.uniform(2, 118, 40)) * turn
    place = np.array([431000.0, 5412000.0])
    xy = place + np.column_stack((np.append(corners, inside).real, np.append(corners, inside).imag))
    ring = []
    for a, b in zip(xy[:4], np.roll(xy[:4], -1, axis=0), strict=True):
        ring += [a, *(a + np.sort(rng.uniform(0, 1, rng.integers(1, 6)))[:, None] * (b - a))]
    ring = np.array(ring) if decimals is None else np.round(ring, decimals)
    ground = evrin.triangulate(level(xy), boundaries=[ring])
    expected = shapely.Polygon(ring - place).intersection(shapely.MultiPoint(xy - place).convex_hull)
    assert ground.plan_area == pytest.approx(expected.area, abs=snap_width(xy) * expected.length)


def test_fields_that_crashed_hung_or_divided_by_zero_now_end_as_they_should():
    shots, line = np.array([(0.0, 0), (0, 1), (3, 2)]), np.array([(2.5, 5), (10 / 3, 0)])
    ring = np.array([(5.0, 2), (5, 2), (1, 4), (4, 3), (4, 3), (2, 3)])
    assert fields.judge(fields.Field("ring that names vertices twice", 0, shots, [line], [ring])) == []
    rim = level([(-17.01, 59.46), (-12.68, 61.96), (0.31, 69.46), (4.64, 71.96), (17.63, 79.46)])
    with pytest.raises(GeometryError, match="no triangle is left"):
        evrin.triangulate(rim, boundaries=[[(33.39, 69.88), (18.03, 78.91), (6.89, 80.87)]])


def test_a_shot_within_the_snap_width_of_a_line_is_on_it_and_one_beyond_is_not():
    corners = [(0, 0), (100, 0), (100, 100), (0, 100)]
    width = snap_width(np.array(corners, float))
    for away, is_on in ((0.5 * width, True), (3.0 * width, False)):
        work = Mesh(np.array([*corners, (0.0, 50.0), (100.0, 50.0), (40.0, 50.0 + away)]), np.zeros(7))
        work.force(np.array([[4, 5]], np.int32), np.ones(1, np.bool_))
        reading = work.read()
        ends = {
            frozenset(t[[k, (k + 1) % 3]].tolist())
            for t, ls in zip(reading.triangles, reading.lines, strict=True)
            for k in range(3)
            if ls[k] >= 0
        }
        assert (ends == {frozenset((4, 6)), frozenset((6, 5))}) == is_on
        assert work.snapped == is_on


def test_places_within_the_snap_width_of_each_other_are_one_and_are_counted(tmp_path):
    offset = 2.0**-33
    rows = grid_field()
    near = f"91,2810.000,{4010.2 + offset!r},40.100,GRASS\n"
    build = Recipe.read(lay_out(tmp_path, field=rows + near)).build()
    stage = next(stage for stage in build.stages if stage.name == "triangulate")
    assert "1 place merged within" in stage.did and len(build.surface.vertices) == 36
    assert build.tally["read"].iloc[-1] == 37 and build.tally.iloc[-1, 2:].sum() == 37


def test_repeated_vertices_and_spikes_are_taken_out_of_a_limit_and_noted(tmp_path, caplog, monkeypatch):
    ring = [(4002, 2802), (4020, 2802), (4020, 2802), (4020, 2830), (4020, 2820), (4002, 2820)]
    rows = "".join(f"r,{x},{y}\n" for x, y in [*ring, ring[0]])
    table = '[[boundary]]\nname = "limit"\nfile = "r.csv"\neffect = "keep"\n'
    build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), r__csv="line,x,y\n" + rows)).build()
    (note,) = [finding for finding in build.findings if finding.code == "boundary-cleaned"]
    assert note.severity == "note" and "1 repeated vertex removed, 1 spike removed" in note.message
    assert build.surface.plan_area == pytest.approx(18.0**2)
    # Another package may have switched off, while it set up its own, the loggers that were there.
    monkeypatch.setattr(logging.getLogger("evrin"), "disabled", False)
    with caplog.at_level(logging.INFO, "evrin"):
        again = evrin.triangulate(build.surface.vertices, boundaries=[np.array(ring, float)])
    assert again.plan_area == pytest.approx(18.0**2) and "1 spike removed" in caplog.text
    with pytest.raises(DataError, match="encloses no area"):
        evrin.triangulate(build.surface.vertices, boundaries=[[(0, 0), (4, 0), (8, 0), (2, 0)]])


@given(st.lists(st.tuples(small_grid, small_grid), min_size=3, max_size=9))
def test_a_ring_crosses_itself_just_where_two_sides_pass_through_each_other(vertices):
    try:
        ring, _ = cleaned_ring(np.array(vertices), "ring")
    except DataError:
        assume(False)
    found = self_crossing(ring)
    if shapely.Polygon(ring).is_valid:
        assert found is None
    sides = [(ring[k], ring[(k + 1) % len(ring)]) for k in range(len(ring))]
    through = [
        k
        for k, (a, b) in enumerate(sides)
        for c, d in sides[k + 1 :]
        if exact.sign(exact.turn(a, b, c)) * exact.sign(exact.turn(a, b, d)) < 0
        and exact.sign(exact.turn(c, d, a)) * exact.sign(exact.turn(c, d, b)) < 0
    ]
    if through:
        assert found is not None and found[0] <= through[0]
    if found is not None:
        a, b = sides[found[0]]
        x, y = map(Fraction, found[1])
        assert abs(float(exact.turn(a, b, (x, y)))) < 1e-12


def test_a_ring_that_crosses_itself_is_an_error_at_the_place_where_it_does(tmp_path):
    rows = "line,x,y\nr,4001,2801\nr,4021,2821\nr,4021,2801\nr,4001,2821\nr,4001,2801\n"
    table = '[[boundary]]\nfile = "r.csv"\neffect = "keep"\n'
    build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), r__csv=rows)).build()
    (finding,) = [finding for finding in build.findings if finding.code == "self-crossing-boundary"]
    assert finding.severity == "error" and finding.place == (4011.0, 2811.0)


@pytest.mark.parametrize("spacing", ["1e-8", "1e-300"])
def test_a_spacing_that_would_make_millions_of_vertices_is_refused_by_name(tmp_path, spacing):
    line = "line,x,y,z\nW,4002,2803,41\nW,4020,2818,41.2\n"
    source = f'[[source]]\nfile = "w.csv"\nrole = "breaklines"\nfill = {{ spacing = {spacing} }}\n'
    with pytest.raises(DataError, match=r"fill W: a spacing of .* at most 2,000,000 are allowed. Give a larger"):
        Recipe.read(lay_out(tmp_path, source, field=grid_field(), w__csv=line)).build()


def test_ground_reaches_a_ring_however_far_with_a_bounded_number_of_places(tmp_path):
    ring = "line,x,y\nr,-90000,-90000\nr,90000,-90000\nr,90000,90000\nr,-90000,90000\nr,-90000,-90000\n"
    table = '[[boundary]]\nfile = "r.csv"\neffect = "keep"\nreach = 10.0\n'
    build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), r__csv=ring)).build()
    assert 30.0**2 < build.surface.plan_area < 46.0**2 and len(build.surface.vertices) < 5_000


@given(st.floats(0.0, 1.0), st.floats(-50.0, 50.0), st.floats(-50.0, 50.0))
def test_heights_on_a_triangle_without_width_stay_between_those_of_its_corners(part, east, north):
    assume(abs(east) + abs(north) > 1.0)
    ends = np.array([[0.0, 0.0], [east, north]])
    offset = np.array([-north, east]) * 2.0**-44
    corners = np.column_stack((np.vstack((ends, 0.3 * ends[1] + offset)), [10.0, 20.0, 13.0]))
    try:
        ground = evrin.triangulate(np.vstack((corners, [[-north * 2, east * 2, 0.0]])))
    except GeometryError:
        assume(False)
    x, y = part * ends[1] + 0.3 * offset
    height = ground.height(x, y)
    if np.isfinite(height):
        assert height == pytest.approx(10.0 + 10.0 * part, abs=1e-6)


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10**6), st.sampled_from([0.0, 5e5]))
def test_in_clusters_of_any_scale_each_shot_is_a_vertex_or_merged_within_the_snap_width_and_counted(seed, base):
    rng = np.random.default_rng(seed)
    sizes = 10.0 ** rng.integers(-14, 3, 6)
    clusters = [rng.uniform(0.0, 1000.0, 2) + rng.normal(0.0, size, (30, 2)) for size in sizes]
    xy = np.vstack((*clusters, [[0.0, 0.0], [900.0, 0.0], [0.0, 900.0]])) + base
    work = Triangulation(np.column_stack((xy, rng.uniform(0.0, 3.0, len(xy)))))
    vertices = work.surface()[0].vertices[:, :2]
    away = np.sqrt(((xy[:, None, :] - vertices[None, :, :]) ** 2).sum(axis=2)).min(axis=1)
    assert away.max() <= snap_width(xy)
    assert len(np.unique(xy, axis=0)) - len(vertices) == work.near_places
    assert len(np.unique(xy[away > 0.0], axis=0)) == work.near_places
