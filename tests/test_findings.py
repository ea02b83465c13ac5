"""Each rule finds what was planted, names the shots, states how to fix it, and is silent otherwise."""

import re
from pathlib import Path

import pytest

import evrin
from evrin import Recipe
from evrin.check import RULES, rule
from evrin.recipe.building.schema import tables_model
from sites import grid_field, lay_out

FIELD = grid_field(8)
ROWS = FIELD.splitlines(keepends=True)


def findings(folder, field=FIELD, extra="", **files):
    return Recipe.read(lay_out(folder, extra, field=field, **files)).build().findings


def changed(row, height):
    parts = ROWS[row].split(",")
    return "".join([*ROWS[:row], ",".join([*parts[:3], f"{height}", parts[4]]), *ROWS[row + 1 :]])


def only(found, code):
    assert [finding.code for finding in found] == [code] * len(found) and found
    assert all(finding.fix and finding.message for finding in found)
    return found


def test_a_clean_field_has_no_findings(tmp_path):
    assert findings(tmp_path) == []


@pytest.mark.parametrize("height", [0.0, 0.4, -0.3])
def test_a_shot_at_zero_height(tmp_path, height):
    (found,) = only(findings(tmp_path, changed(27, height)), "zero-height")
    assert found.severity == "error" and found.shots == ("shot 28, code GRASS, day1.csv line 28",)
    assert 'numbers = ["28"]' in found.fix


def test_low_ground_by_the_sea_is_not_at_zero_height(tmp_path):
    tidal = grid_field(8, height=lambda x, y: 0.02 * (x - 4000) - 0.3)
    assert findings(tmp_path, tidal) == []


@pytest.mark.parametrize(("height", "side"), [(50.3, "above the ground"), (35.0, "below the ground")])
def test_a_bust_up_or_down_is_a_spike(tmp_path, height, side):
    (found,) = only([f for f in findings(tmp_path, changed(27, height)) if f.code != "hollow"], "height-spike")
    assert side in found.message and found.shots[0].startswith("shot 28,")
    assert found.place == (pytest.approx(4015.0), 2815.0)


def test_a_steep_heap_is_not_a_spike(tmp_path):
    heap = grid_field(8, height=lambda x, y: 40 + max(0.0, 6 - 0.7 * (abs(x - 4017) + abs(y - 2817))))
    assert [f for f in findings(tmp_path, heap) if f.code == "height-spike"] == []


def test_unlike_heights_at_one_place_and_like_ones_merge(tmp_path):
    parts = ROWS[9].split(",")
    again = ",".join(["99", *parts[1:3], f"{float(parts[3]) + 0.62:.3f}", "GRASS\n"])
    (found,) = only(findings(tmp_path, FIELD + again), "unlike-heights")
    assert "0.620 m apart" in found.message and found.severity == "warning"
    assert [text.split(",")[0] for text in found.shots] == ["shot 10", "shot 99"]
    assert findings(tmp_path, FIELD + ROWS[9]) == []
    close = ",".join(["99", *parts[1:3], f"{float(parts[3]) + 0.01:.3f}", "GRASS\n"])
    (note,) = findings(tmp_path, FIELD + close)
    assert note.severity == "note" and not note.is_open


def test_control_far_off_the_site(tmp_path):
    (found,) = only(findings(tmp_path, FIELD + "C1,9000,8000,40,CTRL\n"), "far-off-site")
    assert found.shots == ("shot C1, code CTRL, day1.csv line 65",) and found.is_open


def test_breaklines_that_cross_at_unlike_heights(tmp_path):
    lines = "line,x,y,z\nA,4003,2803,40.5\nA,4031,2831,40.5\nB,4003,2831,38.5\nB,4031,2803,38.5\n"
    source = '[[source]]\nfile = "x.csv"\nrole = "breaklines"\n'
    (found,) = [f for f in findings(tmp_path, extra=source, x__csv=lines) if f.code == "crossing-breaklines"]
    assert found.place == pytest.approx((4017.0, 2817.0)) and "2.000 m apart" in found.message
    assert sorted(found.shots) == ["A: x.csv lines 2 to 3", "B: x.csv lines 4 to 5"]
    agreed = lines.replace("38.5", "40.51")
    assert [f for f in findings(tmp_path, extra=source, x__csv=agreed) if f.code == "crossing-breaklines"] == []


