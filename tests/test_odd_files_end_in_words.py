"""Odd values wherever a format has a value; records line by line; what is kept, by whoever could have written it."""

import json
import os

import numpy as np
import pytest

import odd_files
from evrin import Recipe
from evrin.base import cache_folder
from evrin.base.errors import EvrinError
from evrin.formats import read
from evrin.recipe import append_entry, read_record
from evrin.recipe.store.kept_results import FolderStore
from sites import lay_out

pytestmark = [
    pytest.mark.filterwarnings("ignore::RuntimeWarning"),
    # A reader's own log may stumble over bytes that are no text.
    pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning"),
]


@pytest.mark.parametrize("kind", odd_files.KINDS)
def test_an_odd_file_holds_something_or_is_refused_in_words(kind):
    assert [wrong for seed in range(12) if (wrong := odd_files.judge(kind, seed))] == []


@pytest.mark.thorough
@pytest.mark.parametrize("kind", odd_files.KINDS)
def test_a_thousand_odd_files_hold_something_or_are_refused_in_words(kind):
    assert [wrong for seed in range(12, 1000) if (wrong := odd_files.judge(kind, seed))] == []


POINT = '{"type":"Feature","properties":{%s},"geometry":{"type":"Point","coordinates":[1,2,%s]}}'
NINES = "9" * 401
LANDXML = "<LandXML xmlns='http://www.landxml.org/schema/LandXML-1.2'><Surfaces>%s</Surfaces></LandXML>"


@pytest.mark.parametrize(
    ("name", "text", "named"),
    [
        ("a.geojson", POINT % ("", NINES), "geometry cannot be read"),
        ("a.obj", "v 0 0 1\nv 4 0 1\nv 0 4 1\nf -x -2 -1\n", "not a whole number"),
        ("a.obj", "v 0 0 1\nv 4 0 1\nv 0 4 1\nf -inf 2 3\n", "not a whole number"),
        (
            "a.xml",
            "<LandXML xmlns='http://www.landxml.org/schema/LandXML-1.2'><y:P id='1'>1 2 3</y:P></LandXML>",
            "y:P",
        ),
        ("a.ply", f"ply\nformat ascii 1.0\nelement face {'9' * 6000}\nend_header\n", "more than the file has bytes"),
        ("a.xml", LANDXML % "<Surface><Definition><Faces><F i='1'>1 2 3</F></Faces></Definition></Surface>", "a.xml"),
        ("site.toml", f"[trim]\nlongest_edge = {'9' * 6000}\n", "more digits than can be read"),
        ("site.toml", f"a = {'[' * 3000}{']' * 3000}\n", "nest deeper"),
    ],
)
def test_known_stumbling_blocks_are_named(tmp_path, name, text, named):
    (tmp_path / name).write_text(text)
    with pytest.raises(EvrinError, match=named):
        Recipe.read(tmp_path / name) if name.endswith(".toml") else read(tmp_path / name)


def test_large_numbers_and_odd_systems_in_attributes_are_kept_as_they_are(tmp_path):
    (tmp_path / "a.geojson").write_text(POINT % (f'"depth": {NINES}', "3"))
    assert str(read(tmp_path / "a.geojson").points.columns["depth"][0]) == NINES
    listed = '{"type": "FeatureCollection", "crs": {"properties": 5}, "features": [%s]}' % (POINT % ("", "3"))
    (tmp_path / "b.geojson").write_text(listed)
    assert read(tmp_path / "b.geojson").points.xyz.tolist() == [[1.0, 2.0, 3.0]]


def test_a_handle_larger_than_any_number_of_rows_is_replaced_by_a_count(tmp_path):
    entity = "  0\nPOINT\n  5\n%s\n  8\nSPOTS\n 10\n1.0\n 20\n2.0\n 30\n3.0\n"
    text = f"  0\nSECTION\n  2\nENTITIES\n{entity % ('F' * 40)}{entity % 'A1'}  0\nENDSEC\n  0\nEOF\n"
    (tmp_path / "a.dxf").write_text(text)
    assert read(tmp_path / "a.dxf").points.shots.line_of.tolist() == [1, 0xA1]


@pytest.mark.parametrize("sign", ["\u2028", "\u2029", "\u0085", "\x0b", "\x1c"])
def test_a_name_may_hold_whatever_ends_a_line_elsewhere(tmp_path, sign):
    for name in ("heap", f"heap{sign}two"):
        append_entry(tmp_path / "r.jsonl", name, {}, {}, "m", [{"area": "all", "net": 1.0}], "2026-01-01")
    entries, broken = read_record(tmp_path / "r.jsonl")
    assert [entry.name for entry in entries] == ["heap", f"heap{sign}two"] and broken == []


