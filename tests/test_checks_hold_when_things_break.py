"""The checks with nothing, with too little, with nonsense, and stopped in the middle: clear words, and nothing lost."""

import json
import signal
import subprocess
import sys
import time

import ezdxf
import numpy as np
import pytest

import evrin
from evrin.analysis import contour_labels, cross_sections, level_ground, too_large, trust
from evrin.analysis.contours.contour_labelling import around_labels
from evrin.analysis.quality.statistics import surface_figures
from evrin.analysis.terrain.drainage import hollows, summits, water_paths
from evrin.analysis.terrain.slopes import height_bands, slope_bands
from evrin.draw import map_sheet
from evrin.draw.sheets.view_sheet import view_of
from evrin.formats import read
from evrin.report import look_page
from evrin.surface.components import only, triangle_parts
from evrin.survey.doubts.doubtful_edges import find_doubtful_edges
from zoo import SITE

COMMAND = [sys.executable, "-m", "evrin.cli.app"]
ONE = evrin.triangulate([[0, 0, 1.0], [10, 0, 2.0], [0, 10, 3.0]], name="one")
FLAT = evrin.triangulate([[0, 0, 5.0], [10, 0, 5.0], [10, 10, 5.0], [0, 10, 5.0]], name="flat")
WALL = evrin.Surface.from_arrays(
    [[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0], [10, 0, 4], [10, 10, 4], [20, 0, 4], [20, 10, 4]],
    [[0, 1, 2], [0, 2, 3], [1, 4, 5], [1, 5, 2], [4, 6, 7], [4, 7, 5]],
    name="wall",
)


@pytest.mark.parametrize("ground", [ONE, FLAT, WALL, evrin.triangulate(ONE.vertices + [*SITE, 500.0])])
def test_every_check_has_an_answer_for_the_smallest_flattest_and_steepest_ground(ground):
    """One triangle, level ground, an upright wall, real coordinates."""
    middle = ground.vertices[ground.triangles[0], :2].mean(axis=0)
    lines = ground.contours(0.25, smooth=1.0)
    labels = contour_labels(lines, 3.0, 0.2)
    assert len(around_labels(lines, labels)[1]) >= 1
    assert surface_figures(ground)["plan_area"] == pytest.approx(ground.plan_area)
    assert height_bands(ground, [ground.vertices[:, 2].mean()])["plan_area"].sum() == pytest.approx(ground.plan_area)
    assert slope_bands(ground, [0.1])["plan_area"].sum() == pytest.approx(ground.plan_area)
    assert len(hollows(ground)) == 0 and len(summits(ground)) <= 2
    assert level_ground(ground)["plan_area"].sum() <= ground.plan_area + 1e-9
    assert not too_large(ground).any() and trust(ground, 400).spacing > 0.0
    assert len(find_doubtful_edges(ground).changes) == 0
    (path,) = water_paths(ground, [middle])
    assert path.fall >= 0.0
    west, south, east, north = ground.extent
    along = [(west, (south + north) / 2), (east, (south + north) / 2)]
    for section in cross_sections(ground, along, stations=[1.0, 5.0], left=2, right=2):
        assert section.profiles[ground.name].length == 4.0
    map_sheet(ground, contours=lines)
    view_of(ground, contours=lines, triangles=True)
    assert "<canvas" in look_page(ground, [], lines)


def test_a_part_of_a_surface_keeps_its_lines_and_nothing_else():
    both = evrin.triangulate(
        [[0, 0, 1], [10, 0, 1], [10, 10, 1], [0, 10, 1], [5, 5, 2.0]], breaklines=[[[0, 0, 1], [5, 5, 2.0]]]
    )
    chosen = np.zeros(len(both.triangles), bool)
    chosen[0] = True
    part = only(both, chosen)
    assert len(part.triangles) == 1 and len(part.vertices) == 3 and part.lines == both.lines
    assert part.plan_area == pytest.approx(both.triangle_areas[0]) and part.provenance is None
    apart = triangle_parts(both, np.array([0, 1, 2, 3]))
    assert sum(len(group) for group in apart) == 4 and triangle_parts(both, np.empty(0, np.int64)) == []


def test_sides_areas_and_gradients_are_those_of_each_triangle():
    rng = np.random.default_rng(2)
    ground = evrin.triangulate(rng.uniform(0, 50, (60, 3)))
    for t, corners in enumerate(ground.vertices[ground.triangles]):
        sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners)[:, :2].T)
        assert ground.side_lengths[t] == pytest.approx(sides)
        u, v = corners[1] - corners[0], corners[2] - corners[0]
        normal = np.cross(u, v)
        assert ground.triangle_areas[t] == pytest.approx(normal[2] / 2)
        assert ground.gradients[t] == pytest.approx(-normal[:2] / normal[2])
    assert np.isnan(WALL.gradients[2]).all() and WALL.triangle_areas[2] == 0.0


