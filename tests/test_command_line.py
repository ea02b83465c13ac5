"""The real command on the demo data: what it prints where, its exit codes, and what it leaves behind when it fails."""

import json
import signal
import subprocess
import sys
import time

import numpy as np
import pandas as pd
import pytest

import evrin

COMMAND = [sys.executable, "-m", "evrin.cli.app"]


def test_the_demo_shows_what_cleaning_does(demo):
    folder, record = demo
    raw, clean = record["raw"], record["clean"]
    assert raw["open_findings"] == {
        "check-point-off": 1,
        "doubtful-edge": 3,
        "height-spike": 1,
        "zero-height": 2,
        "crossing-breaklines": 4,
        "far-off-site": 3,
        "refused-rows": 1,
        "unlike-heights": 2,
    }
    assert clean["open_findings"] == {}
    assert clean["rmse"] < 0.1 < 1.0 < raw["rmse"]
    assert 1100 < raw["read"] < 1300
    for name in ("ground.xml", "contours.geojson", "before-after.png", "map.png", "slopes.png", "profile.png"):
        assert (folder / name).stat().st_size > 5_000


@pytest.mark.thorough
def test_the_demo_names_commands_that_can_be_typed(run, tmp_path):
    output = run("demo", tmp_path / "again").stdout
    assert "\n  evrin check " in output and ".py" not in output


def test_laying_out_again_leaves_what_is_there_alone(tmp_path):
    from evrin.demo import lay_out

    lay_out(tmp_path)
    (tmp_path / "clean.toml").write_text("mine")
    assert lay_out(tmp_path) == []
    assert (tmp_path / "clean.toml").read_text() == "mine"


def test_build_prints_stages_tally_and_findings_and_writes_by_extension(run, tmp_path):
    done = run("build", "clean.toml", "-o", tmp_path / "g.xml")
    for word in ("Ostrel Weir, existing ground", "Stages", "Tally", "Findings: 11, 0 open", "accepted:"):
        assert word in done.stdout
    assert "check" in done.stderr and "wrote" in done.stderr and "wrote" not in done.stdout
    ground = evrin.read_surface(tmp_path / "g.xml")
    record = json.loads(run("build", "clean.toml", "--json").stdout)
    assert record["surface"]["triangles"] == len(ground.triangles)
    assert record["surface"]["plan_area"] == pytest.approx(ground.plan_area)
    assert record["rows"][-1]["source"] == "all"
    assert record["stages"][0]["name"] == "read"


def test_check_reports_open_findings_by_exit_code_and_in_json(run, tmp_path):
    done = run("check", "raw.toml", "-o", tmp_path / "f.png", code=1)
    assert "check raw.toml --fixes prints tables" in done.stderr
    assert "17 open" in done.stdout and "fix:" in done.stdout and "day1.csv line" in done.stdout
    assert (tmp_path / "f.png").read_bytes().startswith(b"\x89PNG")
    findings = json.loads(run("check", "raw.toml", "--json", code=1).stdout)["rows"]
    assert sum(finding["open"] for finding in findings) == 17
    assert all(finding["open"] != (finding["severity"] == "note") for finding in findings)
    assert {"code", "easting", "shots", "fix", "severity"} <= set(findings[0])
    run("check", "clean.toml")


def test_height_names_the_shots_and_reports_places_outside(run):
    done = run("height", "clean.toml", "--at", "4100,2898", "--at", "0,0", code=1)
    assert "HEAP" in done.stdout and "m away" in done.stdout and "–" in done.stdout
    (answer,) = json.loads(run("height", "ground.xml", "--at", "4100,2898", "--json").stdout)["rows"]
    assert answer["height"] == pytest.approx(46.35, abs=0.2) and len(answer["held_by"]) == 3