GOOD = {"form": 1, "date": "2026-01-01", "name": "a", "asked": {"name": "a"}, "files": {}, "units": "m"}
GOOD["rows"] = [{"area": "all", "net": 1.0, "net_95": 0.1}]
ODD_KEYS = [("rows", "x"), ("rows", []), ("rows", [{"area": "all", "net": "x"}]), ("date", 5), ("date", "soon")]
ODD_KEYS += [("name", ["a"]), ("units", ["m"]), ("files", [1]), ("files", {"a": 1}), ("asked", 5)]
ODD_KEYS += [("asked", {"files": 3}), ("rows", [{"area": "all", "net": [1.0]}]), ("rows", {"area": 1})]


@pytest.mark.parametrize(("key", "value"), ODD_KEYS)
def test_an_odd_line_of_a_record_is_named_and_hides_no_other(tmp_path, key, value):
    rows = [json.dumps(GOOD), json.dumps({**GOOD, key: value}), "[" * 100_000, '{"form": 1', "\x00", json.dumps(GOOD)]
    (tmp_path / "r.jsonl").write_text("\n".join(rows) + "\n")
    entries, broken = read_record(tmp_path / "r.jsonl")
    assert [entry.line for entry in entries] == [1, 6] and broken == [2, 3, 4, 5]
    assert append_entry(tmp_path / "r.jsonl", "b", {}, {}, "m", GOOD["rows"], "2026-02-01") == 7
    assert len(read_record(tmp_path / "r.jsonl")[0]) == 3


def test_what_an_entry_asks_that_cannot_be_is_its_state_in_words(tmp_path, capsys, monkeypatch):
    from evrin.cli.asking.record_command import again_of

    (tmp_path / "r.jsonl").write_text(json.dumps({**GOOD, "asked": {"levell": 3}, "files": {"a" * 5000: "x"}}) + "\n")
    entries, _ = read_record(tmp_path / "r.jsonl")
    assert again_of(tmp_path / "r.jsonl", entries, as_json=True) == 1
    state = json.loads(capsys.readouterr().out)["rows"][0]["state"]
    assert "is missing" in state and "levell" in state and "http" not in state


def test_records_of_builds_and_files_that_others_wrote_are_not_used(tmp_path):
    path = lay_out(tmp_path)
    Recipe.read(path).build(keep=True)
    store = FolderStore(tmp_path / ".evrin-cache")
    assert store.remembered("site.toml")
    for record in (tmp_path / ".evrin-cache").glob("*.json"):
        held = json.loads(record.read_text())
        held["record"] = {**held["record"], "more": ["1", "2"]}
        record.write_text(json.dumps(held))
    assert store.stamped() == {} and store.remembered("site.toml") is None


def test_a_file_changed_by_another_under_its_old_digest_is_read_again(tmp_path):
    path = lay_out(tmp_path)
    before = Recipe.read(path).build(keep=True).surface.vertices[:, 2].max()
    source = tmp_path / "day1.csv"
    source.write_text(source.read_text().replace("42.0", "47.0"))
    found = source.stat()
    stamp = f"{found.st_size} {found.st_mtime_ns} {found.st_ctime_ns} {found.st_ino}"
    record = tmp_path / ".evrin-cache" / "files-known.json"
    held = json.loads(record.read_text()) if record.exists() else {"record": {}, "signed": ""}
    claimed = {str(source): [stamp, "0" * 32]}
    record.write_text(json.dumps({**held, "record": claimed}))
    after = Recipe.read(path).build(keep=True).surface.vertices[:, 2].max()
    assert np.isclose(before, 42.0) and np.isclose(after, 47.0)


@pytest.mark.skipif(os.name != "posix", reason="files have no such permissions")
def test_a_key_that_others_could_read_is_made_anew(tmp_path, monkeypatch):
    monkeypatch.setenv("EVRIN_CACHE", str(tmp_path / "own"))
    for cached in (cache_folder.kept_folder, cache_folder.own_key):
        cached.cache_clear()
    try:
        first = cache_folder.own_key()
        cache_folder.own_key.cache_clear()
        assert cache_folder.own_key() == first
        (tmp_path / "own" / "key").chmod(0o644)
        cache_folder.own_key.cache_clear()
        second = cache_folder.own_key()
        assert second != first and (tmp_path / "own" / "key").stat().st_mode & 0o077 == 0
    finally:
        for cached in (cache_folder.kept_folder, cache_folder.own_key):
            cached.cache_clear()