def test_depressions_and_smoothing_reach_the_files(run, tmp_path):
    run("contours", "clean.toml", "-o", tmp_path / "c.gpkg", "--interval", "0.25", "--smooth", "1")
    lines = read(tmp_path / "c.gpkg").lines
    hollow = [line for line in lines if line.facts["depression"] == 1]
    assert len(hollow) >= 3 and all(line.facts["closed"] == 1 for line in hollow)
    run("contours", "clean.toml", "-o", tmp_path / "c.dxf", "--interval", "0.5")
    texts = ezdxf.readfile(tmp_path / "c.dxf").modelspace().query("TEXT")
    middles = [text.get_placement()[1] for text in texts]
    places = np.array([(middle.x, middle.y) for middle in middles])
    assert len(texts) > 5 and all(float(text.dxf.text) % 0.5 == 0.0 for text in texts)
    apart = np.hypot(*(places[:, None] - places[None]).transpose(2, 0, 1)) + 1e9 * np.eye(len(places))
    assert apart.min() > texts[0].dxf.height


@pytest.mark.parametrize(
    ("text", "output"),
    [
        ("", "empty"),
        ("1,2800,4000,\n", "no height"),
        ("1,2800,4000,nan\n", "not a finite number"),
        ("a\n", "no easting among its 1 field"),
    ],
)
def test_check_points_that_are_none_are_refused_by_name(run, tmp_path, text, output):
    path = tmp_path / "check.csv"
    path.write_text(text)
    done = run("height", "ground.xml", "--points", path, "--columns", "PNEZ", code=2)
    assert done.stdout == "" and "check.csv" in done.stderr and output in done.stderr


def test_commands_and_recipes_read_check_points_alike(run, demo, tmp_path):
    rows = "1,2880,4100,43.2,A\n2,2881,4101,,A\n3,2882,4102,43.1,A\n"
    (demo[0] / "some.csv").write_text(rows)
    done = run("height", "clean.toml", "--points", "some.csv", "--columns", "PNEZD", "--json", code=1)
    assert "not used: some.csv line 2: " in done.stderr
    path = demo[0] / "checked.toml"
    named = '\n[[check_points]]\nname = "some"\nfile = "some.csv"\ncolumns = "PNEZD"\n'
    path.write_text((demo[0] / "clean.toml").read_text() + named)
    build = evrin.Recipe.read(path).build()
    (table,) = [checked.table for name, checked in build.checked if name == "some"]
    assert table["deviation"].tolist() == [row["deviation"] for row in json.loads(done.stdout)["rows"]]
    assert any("some.csv line 2" in finding.message for finding in build.findings)
    path.unlink()


def test_a_page_that_cannot_be_written_is_refused_before_the_work_where_that_can_be_reported(run):
    for name in ("report", "look"):
        done = run(name, "clean.toml", "-o", "no/page.html", code=2)
        assert "no folder no" in done.stderr and "triangulate" not in done.stderr
    assert "cannot be written" in run("look", "clean.toml", "-o", "/proc/l.html", code=2).stderr


@pytest.mark.slow
def test_a_report_stopped_in_the_middle_leaves_no_page(demo, tmp_path, listening):
    started = subprocess.Popen(
        [*COMMAND, "report", "clean.toml", "-o", str(tmp_path / "r.html")],
        **listening,
        cwd=demo[0],
        stderr=subprocess.PIPE,
        text=True,
    )
    output = []
    while "draw slopes" not in "".join(output):
        output.append(started.stderr.readline())
        assert started.poll() is None, "".join(output)
    time.sleep(0.05)
    started.send_signal(signal.SIGINT)
    rest = started.communicate()[1]
    assert started.returncode == 130 and "interrupted; no partial files were written" in rest
    assert list(tmp_path.iterdir()) == []


def test_tables_of_checks_are_switched_listed_and_compared_like_all_others(run, demo, tmp_path):
    path = demo[0] / "checked.toml"
    path.write_text((demo[0] / "clean.toml").read_text(encoding="utf-8"), encoding="utf-8")
    rows = {row["table"]: row for row in json.loads(run("edit", path, "list", "--json").stdout)["rows"]}
    assert rows["check_points:1"]["on"] and "field/check.csv" in rows["check_points:1"]["what"]
    run("edit", path, "off", "check_points:1")
    assert "check-point-off" not in run("check", path, "--json").stdout
    run("edit", path, "put", "leave_out", 'numbers=["800"]', "--why", "to see what it does")
    built = json.loads(run("build", path, "--json").stdout)
    assert built["rows"][-1]["left_out"] == 8 and "[leave_out]" in built["changed"]
    assert "shot 800," not in run("build", path).stdout
    run("edit", path, "drop", "leave_out:1")
    path.unlink()
