"""What holds for every command alike: options, JSON and its schemas, stdin and stdout, quiet, size, interruption."""

import io
import json
import os
import pty
import runpy
import signal
import struct
import subprocess
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import jsonschema
import pandas as pd
import pytest

from evrin.cli.terminal import progress

ROOT = Path(__file__).parent.parent
PAGES = runpy.run_path(str(ROOT / "docs" / "make_commands_page.py"))
ALONG = ("--along", "field/track-centre.csv")
ASKED = [
    ("inspect", "received"),
    ("draft", "field", "received", "-o", "first.toml"),
    ("build", "raw.toml"),
    ("build", "clean.toml"),
    ("check", "raw.toml"),
    ("edit", "clean.toml", "list"),
    ("compare", "raw.toml", "clean.toml"),
    ("height", "clean.toml", "--at", "4100,2898", "--at", "0,0"),
    ("height", "clean.toml", "--points", "field/check.csv", "--columns", "PNEZD", "--tolerance", "0.06"),
    ("height", "ground.xml", "--points", "field/check.csv", "--columns", "PNEZD"),
    ("contours", "clean.toml", "--over", "contours.geojson"),
    *(("bands", "clean.toml", "--of", of) for of in ("slope", "height", "aspect")),
    ("water", "clean.toml", "--at", "4100,2898", "--least-depth", "0.01"),
    ("trust", "clean.toml"),
    ("figures", "ground.xml"),
    ("profile", "clean.toml", "raw.toml", *ALONG),
    ("sections", "clean.toml", *ALONG, "--every", "30", "--left", "12", "--right", "12"),
    ("combine", "clean.toml", "earthworks/corner-later.xml"),
    ("pad", "clean.toml", "--outline", "earthworks/lay-by.geojson", "--level", "43.6"),
    ("layers", "clean.toml", "--holes", "earthworks/boreholes.csv", "--down-to", "41"),
]


def schema(name):
    return json.loads((ROOT / "docs" / "answers" / f"{name}.schema.json").read_text())


def any_code(run, *words):
    """Run a command that may end with open findings."""
    try:
        return run(*words)
    except AssertionError:
        return run(*words, code=1)


@pytest.mark.slow
@pytest.mark.parametrize("words", ASKED, ids=lambda words: " ".join(words)[:40])
def test_every_answer_in_json_has_the_shape_of_its_schema(demo, run, words):
    (demo[0] / "first.toml").unlink(missing_ok=True)
    output = any_code(run, *words, "--json", "--quiet")
    (demo[0] / "first.toml").unlink(missing_ok=True)
    assert output.stderr == ""
    answer = json.loads(output.stdout)
    jsonschema.validate(answer, schema(words[0]))
    assert answer["command"] == words[0] and (answer["rows"] or words[0] == "edit")
    lines = any_code(run, *words, "--ndjson", "-q").stdout.splitlines()
    assert [json.loads(line) for line in lines] == answer["rows"]


def test_the_demo_answers_in_the_shape_of_its_schema(demo):
    jsonschema.validate(demo[1], schema("demo"))


def test_an_error_is_reported_in_json_too(run):
    for switch, words in (
        ("--json", ("figures", "missing.xml")),
        ("--ndjson", ("trust",)),
        ("--json", ("frobnicate",)),
    ):
        done = run(*words, switch, code=2)
        answer = json.loads(done.stdout)
        jsonschema.validate(answer, schema("error"))
        assert answer["error"]["exit_code"] == 2 and answer["error"]["message"] in done.stderr


def test_the_page_of_commands_and_the_schemas_are_those_of_the_commands():
    assert (ROOT / "docs" / "commands.md").read_text(encoding="utf-8") == PAGES["page"](), "make commands"
    for name, text in PAGES["schemas"]().items():
        assert (ROOT / "docs" / "answers" / name).read_text(encoding="utf-8") == text, "make commands"


def test_an_option_means_the_same_in_every_command():
    values = {}
    for name, command in PAGES["commands"]().items():
        options = {each.name: each for each in command.params if each.param_type_name == "option"}
        assert {"quiet", "verbose"} <= set(options), name
        assert ("as_json" in options) == ("ndjson" in options)
        for option in options.values():
            if not option.is_flag and option.name not in ("out", "at"):
                assert option.metavar and option.metavar not in ("TEXT", "PATH", "FLOAT"), (name, option.name)
                values.setdefault(option.opts[0], set()).add(option.metavar)
        takes_surface = {"surface", "surfaces", "recipe", "first"} & {each.name for each in command.params}
        assert bool(takes_surface) == ("fresh" in options) or name == "init", name
        assert name.startswith("edit ") or "recipe" not in options
    assert all(len(each) == 1 for each in values.values()), values


def test_a_dash_is_stdin_and_stdout(demo, run, monkeypatch):
    answer = run("profile", "ground.xml", *ALONG, "--every", "10", "-o", "-", code=1)
    table = pd.read_csv(io.StringIO(answer.stdout))
    assert {0.0, 10.0} <= set(table["chainage"]) and "wrote stdout" in answer.stderr
    drawn = json.loads(run("contours", "ground.xml", "--interval", "1", "-o", "-.geojson").stdout)
    assert drawn["type"] == "FeatureCollection" and drawn["features"]
    rows = (demo[0] / "field" / "check.csv").read_bytes()
    monkeypatch.setattr(sys, "stdin", SimpleNamespace(buffer=io.BytesIO(rows)))
    piped = run("height", "ground.xml", "--points", "-", "--columns", "PNEZD", "--json")
    assert json.loads(piped.stdout)["figures"]["count"] == len(rows.splitlines())
    assert "error: stdin: " in run("figures", "--", "-.xml", code=2).stderr
    assert run("convert", "ground.xml", "--", "-.xml").stdout.startswith("<?xml")
    assert "one file only" in run("contours", "ground.xml", "-o", "-", "-o", "-.dxf", code=2).stderr


