"""Tables switched off and on, tallies that balance, and stages that are kept, found again and never written in part."""

import json
import multiprocessing
import shutil
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from evrin import EvrinError, Recipe
from evrin.check.rule_registry import run_rules
from evrin.demo.laying_out import lay_out as lay_out_demo
from evrin.recipe import RecipeDocument
from evrin.recipe.store.kept_results import FOLDER, FolderStore
from random_recipes import FILES, field, recipes
from sites import BASE, lay_out


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    return tmp_path_factory.mktemp("random")


def bytes_of(build):
    ground = build.surface
    return ground.vertices.tobytes() + ground.triangles.tobytes() + ground.edge_lines.tobytes()


def tables_that_switch(path):
    return [row["table"] for row in RecipeDocument(path).rows() if row["table"] not in ("source:1", "check", "carve")]


def switched(path, table, on):
    document = RecipeDocument(path)
    kind, _, number = table.partition(":")
    document.switch(kind, int(number) if number else None, on)
    document.save()


@pytest.mark.thorough
@settings(max_examples=40)
@given(text=recipes(), pick=st.integers(0, 1000))
def test_switching_any_table_off_and_on_again_brings_back_the_same_surface(folder, text, pick):
    path = lay_out(folder, base=text, field=field(), **FILES)
    before = Recipe.read(path).build()
    tables = tables_that_switch(path)
    if not tables:
        return
    table = tables[pick % len(tables)]
    switched(path, table, False)
    without = Recipe.read(path).build(keep=True)
    assert {"read", "triangulate", "check"} <= {stage.name for stage in without.stages}
    switched(path, table, True)
    after = Recipe.read(path).build(keep=True)
    assert bytes_of(after) == bytes_of(before)
    assert [str(finding) for finding in after.findings] == [str(finding) for finding in before.findings]
    assert after.tally.equals(before.tally)


@pytest.mark.thorough
@settings(max_examples=60)
@given(text=recipes())
def test_the_tally_balances_whatever_the_recipe(folder, text):
    build = Recipe.read(lay_out(folder, base=text, field=field(), **FILES)).build()
    tally = build.tally.set_index("source")
    assert (tally.drop(columns="read").sum(axis=1) == tally["read"]).all()
    assert (tally >= 0).all().all() and (tally.drop("all").sum() == tally.loc["all"]).all()
    assert tally.loc["day 1", "read"] == 39
    shots = build.surface.provenance.shot_of
    assert tally.loc["all", "used"] == len(set(shots[shots >= 0].tolist()))
    known = [build.surface.provenance.describe(v) for v in range(len(build.surface.vertices))]
    assert "added vertex" not in [str(text) for text in known]


def test_a_group_of_tables_at_a_time_ends_with_the_whole_recipe(tmp_path):
    lay_out_demo(tmp_path)
    recipe = Recipe.read(tmp_path / "clean.toml")
    steps = recipe.steps()
    assert [label for label, _ in steps][:2] == ["sources as selected", "lines weeded and filled"]
    assert steps[-1][1].tables == recipe.tables and len(steps) == 8


ROWS = {"read", "weed", "heights from shots", "flats", "busts", "duplicates"}


def reused(build):
    return {stage.name for stage in build.stages if stage.reused}


def demo_copy(tmp_path):
    lay_out_demo(tmp_path)
    return tmp_path / "clean.toml"


def test_only_what_an_edit_changed_is_made_again(tmp_path):
    path = demo_copy(tmp_path)
    first = Recipe.read(path).build(keep=True)
    assert reused(first) == set() and first.changed is None
    path.write_text(path.read_text().replace("by      = 0.15", "by      = 0.25"))
    second = Recipe.read(path).build(keep=True)
    assert reused(second) == {*ROWS, "triangulate", "boundaries", "trim", "carve"}
    assert second.changed == ["[edit]"]
    assert bytes_of(second) == bytes_of(Recipe.read(path).build()) != bytes_of(first)
    path.write_text(path.read_text().replace("longest_edge       = 30.0", "longest_edge = 25.0"))
    third = Recipe.read(path).build(keep=True)
    assert reused(third) == {*ROWS, "triangulate"} and third.changed == ["[trim]"]


