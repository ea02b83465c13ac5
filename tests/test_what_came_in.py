"""Looking at what came in, and drafting a first recipe from it, on the demo site as a user would."""

import json
import subprocess
import sys
from pathlib import Path

import ezdxf
import matplotlib.image
import numpy as np
import pytest
from matplotlib.collections import PathCollection
from matplotlib.text import Text

from evrin.base.errors import DataError
from evrin.demo import lay_out, true_height
from evrin.draw.sheets.contents_sheet import contents_sheet
from evrin.formats import How, look, read
from evrin.formats.text.column_guesses import guess_columns
from evrin.recipe import Recipe
from evrin.recipe.document.draft import draft
from evrin.survey.file_inventory import inventory


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    folder = tmp_path_factory.mktemp("site") / "ostrel-weir"
    lay_out(folder, received=True)
    return folder


@pytest.fixture
def run(demo):
    def _run(*words, code=0):
        command = [sys.executable, "-m", "evrin.cli.app", *map(str, words)]
        done = subprocess.run(command, cwd=demo, capture_output=True, text=True, timeout=300, check=False)
        assert done.returncode == code, done.stderr
        assert "Traceback" not in done.stderr
        return done

    return _run


def rows(name, demo):
    return {(row["kind"], row["layer"], row["code"]): row for row in inventory(look(demo / name)).rows()}


def test_the_old_drawing_is_seen_for_what_it_is(demo):
    table = rows("received/old-survey.dxf", demo)
    assert table["block", "SPOT", "SPOT"]["count"] == 104 and table["block", "SPOT", "SPOT"]["at_zero"] == 2
    assert table["text", "SPOT-NUMBERS", ""]["lowest"] > 40.0  # the numbers are read, not their places
    assert table["polyline 2-D", "CONTOUR-PLAN", ""]["at_zero"] == table["polyline 2-D", "CONTOUR-PLAN", ""]["vertices"]
    found = inventory(read(demo / "received" / "old-survey.dxf"))
    assert any("2 items are at or near zero height" in text for text in found.looks_wrong)
    assert any("heights = " in text and "43." in text for text in found.looks_wrong)
    assert "layer OLD-FENCE is frozen" in found.contents.notes


def test_every_file_of_the_demo_is_looked_at_and_counts_what_it_holds(demo):
    cloud = rows("received/flight.laz", demo)
    assert sum(row["count"] for row in cloud.values()) == 300_000
    assert {code for _, _, code in cloud} >= {"2 ground", "5 high vegetation", "6 building"}
    bare = inventory(read(demo / "received" / "flight-bare.laz"))
    assert any("has no classes" in text for text in bare.looks_wrong)
    ponds = inventory(read(demo / "received" / "ponds.gpkg"))
    assert any("LEVEL (42.35 to 43.2)" in note for note in ponds.contents.notes)
    assert ponds.rows()[0]["no_height"] == 80 and ponds.rows()[0]["closed"] == 2
    (office,) = inventory(read(demo / "received" / "other-office.xml")).rows()
    (edges,) = inventory(read(demo / "received" / "other-office-edges.dxf")).rows()
    assert office["kind"] == "triangles" and office["count"] == 911 and edges["count"] == 1406
    (bed,) = inventory(read(demo / "received" / "river-bed.asc")).rows()
    assert (bed["kind"], bed["count"], bed["no_height"]) == ("cells", 140, 6)


def test_the_edges_of_the_other_office_give_its_triangles_back(demo):
    from test_every_format_comes_back import corners

    tables = '[[source]]\nfile = "{}"\nrole = "{}"\n'
    built = []
    for file, role in (("other-office.xml", "surface"), ("other-office-edges.dxf", "edges")):
        (demo / "received" / "one.toml").write_text(tables.format(file, role))
        built.append(Recipe.read(demo / "received" / "one.toml").build())
    assert corners(built[0].surface) == corners(built[1].surface)
    # Without its breaklines, two edges of the other office bridge the leat's banks: found, and wrong beside the truth.
    found = built[1].open_findings
    assert [finding.code for finding in found] == ["doubtful-edge"] * 2
    for finding in found:
        lifted = float(finding.message.split("by ")[1].split(" m,")[0])
        wrong = float(built[1].surface.height(*finding.place) - true_height(*np.array([finding.place]).T)[0])
        assert abs(wrong + lifted) < 0.05 < 0.5 < abs(wrong)
    (demo / "received" / "one.toml").unlink()