@pytest.mark.slow
def test_contours_map_profile_and_convert(run, tmp_path, demo):
    done = run("contours", "clean.toml", "-o", tmp_path / "c.csv", "--interval", "0.5")
    assert "lines on" in done.stderr and done.stdout == ""
    table = pd.read_csv(tmp_path / "c.csv")
    assert np.allclose(table["height"] * 2, np.round(table["height"] * 2))
    run("map", "ground.xml", "-o", tmp_path / "m.svg", "--shading", "slope", "--no-triangles", "--interval", "1")
    assert b"slope (%)" in (tmp_path / "m.svg").read_bytes() or (tmp_path / "m.svg").stat().st_size > 50_000
    run("map", "raw.toml", "-o", tmp_path / "m.png", "--findings", "--window", "4020,2800,4220,2920")
    run("profile", "clean.toml", "raw.toml", "--along", "4060,2900 4100,2850", "-o", tmp_path / "p.pdf")
    assert (tmp_path / "p.pdf").read_bytes().startswith(b"%PDF")
    run("profile", "clean.toml", "--along", "4060,2900 4100,2850", "--every", "5", "-o", tmp_path / "p.csv")
    assert pd.read_csv(tmp_path / "p.csv")["chainage"].iloc[1] == 5.0
    rows = json.loads(run("profile", "ground.xml", "--along", "4060,2900 3000,2850", "--json", code=1).stdout)["rows"]
    assert rows[0]["chainage"] == 0.0 and rows[-1]["height"] is None
    run("convert", "clean.toml", tmp_path / "again.xml")
    first, second = evrin.read_surface(demo[0] / "ground.xml"), evrin.read_surface(tmp_path / "again.xml")
    assert first.vertices.tobytes() == second.vertices.tobytes()


def test_edit_appends_lists_switches_and_drops(run, tmp_path, demo):
    path = demo[0] / "mine.toml"
    path.write_text((demo[0] / "clean.toml").read_text())
    done = run("edit", path, "flip", "--at", "4105,2875", "--why", "test", "--dry-run")
    assert "the edge between shot" in done.stderr and "+do = " in done.stdout
    assert path.read_text() == (demo[0] / "clean.toml").read_text()
    run("edit", path, "flip", "--at", "4105,2875", "--why", "test")
    run("edit", path, "off", "edit:1")
    run("edit", path, "accept", "hollow", "--why", "a pond")
    run("edit", path, "boundary", "field/barn.geojson", "--effect", "cut")
    rows = {row["table"]: row for row in json.loads(run("edit", path, "list", "--json").stdout)["rows"]}
    assert not rows["edit:1"]["on"] and rows["edit:5"]["why"] == "test"
    assert rows["accept:3"]["what"].startswith("hollow") and rows["boundary:3"]["what"].startswith("cut")
    assert "[4105.0, 2875.0]" in run("edit", path).stdout and "joins = [[" in path.read_text()
    run("edit", path, "on", "edit:1")
    for table in ("edit:5", "accept:3", "boundary:3"):
        run("edit", path, "drop", table)
    assert path.read_text().split() == (demo[0] / "clean.toml").read_text().split()
    assert "outside the surface" in run("edit", path, "flip", "--at", "0,0", code=2).stderr


