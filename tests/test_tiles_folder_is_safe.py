"""What `evrin tiles` keeps: nothing stale, nothing damaged that is used, nothing removed that is not Evrin's."""

import logging
import shutil
import subprocess
import sys

import numpy as np
import pytest

import evrin
from evrin import Recipe
from evrin.base.errors import DataError
from evrin.large import tiled
from evrin.recipe.store.digests import stamps_of
from test_tiles_hold import crew, hills, lay_out  # noqa: F401

WITHIN = 'keep = { within = "limit.csv" }'


def write_limit(folder, size):
    corners = [(4100, 2800), (4100 + size, 2800), (4100 + size, 2800 + size), (4100, 2800 + size), (4100, 2800)]
    rows = "".join(f"R,{x},{y}\n" for x, y in corners)
    (folder / "limit.csv").write_text("line,easting,northing\n" + rows)


@pytest.fixture
def made(tmp_path, crew):  # noqa: F811
    """A recipe, a call that makes its surface in tiles, and what it was the first time."""
    write_limit(tmp_path, 50)
    recipe = lay_out(tmp_path, hills(1_500, 3), WITHIN, "thin = { tolerance = 0.05 }")

    def again(**options):
        found = tiled(Recipe.read(recipe.path), tmp_path / "kept", crew, tile=30.0, **options)
        ground = found.within((4100.0, 2800.0, 4160.0, 2860.0))
        return found.vertices, found.heights, ground.vertices.tobytes(), ground.provenance.describe(5)

    return tmp_path, again, again()


def results_in(folder):
    (own,) = [path for path in (folder / "kept").iterdir() if path.is_dir()]
    return own, sorted(path for path in own.rglob("*.*") if path.suffix in (".npy", ".json"))


def test_each_file_that_a_source_names_is_part_of_what_results_rest_on(made):
    folder, again, before = made
    write_limit(folder, 30)
    after = again()
    assert after[0] < before[0] and after == again(fresh=True)
    opened = "import sys; seen = []; sys.addaudithook(lambda e, a: seen.append(a[0]) if e == 'open' else None)\n"
    opened += "import evrin; evrin.Recipe.read(sys.argv[1]).build(keep=False)\n"
    opened += "print(*{str(p) for p in seen if str(p).startswith(sys.argv[2])}, sep='\\n')"
    words = [sys.executable, "-c", opened, str(folder / "site.toml"), str(folder)]
    read = set(subprocess.run(words, capture_output=True, text=True, check=True).stdout.split()) - {words[3]}
    recipe = Recipe.read(folder / "site.toml")
    assert read and read <= {name for name, _ in stamps_of(folder, recipe.tables.source)}


def raised(path):
    array = np.load(path)
    array[..., -1] += 5
    np.save(path, array)


def one_bit(path):
    content = bytearray(path.read_bytes())
    content[len(content) // 2] ^= 1
    path.write_bytes(content)


@pytest.fixture
def heard(monkeypatch):
    """What goes into the log, whatever its level is."""
    texts = []
    monkeypatch.setattr(logging.getLogger("evrin"), "warning", lambda text, *given: texts.append(text % given))
    return texts


DAMAGE = {
    "one bit": one_bit,
    "emptied": lambda path: path.write_bytes(b""),
    "cut": lambda path: path.write_bytes(path.read_bytes()[:-40]),
    "foreign": lambda path: path.write_text('{"tiles": "none"}'),
    "missing": lambda path: path.unlink(),
    "a link": lambda path: (path.rename(path.with_suffix(".away")), path.symlink_to(path.with_suffix(".away"))),
    "of another": lambda path: shutil.copy(min(path.parent.iterdir()), path),
}


@pytest.mark.parametrize("how", DAMAGE)
def test_whatever_is_damaged_is_made_again_and_named(made, how, heard):
    """Each of the results in turn: the surface, its heights and its traces stay what they were."""
    folder, again, before = made
    _, results = results_in(folder)
    chosen = np.random.default_rng(len(how)).permutation(len(results))[:2].tolist()
    for number in chosen:
        path = results[number]
        content = path.read_bytes()
        DAMAGE[how](path)
        is_changed = path.is_symlink() or not path.exists() or path.read_bytes() != content
        heard.clear()
        assert again() == before, path
        assert any("made again" in text for text in heard) or how == "missing" or not is_changed


def test_a_raised_tile_is_never_in_a_surface(made):
    folder, again, before = made
    own, results = results_in(folder)
    for path in [path for path in results if path.parent.name == "ground" and path.name.endswith(".xyz.npy")]:
        raised(path)
    assert again() == before
    assert not [path for path in own.rglob("*") if path.name.startswith(".")]


def test_only_what_bears_the_mark_and_no_lock_is_removed(made):
    folder, again, before = made
    own, _ = results_in(folder)
    (folder / "kept" / "mine").mkdir()
    (folder / "kept" / "mine" / "notes.txt").write_text("precious")
    held = own.with_name("0" * 24)
    shutil.copytree(own, held)
    shutil.copytree(own, own.with_name("1" * 24))
    code = "import fcntl, sys, time; f = open(sys.argv[1], 'ab'); fcntl.flock(f, fcntl.LOCK_SH); print(1, flush=True)"
    words = [sys.executable, "-c", code + "; time.sleep(600)"]
    holding = subprocess.Popen([*words, str(held / "lock")], stdout=subprocess.PIPE)
    at_work = subprocess.Popen([*words, str(own / "lock")], stdout=subprocess.PIPE)
    try:
        assert holding.stdout.read(2) == at_work.stdout.read(2) == b"1\n"
        assert again() == before
        assert held.is_dir() and not own.with_name("1" * 24).exists()
        with pytest.raises(DataError, match="another run is at work"):
            again(fresh=True)
    finally:
        for each in (holding, at_work):
            each.kill()
            each.communicate()
    assert again(fresh=True) == before
    assert (folder / "kept" / "mine" / "notes.txt").read_text() == "precious" and not held.exists()


def test_results_are_not_written_through_a_link(made):
    folder, again, _ = made
    own, _ = results_in(folder)
    own.rename(folder / "elsewhere")
    own.symlink_to(folder / "elsewhere")
    with pytest.raises(DataError, match="it is a link"):
        again()
    assert evrin.DataError is DataError and (folder / "elsewhere" / "ground").is_dir()
