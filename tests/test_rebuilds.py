"""Tables switched off and on, tallies that balance, and stages that are kept, found again and never half written."""

import json
import multiprocessing
import shutil
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from evrin import Recipe
from evrin.demo import lay_out as lay_out_demo
from evrin.recipe import RecipeDocument
from evrin.recipe.store import FOLDER, FolderStore
from random_recipes import FILES, field, recipes
from sites import lay_out


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
    assert [name for name in [stage.name for stage in without.stages] if name in ("read", "triangulate", "check")]
    switched(path, table, True)
    after = Recipe.read(path).build(keep=True)
    assert bytes_of(after) == bytes_of(before)
    assert [str(finding) for finding in after.findings] == [str(finding) for finding in before.findings]
    assert after.tally.equals(before.tally)


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
    assert "made vertex" not in known


def test_a_group_of_tables_at_a_time_ends_with_the_whole_recipe(tmp_path):
    lay_out_demo(tmp_path)
    recipe = Recipe.read(tmp_path / "clean.toml")
    steps = recipe.steps()
    assert [label for label, _ in steps][:2] == ["sources as selected", "lines weeded and filled"]
    assert steps[-1][1].tables == recipe.tables and len(steps) == 8


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
    assert reused(second) == {"read", "clean", "triangulate", "reach", "trim", "carve"}
    assert second.changed == ["[edit]"]
    assert bytes_of(second) == bytes_of(Recipe.read(path).build()) != bytes_of(first)
    path.write_text(path.read_text().replace("longest_edge       = 30.0", "longest_edge = 25.0"))
    third = Recipe.read(path).build(keep=True)
    assert reused(third) == {"read", "clean", "triangulate"} and third.changed == ["[trim]"]


def test_a_file_that_changed_is_read_again_and_the_others_are_not(tmp_path):
    path = demo_copy(tmp_path)
    Recipe.read(path).build(keep=True)
    day2 = tmp_path / "field" / "day2.csv"
    day2.write_text(day2.read_text().replace("FIELD\n", "GRASS\n", 1))
    again = Recipe.read(path).build(keep=True)
    assert again.changed == ["file field/day2.csv"] and reused(again) == set()
    assert "day 1, pond edge, track log as kept" in again.stages[0].did


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
    (part / "told.json").write_text('{"dict":')
    found = store.load("one")
    assert found["places"].tolist() == [[0, 1, 2], [3, 4, 5]] and found["names"].tolist() == ["a", "b"]
    assert store.load("two") is None and store.load("part-abc") is None
    import os

    os.utime(part, (0, 0))
    store.tidy()
    assert not part.exists() and store.load("one") is not None


KILLED = """
import os, sys
from evrin import Recipe
from evrin.recipe import store
real = store.json.dumps
def dying(*args, **kinds):
    folder = sys.argv[1] + "/.evrin-cache"
    if os.path.isdir(folder) and len(os.listdir(folder)) > 4:
        os.kill(os.getpid(), 9)
    return real(*args, **kinds)
store.json.dumps = dying
Recipe.read(sys.argv[1] + "/clean.toml").build(keep=True)
"""


def test_a_build_killed_while_it_keeps_results_does_no_harm(tmp_path):
    path = demo_copy(tmp_path)
    done = subprocess.run([sys.executable, "-c", KILLED, str(tmp_path)], check=False)
    assert done.returncode == -9 and any(p.name.startswith("part-") for p in (tmp_path / FOLDER).iterdir())
    assert bytes_of(Recipe.read(path).build(keep=True)) == bytes_of(Recipe.read(path).build())


def built_bytes(path):
    return bytes_of(Recipe.read(path).build(keep=True))


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
    back = store.load("k")
    assert back[0].codes.tolist() == ["x\x1fy", "é"] and back[0].numbers.tolist() == ["", ""]
    assert back[0].describe(1) == shots.describe(1)
    assert np.isnan(back[1].points[0, 2]) and back[1].effect == "contour" and back[1].closed is True
    assert back[2:] == value[2:]
