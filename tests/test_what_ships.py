"""Commands as processes of their own, on surveys of many kinds, whatever kernels are kept: none, half or all.

Each kind is built with all of them and with none or half; ``EVRIN_BUILDS`` asks for so many builds in all three states,
on a machine whose cores are all kept busy.
"""

import os
import random
import shutil
import subprocess
import sys
from contextlib import contextmanager
from pathlib import Path

import pytest

from evrin.base.cache_folder import kept_folder
from surveys import KINDS, lay_out_survey

BUILDS = int(os.environ.get("EVRIN_BUILDS", "0"))
STATES = ("none", "half", "all")
EVRIN = str(Path(sys.executable).with_name("evrin"))
COMMANDS = """\
inspect shots.csv --json
build site.toml --json -o ground.xml
check site.toml --json
figures site.toml --json
height site.toml --at 4070,2850 --json
contours site.toml --interval 0.5 --smooth 1 -o contours.geojson
map site.toml --shading slope -o map.png
profile site.toml --along 4062,2842,4090,2870 --json
sections site.toml --along 4062,2842,4090,2870 --every 15 --left 5 --right 5 -o sections.csv
volume site.toml --to-level 41 --allow-uncovered --json
water site.toml --at 4070,2850 --json
trust site.toml --json
bands site.toml --json
outline site.toml -o outline.geojson
compare site.toml site.toml --json
status site.toml --json
convert site.toml ground.ply
report site.toml -o report.html
"""


@pytest.fixture(scope="session")
def prepared():
    """The folder of this user's kernels, with all of them in it."""
    subprocess.run([EVRIN, "--quiet", "prepare"], check=True, capture_output=True)
    return kept_folder() / "kernels"


def cache_in(folder, state, prepared, seed):
    """A cache folder in which no kernels, a random half of their files, or all are kept."""
    folder.mkdir(mode=0o700, parents=True)
    if state == "all":
        (folder / "kernels").symlink_to(prepared)
    elif state == "half":
        chance = random.Random(seed)
        shutil.copytree(
            prepared,
            folder / "kernels",
            ignore=lambda _, names: [n for n in names if chance.random() < 0.5 and n.count(".")],
        )
    return folder


@contextmanager
def busy_cores():
    """Every core has something else to do."""
    spinning = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(os.cpu_count() or 1)]
    try:
        yield
    finally:
        for each in spinning:
            each.kill()
            each.wait()


def evrin(words, folder, cache):
    env = os.environ | {"EVRIN_CACHE": str(cache)}
    return subprocess.run([EVRIN, *words], cwd=folder, env=env, capture_output=True, text=True)


def built(recipe, cache):
    """The bytes of the surface that a first build gives."""
    done = evrin(["build", "-q", "site.toml", "--fresh", "-o", "ground.ply"], recipe.parent, cache)
    assert done.returncode in (0, 1), (recipe, done.stderr)
    return (recipe.parent / "ground.ply").read_bytes()


def check_builds(folder, kind, seeds, prepared, states=STATES):
    for seed in seeds:
        surfaces = set()
        for state in states:
            place = folder / f"{seed}-{state}"
            recipe = lay_out_survey(place, kind, seed)
            surfaces.add(built(recipe, cache_in(place / "cache", state, prepared, seed)))
            shutil.rmtree(place)
        assert len(surfaces) == 1, (kind, seed)


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
def test_a_first_build_never_fails_and_gives_the_same_surface_whatever_kernels_are_kept(kind, tmp_path, prepared):
    if not BUILDS:
        check_builds(tmp_path, kind, [0], prepared, [STATES[list(KINDS).index(kind) % 2], "all"])
        return
    seeds = range(-(-BUILDS // len(STATES) // len(KINDS)))
    with busy_cores():
        check_builds(tmp_path, kind, seeds, prepared)


@pytest.mark.thorough
def test_every_command_answers_alike_whatever_kernels_are_kept(tmp_path, prepared):
    answers = {}
    for state in STATES:
        folder = tmp_path / state
        recipe = lay_out_survey(folder, "breaklines", 2)
        cache = cache_in(tmp_path / f"{state}-cache", state, prepared, 5)
        for line in COMMANDS.splitlines():
            words = [word.replace("4062,2842,4090,2870", "4062,2842 4090,2870") for word in line.split()]
            done = evrin(words, recipe.parent, cache)
            assert done.returncode in (0, 1), (state, line, done.stderr)
            without_times = [row for row in done.stdout.splitlines() if '"seconds"' not in row]
            assert answers.setdefault(line, without_times) == without_times, (state, line)


IMPORTS = """
import sys, threading
first = set()
def heard(event, arguments):
    if event == "import" and threading.current_thread() is not threading.main_thread():
        first.add(arguments[0].partition(".")[0])
sys.addaudithook(heard)
from evrin.cli.start import main
try:
    main()
except SystemExit:
    print(sorted(first & {"pandas", "numpy", "matplotlib", "pydantic", "lxml"}), file=sys.stderr)
"""


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["plain", "cloud"])
def test_no_thread_is_the_first_to_import_a_package(kind, tmp_path):
    recipe = lay_out_survey(tmp_path / "site", kind, 3)
    words = [sys.executable, "-c", IMPORTS, "build", "-q", str(recipe), "--fresh"]
    done = subprocess.run(
        words, env=os.environ | {"EVRIN_CACHE": str(tmp_path / "cache")}, capture_output=True, text=True
    )
    assert done.stderr.splitlines()[-1] == "[]", done.stderr