@pytest.mark.slow
def test_inspect_prints_tables_or_json_and_reports_by_its_code_that_something_looks_wrong(run):
    done = run("inspect", "received/old-survey.dxf", code=1)
    assert "SPOT-NUMBERS" in done.stdout and "at zero" in done.stdout and "read old-survey.dxf" in done.stderr
    fine = run("inspect", "received/other-office.xml", "received/ponds.gpkg", "--json")
    record = json.loads(fine.stdout)
    assert [each["file"] for each in record["files"]] == ["other-office.xml", "ponds.gpkg"]
    assert record["rows"][0]["west"] == pytest.approx(4028.8, abs=0.1) and record["between_files"] == []
    assert record["rows"][-1]["lowest"] is None
    mixed = run("inspect", "received/other-office.xml", "nothing.dxf", code=2)
    assert "triangles" in mixed.stdout and "nothing.dxf: no such file" in mixed.stderr


def test_files_that_do_not_go_together_are_reported_before_anything_is_built(run, demo):
    xyz = read(demo / "field" / "day1.csv", How("PNEZD")).points.xyz
    text = "".join(f"{y / 0.3048:.3f},{x / 0.3048:.3f},{z:.3f}\n" for x, y, z in xyz.tolist())
    (demo / "feet.csv").write_text("northing,easting,height\n" + text)
    done = run("inspect", "field/day1.csv", "feet.csv", code=1)
    assert "between the files: feet.csv does not overlap day1.csv" in done.stdout and 'units = "ft"' in done.stdout
    (demo / "feet.csv").unlink()


@pytest.mark.slow
def test_the_picture_shows_the_two_blocks_at_zero_height(run, demo):
    run("inspect", "received/old-survey.dxf", "-o", "old.png", code=1)
    picture = matplotlib.image.imread(demo / "old.png")
    assert picture.shape[:2] == (800, 1280)
    found = inventory(read(demo / "received" / "old-survey.dxf"))
    figure = contents_sheet(found)
    plan, oblique = figure.axes[:2]
    assert plan.get_aspect() == 1.0 and oblique.get_aspect() == 1.0
    for axes in (plan, oblique):
        dots = [collection for collection in axes.collections if isinstance(collection, PathCollection)]
        (rings,) = (dot for dot in dots if dot.get_sizes()[0] == 90.0)
        assert len(rings.get_offsets()) == 2
        assert np.isfinite(rings.get_offsets()).all()
    output = " ".join(text.get_text() for text in figure.texts)
    assert "SPOT-NUMBERS" in output and "at zero" in output


@pytest.mark.parametrize(
    ("name", "kind"), [("flight.laz", 1), ("ponds.gpkg", 1), ("other-office.xml", 1), ("river-bed.asc", 1)]
)
def test_pictures_of_every_kind_can_be_drawn(demo, name, kind):
    figure = contents_sheet(inventory(read(demo / "received" / name)))
    views = [axes for axes in figure.axes if axes.get_aspect() == 1.0]
    assert views and all(len(axes.collections) > 0 for axes in views)