def test_a_file_that_changed_is_read_again_and_the_others_are_not(tmp_path):
    path = demo_copy(tmp_path)
    Recipe.read(path).build(keep=True)
    day2 = tmp_path / "field" / "day2.csv"
    day2.write_text(day2.read_text().replace("FIELD\n", "GRASS\n", 1))
    again = Recipe.read(path).build(keep=True)
    assert again.changed == ["file field/day2.csv"] and reused(again) == set()
    assert again.stages[0].from_cache == ("day 1", "pond edge", "track log")


def test_fresh_finds_nothing_and_replaces_what_was_kept(tmp_path):
    path = demo_copy(tmp_path)
    first = Recipe.read(path).build(keep=True)
    fresh = Recipe.read(path).build(keep=True, fresh=True)
    assert reused(fresh) == set() and bytes_of(fresh) == bytes_of(first)
    assert reused(Recipe.read(path).build(keep=True)) >= {"read", "carve"}


def test_entries_that_are_cut_short_or_no_json_are_made_again(tmp_path):
    path = demo_copy(tmp_path)
    first = Recipe.read(path).build(keep=True)
    for entry in (tmp_path / FOLDER).iterdir():
        if entry.is_dir():
            for file in entry.iterdir():
                file.write_bytes(file.read_bytes()[: file.stat().st_size // 2])
    again = Recipe.read(path).build(keep=True)
    assert reused(again) == set() and bytes_of(again) == bytes_of(first)
    shutil.rmtree(tmp_path / FOLDER)
    assert bytes_of(Recipe.read(path).build(keep=True)) == bytes_of(first)


def test_parts_left_by_a_kill_are_no_entries_and_are_tidied_away(tmp_path):
    store = FolderStore(tmp_path / FOLDER)
    store.save("one", {"places": np.arange(6.0).reshape(2, 3), "names": np.array(["a", "b"], object)})
    part = tmp_path / FOLDER / "part-abc"
    part.mkdir()
    (part / "output.json").write_text('{"dict":')
    (part / "kept-by-evrin").touch()
    found = store.load("one", dict)
    assert found["places"].tolist() == [[0, 1, 2], [3, 4, 5]] and found["names"].tolist() == ["a", "b"]
    assert store.load("two", dict) is None and store.load("part-abc", dict) is None and store.load("one", list) is None
    import os

    os.utime(part, (0, 0))
    store.tidy()
    assert not part.exists() and store.load("one", dict) is not None


KILLED = """
import os, sys
from evrin import EvrinError, Recipe
from evrin.recipe.store import kept_results as store
real = store.json.dumps
def dying(*args, **kinds):
    folder = sys.argv[1] + "/.evrin-cache"
    if os.path.isdir(folder) and len(os.listdir(folder)) > 4:
        os.kill(os.getpid(), 9)
    return real(*args, **kinds)
store.json.dumps = dying
Recipe.read(sys.argv[1] + "/clean.toml").build(keep=True)
"""


@pytest.mark.slow
def test_a_build_killed_while_it_keeps_results_does_no_harm(tmp_path):
    path = demo_copy(tmp_path)
    done = subprocess.run([sys.executable, "-c", KILLED, str(tmp_path)], check=False)
    assert done.returncode == -9 and any(p.name.startswith("part-") for p in (tmp_path / FOLDER).iterdir())
    assert bytes_of(Recipe.read(path).build(keep=True)) == bytes_of(Recipe.read(path).build())


def built_bytes(path):
    return bytes_of(Recipe.read(path).build(keep=True))


@pytest.mark.slow
def test_two_builds_at_once_give_the_same(tmp_path):
    path = demo_copy(tmp_path)
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        assert len(set(pool.map(built_bytes, [path] * 4))) == 1
    assert not [p for p in (tmp_path / FOLDER).iterdir() if p.name.startswith("part-")]


def test_where_nothing_can_be_kept_a_build_goes_on_all_the_same(tmp_path):
    path = demo_copy(tmp_path)
    (tmp_path / FOLDER).write_text("a file where the folder should be")
    build = Recipe.read(path).build(keep=True)
    assert build.open_findings == [] and build.changed is None
    elsewhere = tmp_path / "elsewhere"
    Recipe.read(path).build(keep=elsewhere)
    assert (elsewhere / "README.txt").exists() and json.loads((elsewhere / "last-clean.toml.json").read_text())


def test_values_of_every_kind_come_back_from_the_store(tmp_path):
    from evrin.check import Finding
    from evrin.surface import Shots, SourceLine

    store = FolderStore(tmp_path / FOLDER)
    shots = Shots.of_file("a.csv", [3, 4], "", np.array(["x\x1fy", "é"], object))
    line = SourceLine("L", np.array([[1.0, 2.0, np.nan]]), True, "contour", "a.csv line 3")
    value = [shots, line, (1, None, True, 2.5, {"k"}), {7: "seven"}, Finding("c", "note", (1.0, 2.0), "m")]
    store.save("k", value)
    back = store.load("k", list)
    assert back[0].codes.tolist() == ["x\x1fy", "é"] and back[0].numbers.tolist() == ["", ""]
    assert back[0].describe(1) == shots.describe(1)
    assert np.isnan(back[1].points[0, 2]) and back[1].effect == "contour" and back[1].closed is True
    assert back[2:] == value[2:]


DEGENERATE = {
    "one point": "1,2810,4010,40,A\n",
    "two at one place": "1,2810,4010,40,A\n2,2810,4010,41,A\n",
    "all in a line": "".join(f"{k},{2800 + k},{4000 + k},40,A\n" for k in range(1, 20)),
    "three": "1,2800,4000,40,A\n2,2800,4030,40,A\n3,2830,4010,41,A\n",
    "all level": "".join(f"{k},{2800 + 5 * (k // 6)},{4000 + 5 * (k % 6)},0,A\n" for k in range(36)),
    "no heights": "".join(f"{k},{2800 + k},{4000 + k * k},,A\n" for k in range(9)),
    "nan": "1,2800,4000,nan,A\n2,2800,4030,inf,A\n3,2830,4010,41,A\n4,2810,4003,41,A\n5,2813,4020,40,A\n",
    "huge": "1,2800,4000,40,A\n2,1e9,4030,40,A\n3,2830,-1e9,41,A\n4,2810,4003,1e9,A\n",
}


@pytest.mark.thorough
@settings(max_examples=60)
@given(text=recipes(), name=st.sampled_from(sorted(DEGENERATE)))
def test_whatever_the_field_a_recipe_builds_or_gives_the_reason(folder, text, name):
    path = lay_out(folder, base=text, field=DEGENERATE[name], **FILES)
    try:
        build = Recipe.read(path).build()
    except EvrinError as error:
        assert str(error)
        return
    ground = build.surface
    assert len(ground.triangles) and np.isfinite(ground.vertices).all() and (ground.triangle_areas > 0.0).all()
    tally = build.tally.set_index("source")
    assert (tally.drop(columns="read").sum(axis=1) == tally["read"]).all()


def test_lines_of_a_recipe_are_cut_weeded_and_filled_and_every_vertex_is_tallied(tmp_path):
    wall = "line,x,y,z\n" + "".join(f"W,{4001 + k},{2802 + k / 2:.2f},{40 + 0.01 * k:.2f}\n" for k in range(20))
    source = '[[source]]\nfile = "w.csv"\nname = "wall"\nrole = "breaklines"\nweed = { tolerance = 0.05 }\n'
    cut = '[[cut_line]]\nline = "W*"\nat = [4015.5, 2809.25]\nkeep = "before"\nwhy = "it ends at the gate"\n'
    path = lay_out(tmp_path, base=BASE + source + "fill = { spacing = 4.0 }\n" + cut, field=field(), w__csv=wall)
    build = Recipe.read(path).build()
    tally = build.tally.set_index("source").loc["wall"]
    assert (tally["read"], tally["used"], tally["weeded"], tally["left_out"]) == (20, 1, 14, 5)
    line = next(each for each in build.surface.lines if each.name == "W")
    assert len(line.points) == 6 and line.points[-1].tolist() == pytest.approx([4015.5, 2809.25, 40.145])
    did = {stage.name: stage.did for stage in build.stages}
    assert did["cut lines"] == "1 line cut, 5 vertices left out"
    assert did["weed"] == "16 line vertices weeded to 2, largest deviation 0.000 m"
    assert did["fill"] == "4 vertices added to lines"
    output = [build.surface.provenance.describe(v) for v in range(len(build.surface.vertices))]
    assert output.count("added on W") == 5
    removed = path.read_text().replace("4015.5, 2809.25", "4100.0, 2900.0")
    path.write_text(removed)
    (unmet,) = [f for f in Recipe.read(path).build().findings if f.code == "cut-does-not-fit"]
    assert "cut_line 1 was not applied: the nearest line W* is" in unmet.message and unmet.is_open
    between = removed.replace('at = [4100.0, 2900.0]\nkeep = "before"', "at = [4005.0, 2804.0]\nto = [4010.0, 2806.5]")
    path.write_text(between)
    lines = {each.name: each.points for each in Recipe.read(path).build().surface.lines}
    assert set(lines) == {"W", "W (2)"} and lines["W"][-1, 0] == 4005.0 and lines["W (2)"][0, 0] == 4010.0


def test_refusing_depends_on_what_counts_as_agreement_even_when_kept(tmp_path):
    lines = "line,x,y,z\nA,4003,2803,40.5\nA,4021,2821,40.5\nB,4003,2821,40.4\nB,4021,2803,40.4\n"
    text = BASE + '[[source]]\nfile = "x.csv"\nrole = "breaklines"\n[crossings]\npolicy = "refuse"\n[check]\n'
    path = lay_out(tmp_path, base=text + "height_tolerance = 0.2\n", field=field(), x__csv=lines)
    assert Recipe.read(path).build(keep=True).surface is not None
    path.write_text(text + "height_tolerance = 0.05\n")
    with pytest.raises(EvrinError, match=r"0\.100 m apart: A and B cross"):
        Recipe.read(path).build(keep=True)


def test_findings_are_kept_until_something_they_rest_on_changes(tmp_path, monkeypatch):
    path = lay_out(
        tmp_path,
        base=BASE + '[[check_points]]\nfile = "c.csv"\ncolumns = "PNEZ"\n',
        field=field(),
        c__csv="1,2805,4005,43\n",
    )
    first = Recipe.read(path).build(keep=True)
    asked = []
    monkeypatch.setattr("evrin.recipe.build.run_rules", lambda evidence: asked.append(1) or run_rules(evidence))
    again = Recipe.read(path).build(keep=True)
    assert not asked and [f.message for f in again.findings] == [f.message for f in first.findings]
    assert [f.shots for f in again.findings] == [f.shots for f in first.findings]
    code = first.open_findings[0].code
    path.write_text(path.read_text() + f'[[accept]]\nfinding = "{code}"\nwhy = "seen"\n')
    Recipe.read(path).build(keep=True)
    assert not asked
    (tmp_path / "c.csv").write_text("1,2805,4005,49\n")
    Recipe.read(path).build(keep=True)
    path.write_text(path.read_text() + "[check]\nheight_tolerance = 0.5\n")
    Recipe.read(path).build(keep=True)
    assert len(asked) == 2