def test_a_picture_has_the_size_and_the_dots_that_are_asked_for(run, tmp_path):
    def size_of(*words):
        run("map", "ground.xml", "-o", tmp_path / "m.png", "--shading", "none", *words)
        return struct.unpack(">II", (tmp_path / "m.png").read_bytes()[16:24])

    assert size_of() == (1280, 800) and size_of("--dpi", "50") == (640, 400)
    assert size_of("--size", "A3", "--dpi", "50") == (826, 584)
    for words in (("--size", "100x60"), ("--size", "A9"), ("--dpi", "0"), ("--size", "1e300x5"), ("--dpi", "9999999")):
        output = run("map", "ground.xml", "-o", tmp_path / "n.png", *words, code=2).stderr
        assert "error:" in output and not (tmp_path / "n.png").exists()
    assert "nan" in run("map", "ground.xml", "-o", tmp_path / "n.png", "--size", "nanxnan", code=2).stderr


def test_one_limit_gives_two_bands_and_odd_numbers_are_reported_in_words(run, tmp_path):
    run("map", "ground.xml", "-o", tmp_path / "m.png", "--bands", "42")
    assert run("contours", "ground.xml", "-o", tmp_path / "c.csv", "--lowest", "1e300").stdout == ""
    for window in ("nan,0,1,1", "0,0,inf,1", "1e300,0,1e301,1", "0,0,1e-300,1e-300"):
        output = run("trust", "ground.xml", "--window", window, code=2).stderr
        assert "has no area" in output or "not finite" in output


def test_quiet_leaves_results_and_errors_only(run):
    assert run("figures", "ground.xml", "-q").stderr == "" and run("-q", "figures", "ground.xml").stderr == ""
    assert run("figures", "missing.xml", "-q", code=2).stderr.startswith("error: ")


@pytest.mark.slow
@pytest.mark.parametrize("plain", [True, False])
def test_colours_are_for_terminals_that_want_them(demo, plain):
    settings = {**os.environ, "TERM": "xterm-256color"} | ({"NO_COLOR": "1"} if plain else {})
    settings = settings if plain else {k: v for k, v in settings.items() if k != "NO_COLOR"}
    ours, theirs = pty.openpty()
    words = [sys.executable, "-m", "evrin", "inspect", "received/old-survey.dxf"]
    done = subprocess.Popen(words, cwd=demo[0], stdout=theirs, stderr=subprocess.DEVNULL, env=settings)
    os.close(theirs)
    output = b""
    try:
        while part := os.read(ours, 65536):
            output += part
    except OSError:
        pass
    assert done.wait() == 1 and b"SPOT-NUMBERS" in output
    assert (b"\x1b[31m" in output) != plain


@pytest.mark.slow
@pytest.mark.parametrize("words", [("figures", "ground.xml"), ("figures", "ground.xml", "--json")])
def test_a_full_or_a_closed_stdout_is_reported_without_a_traceback(demo, words):
    start = [sys.executable, "-m", "evrin", *words, "-q"]
    with Path("/dev/full").open("w") as full:
        done = subprocess.run(start, cwd=demo[0], stdout=full, stderr=subprocess.PIPE, text=True)
    assert done.returncode == 2 and done.stderr == "error: results cannot be printed: No space left on device\n"
    closed = subprocess.run(" ".join([*start, ">&-"]), shell=True, cwd=demo[0], stderr=subprocess.PIPE, text=True)
    assert closed.returncode == 0 and closed.stderr == ""


def test_a_name_too_long_for_the_machine_is_not_a_defect(run):
    name = "x" * 5000
    for words in (("inspect", name), ("build", "clean.toml", "-o", f"{name}.xml"), ("init", f"{name}.toml")):
        assert "File name too long" in run(*words, code=2).stderr


def test_long_work_is_not_silent(capsys):
    with progress() as step:
        step("think")
        time.sleep(3.6)
    output = capsys.readouterr().err.splitlines()
    assert output[0] == "think …" and output[1] == "think … 3 s"


_DEAF = """
import numba, sys, threading
from evrin.cli.interrupting import stopped_promptly
from evrin.base.files import whole_file
from pathlib import Path

@numba.njit(nogil=True)
def for_ever(x):
    while x > 0:
        x += 1
        if x > 1_000_000:
            x = 1
    return x

for_ever(0)
with stopped_promptly(), whole_file(Path("out.bin")):
    # Reported from within the kernel's time, however busy the machine is.
    threading.Timer(0.5, print, ["at work"], {"flush": True}).start()
    for_ever(1)
"""


@pytest.mark.slow
def test_ctrl_c_is_heard_within_a_kernel_that_does_not_end(tmp_path, listening):
    process = subprocess.Popen(
        [sys.executable, "-c", _DEAF],
        **listening,
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        assert process.stdout.readline() == "at work\n"
        assert len(list(tmp_path.iterdir())) == 1
        process.send_signal(signal.SIGINT)
        _, output = process.communicate(timeout=30)
    finally:
        # It would go on for ever.
        process.kill()
    assert process.returncode == 130 and output == "interrupted; no partial files were written\n"
    assert not list(tmp_path.iterdir())