RING = "line,x,y\nr,4002,2802\nr,4030,2802\nr,4030,2830\nr,4002,2830\nr,4002,2802\n"
KEEP = '[[boundary]]\nfile = "r.csv"\neffect = "keep"\n'


def test_shots_beyond_the_boundary_are_a_note_a_file(tmp_path):
    (found,) = only(findings(tmp_path, extra=KEEP, r__csv=RING), "outside-boundary")
    assert found.severity == "note" and "32 shots lie outside" in found.message


def test_open_and_self_crossing_boundaries(tmp_path):
    short = RING.rsplit("r,", 1)[0]
    assert any(
        f.code == "open-boundary" and "28.000 m from its first vertex" in f.message
        for f in findings(tmp_path, extra=KEEP, r__csv=short)
    )
    bow = "line,x,y\nr,4002,2802\nr,4030,2830\nr,4030,2802\nr,4002,2830\nr,4002,2802\n"
    found = [f for f in findings(tmp_path, extra=KEEP, r__csv=bow) if f.code == "self-crossing-boundary"]
    assert len(found) == 1 and found[0].severity == "error"
    assert not [f for f in findings(tmp_path, extra=KEEP, r__csv=RING) if f.code == "self-crossing-boundary"]


def test_triangles_that_stay_larger_than_the_longest_edge(tmp_path):
    hollow = "".join(r for k, r in enumerate(ROWS) if not (2 <= k % 8 <= 5 and 2 <= k // 8 <= 5))
    found = findings(tmp_path, hollow, "[trim]\nlongest_edge = 8.0\n")
    (large,) = only([f for f in found if f.is_open], "long-edges")
    assert "neighbouring triangles" in large.message and len(large.shots) == 3
    x, y = large.place
    assert 4005 < x < 4030 and 2805 < y < 2830


def test_rows_that_could_not_be_used_are_one_finding_a_file(tmp_path):
    (found,) = only(findings(tmp_path, FIELD + "a\nb\nc\nd\ne\n"), "refused-rows")
    assert "5 items of day1.csv" in found.message and "and 2 more" in found.message
    assert "day1.csv line 65" in found.message


def test_a_line_of_one_shot(tmp_path):
    codes = '[field_codes]\ncode = [{ match = "TOP", means = "line" }]\n'
    (found,) = only(findings(tmp_path, FIELD + "70,2812,4012,40,TOP7\n", codes), "lone-line-shot")
    assert "TOP7" in found.message and found.shots == ("day1.csv line 65",)


ACCEPT = '\n[[accept]]\nfinding = "height-spike"\nat = [4015.2, 2815.1]\nwhy = "a chimney"\n'


def test_an_accepted_finding_stays_with_its_reason_and_is_not_open(tmp_path):
    build = Recipe.read(lay_out(tmp_path, ACCEPT, field=changed(27, 55.0))).build()
    (found,) = build.findings
    assert found.accepted == "a chimney" and build.open_findings == []
    elsewhere = Recipe.read(lay_out(tmp_path, ACCEPT.replace("4015.2", "4005"), field=changed(27, 55.0))).build()
    assert {(f.code, f.is_open) for f in elsewhere.findings} == {("height-spike", True), ("unmet-acceptance", False)}
    off = Recipe.read(lay_out(tmp_path, ACCEPT + "on = false\n", field=changed(27, 55.0))).build()
    assert len(off.open_findings) == 1


def test_a_finding_without_a_place_is_accepted_without_one(tmp_path):
    accept = '\n[[accept]]\nfinding = "refused-rows"\nwhy = "known"\n'
    assert Recipe.read(lay_out(tmp_path, accept, field=FIELD + "a\n")).build().open_findings == []


def test_every_finding_is_made_by_a_declared_rule_of_a_declared_severity():
    tables_model()
    assert len(RULES) >= 47 and sum(rule.check is not None for rule in RULES.values()) >= 20
    source = "".join(path.read_text(encoding="utf-8") for path in Path(evrin.__file__).parent.rglob("*.py"))
    assert len(re.findall(r"(?<!class )\bFinding\(", source)) == 1
    with pytest.raises(ValueError, match="two rules"):
        rule("hollow", "the same again")
