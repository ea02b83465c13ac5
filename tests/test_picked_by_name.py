"""Tables, layers and vertices are picked by what people call them, and a change can be taken back."""

import json

import ezdxf
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from evrin.base.errors import DataError
from evrin.recipe import Recipe, RecipeDocument

RECIPE = """# The site.
[site]
name = "Ostrel Weir"

[[source]]
file = "field/day1.csv"  # the first day
role = "points"

[[source]]
name = "leat"
file = "field/leat.csv"
role = "breaklines"

[[flat]]
name = "pond north"
places = [[4060.0, 2860.0], [4070.0, 2860.0], [4070.0, 2870.0], [4060.0, 2870.0]]
level = 41.5

[[flat]]
name = "pond south"
places = [[4010.0, 2810.0], [4020.0, 2810.0], [4020.0, 2820.0], [4010.0, 2820.0]]
level = 41.0

[trim]
longest_edge = 30.0
"""


@pytest.fixture
def site(tmp_path):
    (tmp_path / "field").mkdir()
    rows = [f"{k},{4000 + 10 * (k % 9)},{2800 + 10 * (k // 9)},{42 + (k % 9) / 10},LAWN" for k in range(81)]
    (tmp_path / "field/day1.csv").write_text("number,easting,northing,height,code\n" + "\n".join(rows))
    (tmp_path / "field/leat.csv").write_text("line,easting,northing,height\nL,4005,2805,42\nL,4075,2875,42.5\n")
    (tmp_path / "site.toml").write_text(RECIPE)
    return tmp_path / "site.toml"


def states(path):
    """Which tables are off."""
    return {row["table"] for row in RecipeDocument(path).rows() if not row["on"]}


@pytest.mark.parametrize(
    ("words", "off"),
    [
        (["leat"], {"source:2"}),
        (["day1.csv"], {"source:1"}),
        (["DAY1", "trim"], {"source:1", "trim"}),
        (["pond*"], {"flat:1", "flat:2"}),
        (["pond north", "field/leat.csv"], {"flat:1", "source:2"}),
        (["flat:2"], {"flat:2"}),
    ],
)
def test_tables_are_switched_by_name_file_kind_or_pattern_and_undo_brings_the_text_back(site, run, words, off):
    run("edit", site, "off", *words, "--why", "looked wrong")
    assert states(site) == off
    run("edit", site, "on", *words)
    assert states(site) == set()
    run("edit", site, "undo")
    run("edit", site, "undo")
    assert site.read_text() == RECIPE
    assert "no change is on record" in run("edit", site, "undo", code=2).stderr


def test_what_is_not_called_so_or_means_several_is_refused_with_names(site, run):
    assert "Is pond north" in run("edit", site, "off", "pond nort", code=2).stderr
    assert "there are 2: write its number" in run("edit", site, "off", "flat", code=2).stderr
    text = RECIPE.replace('name = "leat"', 'name = "day1"')
    site.write_text(text)
    assert "source:1, source:2: write which" in run("edit", site, "off", "day1", code=2).stderr
    assert site.read_text() == text
    run("edit", site, "drop", "pond*", "trim")
    assert [row["table"] for row in RecipeDocument(site).rows()] == ["source:1", "source:2"]


def test_keys_are_put_into_the_one_table_that_is_meant(site, run):
    run("edit", site, "put", "leat", "raise_by=0.25")
    assert Recipe.read(site).tables.source[1].raise_by == 0.25
    assert "which source?" in run("edit", site, "put", "source", "raise_by=0.1", code=2).stderr
    run("edit", site, "drop", "leat")
    run("edit", site, "put", "source", "raise_by=0.1")
    tables = Recipe.read(site).tables
    assert len(tables.source) == 1 and tables.source[0].raise_by == 0.1
    run("edit", site, "put", "source", "file=field/leat.csv", "role=breaklines")
    assert len(Recipe.read(site).tables.source) == 2


def test_undo_refuses_to_lose_what_another_program_wrote(site, run):
    run("edit", site, "off", "trim")
    site.write_text(site.read_text() + "# by hand\n")
    assert "another program" in run("edit", site, "undo", code=2).stderr and "by hand" in site.read_text()


@given(
    st.lists(st.sampled_from(["off trim", "on trim", "drop pond*", "put trim longest_edge=25", "undo"]), max_size=12)
)
@settings(max_examples=25, deadline=None)
def test_changes_and_undo_in_any_order_come_back_to_every_text_before(tmp_path_factory, words):
    path = tmp_path_factory.mktemp("undo") / "site.toml"
    (path.parent / "field").mkdir()
    for name in ("day1.csv", "leat.csv"):
        (path.parent / "field" / name).touch()
    path.write_text(RECIPE)
    texts = [RECIPE]
    for word in words:
        document = RecipeDocument(path)
        try:
            if word == "undo":
                document.take_back()
            elif word.startswith("drop"):
                for kind, number in reversed(document.tables_named("pond*")):
                    document.drop(kind, number)
            elif word.startswith("put"):
                document.put("trim", None, {"longest_edge": 25.0})
            else:
                document.switch("trim", None, word == "on trim")
            document.save()
        except DataError:
            continue
        if word == "undo":
            texts.pop()
        elif document.text != texts[-1]:
            texts.append(document.text)
        assert path.read_text() == texts[-1]


