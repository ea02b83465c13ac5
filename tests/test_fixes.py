"""Findings bring the tables that fix them: pasted into a recipe they settle what they are about."""

import numpy as np
import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import Recipe
from evrin.base.errors import RecipeError
from evrin.check import RULES, fix_tables
from evrin.making.editor import Editor
from evrin.recipe import checked_edit
from evrin.recipe.steps.accept import Accept
from evrin.recipe.steps.leave_out import LeaveOut
from evrin.survey.doubts.doubtful_edges import find_doubtful_edges
from sites import grid_field, lay_out
from test_findings import FIELD, ROWS, changed, findings


def pasted(folder, field, extra=""):
    """Open findings before and after the fixes are pasted at the end of the recipe."""
    path = lay_out(folder, extra, field=field)
    build = Recipe.read(path).build()
    path.write_text(path.read_text(encoding="utf-8") + "\n" + fix_tables(build.findings), encoding="utf-8")
    return build.open_findings, Recipe.read(path).build()


@pytest.mark.parametrize(
    "field", [changed(27, 0.0), changed(27, 55.0), changed(0, 0.0), FIELD + "C1,9000,8000,40,CTRL\n"]
)
def test_a_wrong_shot_is_left_out_by_what_is_pasted(tmp_path, field):
    before, build = pasted(tmp_path, field)
    assert before and build.open_findings == []
    assert build.tally["left_out"].iloc[-1] == len(before)
    for finding in before:
        (table,) = tomlkit.parse(finding.snippet).unwrap()["leave_out"]
        assert LeaveOut.model_validate(table).numbers and table["why"] and table["file"] == "day1.csv"


def test_of_two_heights_at_one_place_the_first_is_kept_after_the_fix(tmp_path):
    parts = ROWS[9].split(",")
    again = ",".join(["99", *parts[1:3], f"{float(parts[3]) + 0.62:.3f}", "GRASS\n"])
    before, build = pasted(tmp_path, FIELD + again)
    assert [finding.code for finding in before] == ["unlike-heights"] and build.open_findings == []
    east, north, height = (float(parts[k]) for k in (2, 1, 3))
    assert float(build.surface.height(east, north)) == pytest.approx(height)


@pytest.mark.parametrize(("off", "severity"), [(0.004, "note"), (0.3, "warning")])
def test_a_spot_shot_twice_a_centimetre_apart_is_reported(tmp_path, off, severity):
    number, north, east, height, _ = ROWS[27].split(",")
    again = f"99,{float(north) + 0.008:.3f},{east},{float(height) + off:.3f},GRASS\n"
    (found,) = [f for f in findings(tmp_path, FIELD + again) if f.code == "close-shots"]
    assert found.severity == severity and f"0.008 m apart in plan, {off:.3f} m in height" in found.message
    assert sorted(text.split(",")[0] for text in found.shots) == [f"shot {number}", "shot 99"]
    assert findings(tmp_path, FIELD + again, "[duplicates]\nwithin = 0.02\n")[0].code == "near-duplicates"
    if severity == "warning":
        _, build = pasted(tmp_path, FIELD + again)
        assert build.open_findings == []
    walls = "".join(
        f"{70 + k},{2812 + 0.01 * (k > 4):.3f},{4004 + 5 * (k % 5)},{41 + (k > 4)},TOP{1 + (k > 4)}\n"
        for k in range(10)
    )
    codes = '[field_codes]\ncode = [{ match = "TOP", means = "line" }]\n'
    assert not [f for f in findings(tmp_path, FIELD + walls, codes) if f.code == "close-shots"]


def test_what_takes_a_judgement_comes_as_a_comment_to_be_filled_in(tmp_path):
    path = lay_out(tmp_path, field=FIELD + "a\n")
    build = Recipe.read(path).build()
    text = fix_tables(build.findings)
    assert tomlkit.parse(text).unwrap() == {} and "# [[accept]]" in text
    filled = "\n".join(row.removeprefix("# ") for row in text.splitlines()[-3:]).replace('""', '"known"')
    Accept.model_validate(tomlkit.parse(filled).unwrap()["accept"][0])
    path.write_text(path.read_text(encoding="utf-8") + "\n" + filled + "\n", encoding="utf-8")
    assert Recipe.read(path).build().open_findings == []
    assert fix_tables([]) == fix_tables(Recipe.read(path).build().findings) == "# no finding is open"