@pytest.mark.slow
def test_a_draft_of_the_whole_folder_builds_at_once_and_explains_itself(run, demo):
    done = run("draft", ".", "-o", "site.toml")
    assert "wrote site.toml" in done.stderr and "flight-bare" in done.stdout
    text = (demo / "site.toml").read_text()
    assert text.count("[[source]]") >= 12 and 'heights = "text nearby"' in text
    assert 'numbers = ["629", "678"]' in text and 'codes = ["CTRL*"]' in text and "[field_codes]" in text
    assert "[[flat]]" in text and 'attribute = "LEVEL"' in text and "ground_filter = {}" in text
    for block in text.split("\n\n")[1:]:
        if "[[" in block:
            assert block.lstrip().startswith("#"), block  # each table has its reason above it
    build = Recipe.read(demo / "site.toml").build()
    assert len(build.surface.triangles) > 10_000
    columns = [name for name in build.tally.columns if name not in ("source", "read")]
    assert (build.tally[columns].sum(axis=1) == build.tally["read"]).all()
    codes = {finding.code for finding in build.open_findings}
    assert "zero-height" not in codes and not any(code.startswith("sources-") for code in codes)
    again = run("draft", ".", "-o", "site.toml", code=2)
    assert "does not replace it" in again.stderr
    (demo / "site.toml").unlink()


def test_a_draft_is_as_good_as_its_files(tmp_path, demo):
    for name, output in (("other-office.xml", 'role = "surface"'), ("other-office-edges.dxf", 'role = "edges"')):
        made = draft([demo / "received" / name], tmp_path / "one.toml")
        assert output in made.text and "on = false" not in made.text
        (tmp_path / "one.toml").write_text(made.text)
        assert len(Recipe.read(tmp_path / "one.toml").build().surface.triangles) == 911
    (tmp_path / "junk.dat").write_bytes(b"\x00\x01\x02")
    with pytest.raises(DataError, match="nothing here could go into a surface"):
        draft([tmp_path / "junk.dat"], tmp_path / "two.toml")
    mixed = draft([tmp_path / "junk.dat", demo / "field" / "day2.csv"], tmp_path / "two.toml")
    assert "# ignored: junk.dat" in mixed.text and len(mixed.ignored) == 1


def test_a_draft_leaves_out_of_use_what_its_drawing_keeps_out_of_sight(tmp_path):
    drawing = ezdxf.new()
    drawing.layers.add("OLD SPOTS").off()
    drawing.layers.add("OLD FENCE").freeze()
    space = drawing.modelspace()
    for k in range(5):
        space.add_point((4100 + 3 * k, 2800 + k * k, 41 + k / 10), dxfattribs={"layer": "SPOTS"})
        space.add_point((4100 + 3 * k, 2801 + k * k, 12), dxfattribs={"layer": "OLD SPOTS"})
    space.add_line((4100, 2800, 41), (4109, 2812, 42), dxfattribs={"layer": "OLD FENCE"})
    drawing.saveas(tmp_path / "site.dxf")
    made = draft([tmp_path / "site.dxf"], tmp_path / "one.toml")
    points, fence = made.guesses
    assert points.keys["keep"] == {"layers": ["SPOTS"]}
    assert fence.keys["on"] is False and "its layer is frozen in the drawing" in fence.why
    (tmp_path / "one.toml").write_text(made.text)
    built = Recipe.read(tmp_path / "one.toml").build()
    assert len(built.surface.vertices) == 5 and built.surface.vertices[:, 2].min() > 40.0


@pytest.mark.parametrize(
    ("rows", "columns"),
    [
        (["1,2880.1,4120.5,41.2,LAWN", "2,2881.0,4121.5,41.3,TOP1 ST"], "PNEZD"),
        (["4120.5,2880.1,41.2", "4121.5,2880.4,41.3"], "XYZ"),
        (["P7,2880.1,4120.5,41.2", "P9,2881.1,4120.9,41.0"], "PNEZ"),
        (["LAWN,4120.5", "LAWN,4120.6"], ""),
        (["5,4120,2880,41", "6,4121,2881,42"], "PNEZ"),
    ],
)
def test_columns_are_guessed_for_a_look_but_never_for_a_build(tmp_path, rows, columns):
    assert guess_columns([row.split(",") for row in rows])[0] == columns
    path = tmp_path / "p.csv"
    path.write_text("\n".join(rows))
    if columns:
        assert any("is a guess" in note for note in (*look(path).notes, *look(path).doubts))
    with pytest.raises(DataError, match="no header row"):
        read(path)