def test_corners_stand_in_the_recipe_and_hold_the_ground_as_a_file_would(site, run):
    build = Recipe.read(site).build()
    assert float(build.surface.height(4065.0, 2865.0)) == 41.5 and float(build.surface.height(4015.0, 2815.0)) == 41.0
    run("edit", site, "boundary", "--places", "4002,2802 4078,2802 4078,2878 4002,2878")
    assert Recipe.read(site).build().surface.plan_area == pytest.approx(76.0**2)
    assert "places need a level" in run("edit", site, "put", "flat", "places=[[1,1],[2,1],[2,2]]", code=2).stderr
    assert "give a file with the ring" in run("edit", site, "boundary", code=2).stderr


@pytest.mark.parametrize("near", ["nan", "inf", "0", "-1", "1e-8", "1e300"])
def test_the_nearest_vertex_is_taken_where_that_is_asked_for_and_its_shot_is_named(site, run, near):
    refused = run("edit", site, "raise", "--at", "4042.4,2831.0", "--by", "0.5", code=2)
    assert "--near 5 takes the nearest vertex" in refused.stderr
    done = run("edit", site, "raise", "--at", "4042.4,2831.0", "--by", "0.5", "--near", "5")
    assert "2.600 m away: shot 31, code LAWN, day1.csv line 33" in done.stderr
    assert Recipe.read(site).tables.edit[0].at == (4040.0, 2830.0)
    code = 0 if near == "1e300" else 2
    run("edit", site, "raise", "--at", "4042.4,2831.0", "--by", "0.5", "--near", near, code=code)


def test_a_file_option_takes_layers_kinds_and_codes(tmp_path, run):
    document = ezdxf.new()
    document.units = 6
    space = document.modelspace()
    for level in range(42, 46):
        x = (level - 42) * 10.0 + 3.0
        space.add_polyline3d([(4000 + x, 2800 + 5 * k, level) for k in range(17)], dxfattribs={"layer": "CONT-5"})
    for k in range(12):
        space.add_polyline3d([(4000, 2800 + 6 * k, 99), (4080, 2800 + 6 * k, 99)], dxfattribs={"layer": "FENCE"})
    document.saveas(tmp_path / "plan.dxf")
    x, y = np.meshgrid(np.arange(4000.0, 4081.0, 10.0), np.arange(2800.0, 2881.0, 10.0))
    rows = [f"{a},{b},{42 + (a - 4003) / 10}" for a, b in zip(x.ravel(), y.ravel(), strict=True)]
    (tmp_path / "shots.csv").write_text("easting,northing,height\n" + "\n".join(rows))
    (tmp_path / "site.toml").write_text('[site]\n[[source]]\nfile = "shots.csv"\nrole = "points"\n')
    drawing = f"{tmp_path / 'plan.dxf'},layers=cont*"
    done = run("contours", tmp_path / "site.toml", "--interval", "1", "--over", drawing, "--json")
    levels = {row["level"] for row in json.loads(done.stdout)["rows"] if "level" in row}
    assert 99.0 not in levels
    wrong = run("contours", tmp_path / "site.toml", "--over", f"{tmp_path / 'plan.dxf'},layers=NONE", code=2)
    assert "nothing in it is on those layers" in wrong.stderr


def test_a_surface_outlines_and_check_points_are_chosen_by_layer_and_holes_are_not(tmp_path, run):
    document = ezdxf.new()
    document.units = 6
    space = document.modelspace()
    for layer, z in (("OLD", 40.0), ("NEW", 50.0)):
        for corners in (((0, 0), (40, 0), (40, 40)), ((0, 0), (40, 40), (0, 40))):
            space.add_3dface([(x, y, z) for x, y in corners], dxfattribs={"layer": layer})
        space.add_point((10, 10, z + 0.02), dxfattribs={"layer": f"{layer}-CHECK"})
        ring = [(5, 5), (15, 5), (15, 15), (5, 15)] if layer == "OLD" else [(5, 5), (25, 5), (25, 25), (5, 25)]
        space.add_lwpolyline(ring, close=True, dxfattribs={"layer": f"{layer}-AREA"})
    document.saveas(tmp_path / "plan.dxf")
    plan = tmp_path / "plan.dxf"
    shown = json.loads(run("figures", f"{plan},layers=NEW", "--json").stdout)
    assert shown["name"] == "NEW"
    checked = run("height", f"{plan},layers=NEW", "--points", f"{plan},layers=NEW-CHECK", "--json").stdout
    assert json.loads(checked)["figures"]["count"] == 1
    for layer, area in (("OLD", 100.0), ("NEW", 400.0)):
        words = ("volume", f"{plan},layers=OLD", f"{plan},layers=NEW", "--within", f"{plan},layers={layer}-AREA")
        answer = json.loads(run(*words, "--json").stdout)
        assert answer["rows"][0]["fill"] == pytest.approx(10.0 * area)
    holes = tmp_path / "holes.csv"
    holes.write_text("hole,easting,northing,ground,material,depth\nA,5,5,50,fill,0\nA,5,5,50,end,6\n")
    refused = run("layers", f"{plan},layers=NEW", "--holes", f"{holes},layers=A", "--along", "1,1 9,9", code=2)
    assert "no layers, kinds and codes" in refused.stderr
