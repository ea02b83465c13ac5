"""Findings are listed to the last one, judged by their neighbourhood, and accepted by code and place."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import Recipe
from evrin.survey.doubts.height_busts import find_busts
from sites import grid_field, lay_out


def rows_of(xyz, code="GRASS", first=1):
    return "".join(f"{first + k},{y:.3f},{x:.3f},{z:.3f},{code}\n" for k, (x, y, z) in enumerate(xyz))


def rough(count, seed=1):
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, 200, (count, 2)) + (4000, 2800)
    return np.column_stack((xy, 40.0 + rng.normal(0, 0.02, count)))


@pytest.mark.parametrize("wrong", [30, 80])
def test_every_bust_is_named_in_json_and_the_terminal_tells_how_to_list_the_rest(run, tmp_path, wrong):
    field = rough(600)
    field[:wrong, 2] = 0.0
    path = lay_out(tmp_path, '[busts]\nleave_out = ["zero"]\n', field=rows_of(field))
    answer = json.loads(run("check", path, "--json", folder=tmp_path).stdout)
    named = {shot["number"] for row in answer["rows"] if row["code"] == "bust-left-out" for shot in row["shots"]}
    assert named == {str(k) for k in range(1, wrong + 1)}
    shown = run("check", path, folder=tmp_path).stdout
    assert "--code bust-left-out" in shown and "more" in shown
    every = run("check", path, "--code", "bust-left-out", folder=tmp_path).stdout
    assert all(f"shot {k}," in every for k in range(1, wrong + 1))
    assert "Did you mean bust-left-out" in run("check", path, "--code", "bust-left", code=2, folder=tmp_path).stderr


def test_an_acceptance_needs_a_finding_of_its_code_and_place_and_a_switch_keeps_its_reason(run, tmp_path):
    twice = "900,2810.0,4010.2,40.9,GRASS\n901,2815.0,4015.0,41.3,GRASS\n"
    path = lay_out(tmp_path, "[trim]\nlongest_edge = 30\n", field=grid_field() + twice)
    before = path.read_text()
    for words, why in (
        (("unlike-heigts",), "Did you mean unlike-heights"),
        (("hollow",), "no finding hollow now"),
        (("unlike-heights",), "give --at E,N. They are at 40"),
        (("unlike-heights", "--at", "4022,2802"), "no finding unlike-heights within 1"),
    ):
        assert why in run("edit", path, "accept", *words, "--why", "soft", code=2, folder=tmp_path).stderr
    assert path.read_text() == before
    run("edit", path, "accept", "unlike-heights", "--at", "4010,2810", "--why", "soft ground", folder=tmp_path)
    built = Recipe.read(path).build()
    assert [f.accepted for f in built.findings if f.code == "unlike-heights"] == ["soft ground", None]
    with pytest.raises(evrin.RecipeError, match="Did you mean unlike-heights"):
        Recipe.read(lay_out(tmp_path, '[[accept]]\nfinding = "unlike-height"\nwhy = "x"\n'))
    path.write_text(before)
    run("edit", path, "off", "trim", "--why", "as a trial", folder=tmp_path)
    assert 'why = "off: as a trial"' in path.read_text() and not Recipe.read(path).tables.trim.on
    run("edit", path, "on", "trim", "--why", "it is needed", folder=tmp_path)
    assert Recipe.read(path).tables.trim.why == "it is needed" and Recipe.read(path).tables.trim.on


def contour_map(tmp_path, levels, places):
    rows = ["line,x,y,z\n"]
    for k, (level, x) in enumerate(zip(levels, places, strict=True)):
        rows += [f"c{k},{4000 + x + 2 * np.sin(y / 17.0):.3f},{2800 + y},{level}\n" for y in np.arange(0, 101, 2.5)]
    (tmp_path / "c.csv").write_text("".join(rows))
    (tmp_path / "c.toml").write_text('[[source]]\nfile = "c.csv"\nrole = "contours"\n')
    return [f for f in Recipe.read(tmp_path / "c.toml").build().findings if f.code == "odd-contour"]


def test_contours_at_two_intervals_are_no_alarm_and_a_missing_one_is_found_at_either(tmp_path):
    levels = [40 + 0.5 * k for k in range(10)] + [45.0 + k for k in range(10)]
    places = [8.0 * k for k in range(10)] + [80.0 + 4.0 * k for k in range(10)]
    assert contour_map(tmp_path, levels, places) == []
    for left, step in ((5, "0.5"), (14, "1")):
        kept = [k for k in range(20) if k != left]
        (found,) = contour_map(tmp_path, [levels[k] for k in kept], [places[k] for k in kept])
        assert found.severity == "warning" and f"others around are {step} apart" in found.message
    (odd,) = contour_map(tmp_path, [53.0 if k == 6 else level for k, level in enumerate(levels)], places)
    assert odd.severity == "error" and "at 53 does not fit its neighbours, which are at 42.5 and 43.5" in odd.message


@given(st.integers(0, 10**6), st.integers(5, 12), st.floats(0.8, 3.0), st.floats(0.0, 3.1))
def test_the_top_of_a_wall_shot_as_spots_is_a_feature_and_a_lone_bust_beside_it_is_none(seed, count, height, turn):
    rng = np.random.default_rng(seed)
    east, north = np.meshgrid(np.arange(-36.0, 37.0, 3.0), np.arange(-36.0, 37.0, 3.0))
    ground = np.column_stack((east.ravel(), north.ravel())) + rng.uniform(-0.5, 0.5, (east.size, 2))
    along = (np.arange(count) - count / 2.0) * 4.0
    wall = np.column_stack((along * np.cos(turn), along * np.sin(turn)))
    ground = ground[np.hypot(*(ground[:, None] - wall).transpose(2, 0, 1)).min(axis=1) > 0.5]
    bust = np.array([[-32.2, 31.3]])
    xy = np.vstack((ground, wall, bust))
    z = rng.normal(0, 0.02, len(xy))
    z[len(ground) : -1] += height
    z[-1] += 5.0
    surface = evrin.triangulate(np.column_stack((xy, z)))
    found = find_busts(surface)
    assert surface.vertices[found.vertices, :2].tolist() == bust.tolist()


def test_check_points_that_are_shots_of_the_surface_are_counted_apart(tmp_path):
    own = "".join(line for line in grid_field().splitlines(keepends=True)[7:15])
    true = "".join(f"c{k},{2802.5 + 5 * k},{4002.5 + 5 * k},{40.08 + 0.05 * k},C\n" for k in range(3))
    table = '[[check_points]]\nfile = "cp.csv"\ncolumns = "PNEZD"\ntolerance = 0.2\n'
    mixed = Recipe.read(lay_out(tmp_path, table, field=grid_field(), cp__csv=own + true)).build()
    alone = Recipe.read(lay_out(tmp_path, table, field=grid_field(), cp__csv=true)).build()
    figures = mixed.checked[0][1].figures()
    assert figures | {"own": 0} == alone.checked[0][1].figures() and figures["own"] == 8 and figures["count"] == 3
    (found,) = [f for f in mixed.open_findings if f.code == "check-point-own"]
    assert "8 check points are shots of the surface itself" in found.message and len(found.shots) == 8
    only = Recipe.read(lay_out(tmp_path, table, field=grid_field(), cp__csv=own)).build().checked[0][1]
    assert only.passed is None and only.figures()["count"] == 0
