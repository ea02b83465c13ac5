"""Every key of every table and every file that one names is changed in a kept build, and compared with a fresh one."""

import tomllib
from typing import Literal, get_args, get_origin

import numpy as np
import pytest
import tomlkit
from pydantic import BaseModel

from evrin import EvrinError, Recipe
from evrin.recipe.building.schema import files_named, tables_model, tables_of
from random_recipes import FILES, SOURCES, TABLES, field
from sites import BASE, lay_out

MORE = """\
[[source]]
file = "cloud.xyz"
role = "cloud"
columns = "xyz"
raise_by = 0.01
keep = { within = "wide.csv" }
thin = { cell = 3.0 }
ground_filter = { cell = 3.0 }

[[source]]
file = "odd.csv"
role = "points"
units = "ft"
set_height = [{ number = "o1", to = 41.7 }]

[carve]
edges = "crisp"

[check]
height_tolerance = 0.03

[[leave_out]]
numbers = ["5"]

[field_codes]
start = "ST"
code = [{ match = "RIM", means = "line" }]

[[check_points]]
file = "check.csv"
columns = "PNEZ"
tolerance = 0.05

[[volume]]
name = "above forty"
level = 40.0
within = "hole.csv"
allow_uncovered = true

[[accept]]
finding = "near-duplicates"
at = [4021.0, 2820.0]
why = "seen"
"""
RNG = np.random.default_rng(4)
FURTHER = {
    "cloud__xyz": "".join(f"{x:.2f} {y:.2f} {40.4:.2f}\n" for x, y in RNG.random((60, 2)) * 20.0 + (4002.0, 2802.0)),
    "odd__csv": "number,x,y,z,code\n"
    + "".join(
        f"o{k},{(4002 + 5 * k) / 0.3048},{2826 / 0.3048},{40.2 / 0.3048},{c}\n"
        for k, c in enumerate(["RIM ST", "RIM", "RIM"])
    ),
    "check__csv": "1,2805,4005,40.2\n2,2815,4011,40.3\n",
}
RICH = BASE + "\n" + "\n".join([*SOURCES, *TABLES]) + MORE


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    """A folder with a recipe of tables of every kind, and all that was kept of its build."""
    folder = tmp_path_factory.mktemp("kept")
    path = lay_out(folder, base=RICH, field=field(), **FILES, **FURTHER)
    return path, outcome(path, keep=True)


def outcome(path, keep):
    try:
        build = Recipe.read(path).build(keep=keep)
    except EvrinError as error:
        return str(error)
    ground = build.surface
    arrays = [each.tobytes() for each in (ground.vertices, ground.triangles, ground.edge_lines, ground.hidden)]
    named = [ground.name, ground.description, ground.kind, ground.colour, ground.units, ground.crs, ground.facts]
    found = [(str(f), f.shots, f.fix) for f in build.findings]
    volumes = [(v.name, repr(v)) for v in build.volumes]
    checked = [(name, points.table.to_csv()) for name, points in build.checked]
    return [arrays, named, found, build.tally_rows, volumes, checked, build.edits, list(build.open_findings)]


def models_in(annotation):
    """The tables that a key may hold."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [model for each in get_args(annotation) for model in models_in(each)]


def choices_in(annotation):
    if get_origin(annotation) is Literal:
        return list(get_args(annotation))
    return [choice for each in get_args(annotation) for choice in choices_in(each)]


def others(field, value):
    """Other values for a key, the likeliest first; not all of them are allowed."""
    if isinstance(value, bool):
        return [not value]
    if isinstance(value, (int, float)):
        return [value * 1.25 + 0.13, value + 1]
    if isinstance(value, list):
        return [moved(value), value[:-1]]
    choices = [choice for choice in choices_in(field.annotation) if choice != value]
    return choices or ([value + "x"] if value else [0.37, 2.5, True, "x", "1", ["5"], ["GRASS"], [4012.0, 2811.0]])


def moved(value):
    if isinstance(value, list):
        return [moved(each) for each in value]
    return value + 0.7 if isinstance(value, (int, float)) else f"{value}x"


def changes(document, model, seen):
    """Yield the path of each key that a document gives, and once those that it could give, with other values for it."""
    for key, described in model.model_fields.items():
        value, inner = document.get(key), models_in(described.annotation)
        rows = value if isinstance(value, list) else [value]
        if inner and any(isinstance(row, dict) for row in rows):
            for number, row in enumerate(rows):
                way = (key, number) if isinstance(value, list) else (key,)
                fits = (m for m in inner if "do" not in row or row["do"] in choices_in(m.model_fields["do"].annotation))
                for path, values in changes(row, next(fits), seen):
                    yield (*way, *path), values
        elif key not in ("do", "help", "undone") and (value is not None or (model, key) not in seen):
            seen.add((model, key))
            default = described.default if isinstance(described.default, (bool, int, float, str)) else None
            yield (key,), others(described, default if value is None else value)


def put(document, path, value):
    for step in path[:-1]:
        document = document[step]
    document[path[-1]] = value


@pytest.mark.slow
@pytest.mark.parametrize("key", list(tables_model().model_fields))
def test_a_changed_key_changes_what_is_kept(kept, key):
    path, before = kept
    of_key = [change for change in changes(tomllib.loads(RICH), tables_model(), set()) if change[0][0] == key]
    altered = 0
    for place, values in of_key:
        texts = [changed for value in values if (changed := text_with(place, value))]
        if texts:
            path.write_text(texts[0])
            again = outcome(path, keep=True)
            assert again == outcome(path, keep=False), place
            altered += again != before
    path.write_text(RICH)
    assert outcome(path, keep=True) == before
    # Nothing here is combined, and no triangle is flat.
    assert altered or key in ("combine", "flat_triangles")


def text_with(place, value):
    """The recipe with another value for a key; empty where that is not allowed."""
    changed = tomllib.loads(RICH)
    put(changed, place, value)
    try:
        tables_of(changed)
    except ValueError:
        return ""
    return tomlkit.dumps(changed)


@pytest.mark.slow
def test_a_changed_file_changes_what_is_kept(kept):
    path, before = kept
    named = files_named(Recipe.read(path).tables)
    assert len(named) >= 12
    for name in named:
        file = path.parent / name
        text = file.read_text()
        digit = max(k for k, sign in enumerate(text) if sign in "12345678")
        file.write_text(text[:digit] + str(int(text[digit]) + 1) + text[digit + 1 :])
        again = outcome(path, keep=True)
        assert again == outcome(path, keep=False), name
        file.write_text(text)
    assert outcome(path, keep=True) == before


def test_the_reference_systems_of_site_and_source_change_what_is_kept(tmp_path):
    rows = "".join(f"{k},{9.5 + 0.001 * (k % 4)},{51.1 + 0.0007 * (k // 4)},{40 + k % 3}\n" for k in range(16))
    text = '[site]\ncrs = "EPSG:25832"\n[[source]]\nfile = "d.csv"\nrole = "points"\ncrs = "EPSG:4326"\n'
    path = lay_out(tmp_path, base=text, d__csv="number,x,y,z\n" + rows)
    seen = [outcome(path, keep=True)]
    for old, new in (("25832", "25833"), ("4326", "25832"), ('"d.csv"', '"d.csv"\nexchanged = true')):
        path.write_text(text.replace(old, new))
        seen.append(outcome(path, keep=True))
        assert seen[-1] == outcome(path, keep=False) and seen[-1] not in seen[:-1], new