@pytest.mark.parametrize(
    ("words", "output"),
    [
        (("build", "missing.toml"), "no such file"),
        (("build", "clean.toml", "-o", "no/g.xml"), "no folder no"),
        (("build", "clean.toml", "-o", "g.qqq"), "no surface format is known by '.qqq'; .asc"),
        (("build", "clean.toml", "-o", "/proc/g.xml"), "cannot be written"),
        (("build", "field/day1.csv"), "this is not a recipe, which is a .toml file"),
        (("check", "clean.toml", "-o", "f.bmp"), "this command writes .png, .pdf, .svg"),
        (("height", "clean.toml", "--at", "north"), "is not a place"),
        (("height", "clean.toml"), "give either places"),
        (("height", "clean.toml", "--points", "field/missing.csv"), "no such file"),
        (("height", "clean.toml", "--at", "4100,2898", "--tolerance", "1"), "go with check points"),
        (("contours", "clean.toml"), "nothing to do"),
        (("contours", "clean.toml", "--over", "sources"), "took in no contours"),
        (("contours", "clean.toml", "--over", "field/track-centre.csv"), "names no height"),
        (("contours", "clean.toml", "--over", "field/drain.csv"), "none of the lines"),
        (("bands", "clean.toml", "--of", "relief"), "not of relief"),
        (("bands", "clean.toml", "--bands", "5,2"), "must rise"),
        (("bands", "clean.toml", "--bands", "a"), "is not a list of limits"),
        (("map", "ground.xml", "-o", "m.png", "--range", "1"), "is not a range"),
        (("view", "ground.xml", "-o", "v.png", "--above", "0"), "above the horizon"),
        (
            (
                "sections",
                "ground.xml",
                "--along",
                "4060,2900 4100,2850",
                "--every",
                "5",
                "--left",
                "0",
                "--right",
                "0",
            ),
            "needs a width",
        ),
        (
            ("sections", "ground.xml", "--along", "field/missing.csv", "--every", "5", "--left", "5", "--right", "5"),
            "no such file",
        ),
        (("points", "ground.xml", "--along", "4060,2900 4100,2850", "-o", "p.csv"), "no places for the points"),
        (("points", "ground.xml", "--along", "4060,2900 4100,2850", "-o", "p.xml"), "this command writes .csv"),
        (("water", "ground.xml", "--at", "1,1"), "lies outside the surface"),
        (("trust", "ground.xml", "-o", "t.gif"), "this command writes .png"),
        (("report", "clean.toml", "-o", "r.pdf"), "a page is .html"),
        (("look", "clean.toml", "-o", "no/r.html"), "no folder"),
        (("contours", "clean.toml", "-o", "c.csv", "--interval", "0"), "must be above 0"),
        (("profile", "clean.toml", "--along", "1,2"), "at least 2 places"),
        (("profile", "ground.xml", "--along", "1,2 3,4", "-o", "p.png"), "no ground to draw"),
        (
            ("profile", "ground.xml", "--along", "4060,2900 4100,2850", "-o", "p.png", "--exaggeration=-2"),
            "must be above 0",
        ),
        (("map", "ground.xml", "-o", "m.png", "--window", "1,2,3"), "is not a window"),
        (("map", "ground.xml", "-o", "m.png", "--window", "9,9,1,1"), "has no area"),
        (("map", "field/day1.csv", "-o", "m.png"), "no surface in it (delimited text)"),
        (("edit", "clean.toml", "off", "edit:9"), "no edit 9"),
        (("edit", "clean.toml", "off", "edit"), "which edit? there are"),
        (("edit", "clean.toml", "off", "edit:x"), "write kind and number"),
        (("edit", "clean.toml", "flip"), "flip needs at. Each key is an option of the same name"),
        (("edit", "clean.toml", "force"), "force needs joins"),
        (("edit", "clean.toml", "move", "--at", "4096,2896", "--to", "4300,2900"), "beyond an edge around the vertex"),
        (("edit", "clean.toml", "put", "trim", "longest_edge"), "is not a key with a value"),
        (("edit", "clean.toml", "put", "trim", "longest=3"), "no such key; did you mean 'longest_edge'"),
        (("compare", "raw.toml", "field/day1.csv"), "no surface"),
        (("outline", "clean.toml", "-o", "o.xml"), "lines are written as .csv, .dat, .dxf"),
        (("freeze", "clean.toml", "-o", "ground.xml"), "cannot be created"),
        (("edit", "clean.toml", "accept", "height-spike", "--at", "1,1"), "Missing option '--why'"),
        (("frobnicate",), "No such command"),
        (("build",), "Missing argument"),
    ],
)
def test_what_cannot_be_done_gives_the_reason_and_leaves_nothing_behind(run, demo, words, output):
    before = sorted(demo[0].iterdir())
    done = run(*words, code=2)
    assert output in done.stderr and done.stdout == ""
    assert sorted(demo[0].iterdir()) == before


@pytest.mark.slow
def test_ctrl_c_stops_in_words_and_leaves_no_partial_file(tmp_path, listening):
    rows = np.random.default_rng(3).uniform(0, 1000, (400_000, 3)).round(3)
    pd.DataFrame(rows).to_csv(tmp_path / "cloud.csv", header=False)
    recipe = '[[source]]\nfile = "cloud.csv"\nrole = "points"\ncolumns = "PNEZ"\n'
    (tmp_path / "cloud.toml").write_text(recipe)
    before = sorted(tmp_path.iterdir())
    process = subprocess.Popen(
        [*COMMAND, "build", "cloud.toml", "-o", "cloud.xml"],
        **listening,
        cwd=tmp_path,
        stderr=subprocess.PIPE,
        text=True,
    )
    # The first stage is announced once the work has begun.
    assert "read" in process.stderr.readline()
    time.sleep(0.3)
    process.send_signal(signal.SIGINT)
    _, output = process.communicate(timeout=60)
    assert (
        process.returncode == 130
        and "interrupted; no partial files were written" in output
        and "Traceback" not in output
    )
    assert sorted(tmp_path.iterdir()) == before


def test_version_and_help(run):
    assert run("--version").stdout.strip() == f"evrin {evrin.__version__}"
    output = run("--help").stdout
    for command in (
        "demo",
        "build",
        "check",
        "edit",
        "compare",
        "freeze",
        "outline",
        "height",
        "contours",
        "map",
        "profile",
        "convert",
    ):
        assert command in output
