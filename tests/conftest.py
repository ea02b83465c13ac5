"""Shared settings: no screen, and the same Hypothesis cases on every run unless EVRIN_EXAMPLES asks for new ones."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import matplotlib
import pytest
from hypothesis import HealthCheck, settings

from evrin.cli.app import main

# Files that a check of types reads, and nobody runs.
collect_ignore = ["typing"]
COMMAND = [sys.executable, "-m", "evrin.cli.app"]
matplotlib.use("Agg")
asked = os.environ.get("EVRIN_EXAMPLES")
settings.register_profile(
    "evrin",
    deadline=None,
    derandomize=asked is None,
    max_examples=int(asked or 60),
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("evrin")


LONGEST = ("test_what_ships", "test_safe_on_any_machine", "test_pages", "test_docs_are_true", "test_tiles_hold")


# Each takes three seconds or more, and has a shorter relative that stays in `make test`; named by how they begin.
LONG_BY_NATURE = tuple(Path(__file__).with_name("long_by_nature.txt").read_text(encoding="utf-8").splitlines())
# Whole files that `make quick` leaves out beside what needs the demo.
SLOW = (
    *("tests/test_the_law_of_surfaces", "tests/test_tiles_folder", "tests/test_every_key", "tests/test_quick_at_the"),
    *("tests/test_checks_hold_when", "tests/test_every_format_comes", "tests/test_clouds_and_choosing"),
    *("tests/test_sections_and", "tests/test_limits_on_both", "tests/test_interchange_of", "tests/test_safe_on_any"),
    *("tests/test_broken_files", "tests/test_odd_files", "tests/test_mesh_holds", "tests/test_loose_edges"),
    *("src/evrin/large", "src/evrin/draw", "src/evrin/demo"),
)


def pytest_collection_modifyitems(items):
    """Whatever needs the demo waits for it to be laid out, and is slow; the files that take longest begin first."""
    for item in items:
        if "demo" in getattr(item, "fixturenames", ()) or item.nodeid.startswith(SLOW):
            item.add_marker(pytest.mark.slow)
        if item.nodeid.startswith(LONG_BY_NATURE):
            item.add_marker(pytest.mark.thorough)
    items.sort(key=lambda item: item.path.stem not in LONGEST)


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """What `evrin demo` makes, and what it answers: made by the first worker that asks, copied by each."""
    base = tmp_path_factory.getbasetemp()
    shared = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "demo"
    folder, answer, part = shared / "ostrel-weir", shared / "answer.json", shared / "part.json"
    try:
        shared.mkdir()
    except FileExistsError:
        while not answer.exists():
            time.sleep(0.1)
    else:
        done = subprocess.run([*COMMAND, "demo", str(folder), "--json"], capture_output=True, text=True)
        part.write_text(done.stdout or json.dumps({"failed": done.stderr}))
        part.rename(answer)
    own = tmp_path_factory.mktemp("site") / "ostrel-weir"
    shutil.copytree(folder, own)
    return own, json.loads(answer.read_text())


@pytest.fixture
def run(demo, capsys, monkeypatch):
    """Run the command's own entry point in this process, which spares starting one for each."""

    def runner(*words, code=0, folder=demo[0]):
        monkeypatch.chdir(folder)
        monkeypatch.setattr(sys, "argv", ["evrin", *map(str, words)])
        capsys.readouterr()
        with pytest.raises(SystemExit) as ended:
            main()
        output = capsys.readouterr()
        assert ended.value.code == code, output.out + output.err
        return SimpleNamespace(stdout=output.out, stderr=output.err)

    return runner


@pytest.fixture
def listening():
    """Settings for a process that hears Ctrl-C, even where the tests run in the background of a shell, which do not."""
    return {"preexec_fn": lambda: signal.signal(signal.SIGINT, signal.default_int_handler)}


@pytest.fixture(scope="session")
def browser():
    """A browser without a screen, in which the surface is painted by the processor."""
    from playwright.sync_api import sync_playwright

    names = ("chromium", "chromium-browser", "google-chrome")
    path = os.environ.get("EVRIN_BROWSER") or next((p for p in map(shutil.which, names) if p), None)
    if not path and not os.environ.get("CI"):
        pytest.skip(
            "no Chromium: install it (apt-get install chromium), or name a browser of its kind in EVRIN_BROWSER"
        )
    assert path, "the pages are tested in Chromium, which is not there"
    painted = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--ignore-gpu-blocklist"]
    quiet = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run"]
    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path=path, args=[*painted, *quiet])
        yield opened
        opened.close()