@pytest.mark.slow
def test_a_practices_folder_can_be_inspected_by_wildcard_and_nothing_is_touched(run, demo):
    before = {path: path.stat().st_mtime_ns for path in Path(demo).rglob("*") if path.is_file()}
    run("inspect", *sorted(str(path.relative_to(demo)) for path in (demo / "field").glob("*.csv")), code=1)
    assert {path: path.stat().st_mtime_ns for path in before} == before


def words_in(figure):
    """Every text on a sheet or a plan, those of legends included."""
    return [text.get_text() for text in figure.findobj(Text) if text.get_text()]


def flat_drawing(folder):
    """A drawing without heights: contours with levels written beside, spots, and two points far away."""
    document = ezdxf.new()
    document.units = 6
    space = document.modelspace()
    for k in range(6):
        turn = np.linspace(0.0, 2.0 * np.pi, 40)
        ring = [(200 + (40 + 10 * k) * np.cos(a), 150 + (40 + 10 * k) * np.sin(a)) for a in turn]
        space.add_lwpolyline(ring, dxfattribs={"layer": "CONTOURS"})
        space.add_text(f"{90 - k}.50", height=3).set_placement(ring[0])
    for k in range(30):
        space.add_point((100 + 7 * k, 100 + 3 * (k % 9), 0), dxfattribs={"layer": "SPOTS"})
    space.add_point((5200, 150, 0))
    space.add_point((200, -3850, 0))
    document.saveas(folder / "flat.dxf")
    return folder / "flat.dxf"


def test_a_flat_drawing_is_coloured_by_layer_its_texts_are_written_and_strays_are_marked(tmp_path):
    figure = contents_sheet(inventory(read(flat_drawing(tmp_path))))
    words = words_in(figure)
    assert {"SPOTS  (30)", "CONTOURS  (6)"} <= set(words) and {"90.50", "85.50"} <= set(words)
    far = [float(word[9:-7].replace(",", "")) for word in words if word.startswith("1 place, ")]
    assert sorted(far) == pytest.approx([4000.0, 5000.0], abs=20.0)
    assert not any("heights" in word and "times" in word for word in words)


@pytest.mark.parametrize(("label", "word"), [("number", "264"), ("code", "LAWN"), ("height", "41.25")])
def test_points_are_labelled_as_is_asked(tmp_path, label, word):
    rows = [f"{264 + k},{4000 + 9 * k},{2800 + 5 * (k % 4)},{41.25 + k},LAWN" for k in range(8)]
    (tmp_path / "shots.csv").write_text("number,easting,northing,height,code\n" + "\n".join(rows))
    found = inventory(read(tmp_path / "shots.csv"))
    plans = [contents_sheet(found, each).axes[0] for each in (label, "")]
    assert [word in words_in(plan) for plan in plans] == [True, False]


def test_inspect_draws_several_files_over_each_other_and_one_layer_alone(tmp_path, run):
    drawing = flat_drawing(tmp_path)
    (tmp_path / "limit.csv").write_text("line,easting,northing\nL,100,90\nL,300,90\nL,300,200\n")
    run("inspect", drawing, tmp_path / "limit.csv", "-o", tmp_path / "both.png", code=1)
    assert (tmp_path / "both.png").stat().st_size > 10_000
    found = [inventory(look(tmp_path / name)) for name in ("flat.dxf", "limit.csv")]
    assert {"flat.dxf  (38)", "limit.csv  (1)"} <= set(words_in(contents_sheet(found)))
    alone = run("inspect", drawing, "--only", "spot*", "--json", "-o", tmp_path / "spots.png", code=1)
    assert {(row["kind"], row["layer"], row["count"]) for row in json.loads(alone.stdout)["rows"]} == {
        ("point", "SPOTS", 30)
    }
    nothing = run("inspect", drawing, "--only", "TREES", "-o", tmp_path / "trees.png", code=2)
    assert "no layer and no code is TREES" in nothing.stderr