def test_triangles_that_are_too_large_are_removed_by_what_is_pasted(tmp_path):
    hollow = "".join(r for k, r in enumerate(ROWS) if not (2 <= k % 8 <= 5 and 2 <= k // 8 <= 5))
    before, build = pasted(tmp_path, hollow, "[trim]\nlongest_edge = 8.0\n")
    assert [finding.code for finding in before] == ["long-edges"] and build.open_findings == []
    assert len(build.surface.rim()) == 2  # with a hole where the ground was not shot


def ridge(seed=0):
    """Shots on a ridge and its flanks, the crest shots farther apart than the flanks are."""
    rng = np.random.default_rng(seed)
    crest = np.column_stack((np.arange(0.0, 61.0, 12.0), np.full(6, 20.0), np.full(6, 10.0)))
    flank = [
        (x, 20.0 + s * d, 10.0 - d / 2) for x in np.arange(6.0, 60.0, 12.0) for s in (1, -1) for d in (3.0, 9.0, 18.0)
    ]
    return np.vstack((crest, flank)) + np.column_stack((rng.normal(0, 0.01, (36, 2)), rng.normal(0, 0.01, 36)))


@given(st.integers(0, 60))
def test_edges_across_a_ridge_are_found_and_their_flips_settle_it(seed):
    xyz = ridge(seed)
    ground = evrin.triangulate(xyz)
    found = find_doubtful_edges(ground)
    truth = 10.0 - np.abs(found.places[:, 1] - 20.0) / 2
    wrong = ground.height(*found.places.T) - truth
    assert len(found.changes) >= 3 and (wrong < -1.0).all()
    assert np.abs(wrong + found.changes).max() < 0.2
    editor = Editor.of(ground)
    for place in found.places.tolist():
        editor.flip(tuple(place))
    repaired = editor.surface()
    assert len(find_doubtful_edges(repaired).changes) == 0
    valley = evrin.triangulate(xyz * [1, 1, -1])
    assert find_doubtful_edges(valley).changes == pytest.approx(-found.changes)


@given(st.integers(0, 100), st.sampled_from([0.005, 0.05, 0.5]))
def test_rough_ground_has_no_doubtful_edges(seed, noise):
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, 100, (400, 2))
    z = 0.05 * xy[:, 0] + 3 * np.sin(xy[:, 1] / 20) + rng.normal(0, noise, 400)
    assert len(find_doubtful_edges(evrin.triangulate(np.column_stack((xy, z)))).changes) == 0


def test_breaklines_are_never_in_doubt():
    held = evrin.triangulate(ridge(), breaklines=[ridge()[:6]])
    assert len(find_doubtful_edges(held).changes) == 0


def test_a_doubtful_edge_is_reported_with_its_flip_ready_to_paste(tmp_path):
    rows = "".join(f"{k},{y:.3f},{x:.3f},{z:.3f},HEAP\n" for k, (x, y, z) in enumerate(ridge(), 1))
    before, build = pasted(tmp_path, rows)
    assert {finding.code for finding in before} == {"doubtful-edge"} and build.open_findings == []
    (table,) = tomlkit.parse(before[0].snippet).unwrap()["edit"]
    assert checked_edit(table).do == "flip" and len(table["joins"]) == 2
    assert "ridge" in before[0].message and len(before[0].shots) == 4
    assert len(build.edits) == len(before)


def test_shots_are_left_out_by_line_where_they_have_no_number(tmp_path):
    bare = "".join(",".join(row.strip().split(",")[1:4]) + "\n" for row in ROWS)
    base = '[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "NEZ"\n'
    path = lay_out(tmp_path, '[[leave_out]]\nfile = "day1.csv"\nlines = [1, 64]\n', field=bare, base=base)
    build = Recipe.read(path).build()
    assert build.tally["left_out"].iloc[-1] == 2 and build.open_findings == []
    assert len(build.surface.vertices) == 62
    off = path.read_text().replace("lines = [1, 64]", "lines = [1, 64]\non = false")
    path.write_text(off)
    assert Recipe.read(path).build().tally["left_out"].iloc[-1] == 0


def test_a_shot_to_leave_out_that_is_not_there_is_reported(tmp_path):
    extra = '[[leave_out]]\nnumbers = ["3", "777"]\n[[leave_out]]\nfile = "day9.csv"\nnumbers = ["4"]\n'
    found = [f for f in findings(tmp_path, FIELD, extra) if f.code == "leave-out-unmet"]
    assert sorted(f.message for f in found) == [
        "leave_out 1: no shot 777 that could be left out",
        "leave_out 2: no shot 4 in day9.csv that could be left out",
    ]
    assert all(f.is_open for f in found)


def test_a_vertex_of_a_line_can_be_left_out_and_the_line_goes_on(tmp_path):
    line = "".join(f"{70 + k},2812,{4004 + 5 * k},{41 + (k == 2) * 9},TOP1\n" for k in range(5))
    codes = '[field_codes]\ncode = [{ match = "TOP", means = "line" }]\n[[leave_out]]\nnumbers = ["72"]\n'
    build = Recipe.read(lay_out(tmp_path, codes, field=FIELD + line)).build()
    assert float(build.surface.height(4014.0, 2812.0)) == pytest.approx(41.0, abs=1e-9)
    assert [f.code for f in build.open_findings] == []


def test_leave_out_names_which(tmp_path):
    for table in ("", 'numbers = ["1"]\nlines = [1]', "lines = [2]"):
        with pytest.raises(RecipeError, match=r"numbers of the shots|lines are numbers of lines in a file"):
            Recipe.read(lay_out(tmp_path, f"[[leave_out]]\n{table}\n", field=FIELD))


CHECKED = '\n[[check_points]]\nfile = "check.csv"\ncolumns = "PNEZ"\ntolerance = 0.05\n'


def test_check_points_of_a_recipe_are_compared_at_every_build(tmp_path):
    good = "901,2812.5,4012.5,40.125\n902,2822.5,4022.5,40.225\n"
    path = lay_out(tmp_path, CHECKED, field=FIELD, check__csv=good)
    build = Recipe.read(path).build()
    ((name, checked),) = build.checked
    assert name == "check.csv" and checked.passed and build.open_findings == []
    (tmp_path / "check.csv").write_text(good + "903,2817.5,4017.5,40.4\n")
    (found,) = Recipe.read(path).build(keep=True).open_findings
    assert found.code == "check-point-off" and found.place == (4017.5, 2817.5) and len(found.shots) == 3
    assert "below check point 903" in found.message and "tolerance is 0.05" in found.message
    again = Recipe.read(path).build(keep=True)
    assert again.changed == [] and [f.code for f in again.open_findings] == ["check-point-off"]
    path.write_text(path.read_text().replace("tolerance = 0.05\n", ""))
    assert Recipe.read(path).build().open_findings == []
    (tmp_path / "check.csv").write_text("901,2812.5,4012.5,\n" + good)
    assert [f.code for f in Recipe.read(path).build().open_findings] == ["refused-rows"]
    path.write_text(path.read_text() + "on = false\n")
    assert Recipe.read(path).build().checked == []


def test_a_hollow_and_a_gap_are_notes(tmp_path):
    dug = grid_field(8, height=lambda x, y: 40.0 - 1.0 * (4012 < x < 4023 and 2812 < y < 2823))
    notes = [f for f in findings(tmp_path, dug) if f.code == "hollow"]
    assert len(notes) == 1 and not notes[0].is_open and "collects 1.00 m deep" in notes[0].message


def test_every_rule_has_severities_and_those_that_find_by_themselves_a_fix():
    for code, rule in RULES.items():
        assert set(rule.severities) <= {"error", "warning", "note"}
        assert rule.fix or rule.check is None, code
    with pytest.raises(ValueError, match="declares no severity"):
        RULES["hollow"].finding(None, "deep", severity="error")


def test_the_fixes_of_the_demo_settle_eleven_of_seventeen(run, demo):
    text = run("check", "raw.toml", "--fixes", code=1).stdout
    path = demo[0] / "pasted.toml"
    path.write_text((demo[0] / "raw.toml").read_text(encoding="utf-8") + "\n" + text, encoding="utf-8")
    left = Recipe.read(path).build().open_findings
    assert (
        sorted({f.code for f in left}) == ["check-point-off", "crossing-breaklines", "refused-rows"] and len(left) == 6
    )
    path.unlink()
    assert run("check", "clean.toml", "--fixes").stdout == "# no finding is open\n"
