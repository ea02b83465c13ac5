"""Folders of projects as earlier versions left them: recipe, record, cache and tiles are read, or refused in words."""

import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from evrin import Recipe
from evrin.recipe import read_record

EVRIN = str(Path(sys.executable).with_name("evrin"))
PACKED = sorted(Path(__file__).with_name("data").glob("*.zip"))


@pytest.fixture(params=PACKED, ids=lambda path: path.stem)
def left(request, tmp_path):
    shutil.unpack_archive(request.param, tmp_path)
    return tmp_path


def answer(folder, *words):
    done = subprocess.run([EVRIN, "-q", *words, "--json"], cwd=folder, capture_output=True, text=True)
    assert done.returncode in (0, 1), done.stderr
    return json.loads(done.stdout)


def test_recipe_and_what_was_kept_give_what_a_fresh_build_gives(left):
    assert (left / ".evrin-cache").is_dir()
    kept = Recipe.read(left / "site.toml").build(keep=True)
    fresh = Recipe.read(left / "site.toml").build(keep=False)
    assert kept.surface.vertices.tobytes() == fresh.surface.vertices.tobytes()
    assert kept.surface.triangles.tobytes() == fresh.surface.triangles.tobytes()
    assert [str(each) for each in kept.findings] == [str(each) for each in fresh.findings]


def test_a_record_is_read_and_its_entries_are_measured_again(left):
    entries, broken = read_record(left / "record.jsonl")
    assert len(entries) == 1 and broken == []
    (row,) = answer(left, "record", "record.jsonl", "--again")["rows"]
    assert row["state"] == "agrees"


@pytest.mark.slow
def test_tiles_go_on_in_a_folder_of_before(left):
    kept = answer(left, "tiles", "flight.toml", "--tile", "10", "--workers", "1")["rows"]
    shutil.rmtree(left / "flight-tiles")
    assert answer(left, "tiles", "flight.toml", "--tile", "10", "--workers", "1")["rows"] == kept
