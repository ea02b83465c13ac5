"""Upgrades give the new numbers, inputs are never written over, and the checks of the code itself run."""

import importlib
import io
import json
import os
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import ezdxf
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

import evrin
from evrin.base.errors import DataError
from evrin.cli.layout import print_table
from evrin.formats import How, read
from evrin.kernels import kept
from evrin.kernels.preparing import ROOMS
from evrin.recipe import RecipeDocument
from evrin.recipe.building.schema import single_kinds, tables_of
from evrin.surface import Grid
from sites import grid_field, lay_out

ROOT = Path(__file__).parents[1]
PACKAGE = ROOT / "src" / "evrin"
HEIGHT = (
    "import evrin, numpy as np; "
    "ground = evrin.Surface.from_arrays([[0.0, 0, 1], [4, 0, 1], [4, 4, 2]], [[0, 1, 2]]); "
    "print(float(ground.height(3.0, 1.0)))"
)


def asked(code, **variables):
    return subprocess.run(
        [sys.executable, "-c", code], env=os.environ | variables, capture_output=True, text=True, check=True
    )


def test_where_nothing_can_be_kept_a_temporary_place_is_used_and_named(tmp_path):
    (tmp_path / "file").write_text("no folder")
    code = "import logging; from evrin.base.cache_folder import kept_folder; print(kept_folder())"
    output = asked(code, EVRIN_CACHE=str(tmp_path / "file" / "kept"), TMPDIR=str(tmp_path))
    place = Path(output.stdout.strip())
    assert place.is_dir() and place.parent == tmp_path and place.stat().st_mode & 0o077 == 0
    assert "cannot be written to; compiled kernels are kept in" in output.stderr
    place.chmod(0o777)
    again = Path(asked(code, EVRIN_CACHE=str(tmp_path / "file" / "kept"), TMPDIR=str(tmp_path)).stdout.strip())
    assert again != place and again.parent == tmp_path


def test_kernels_of_old_versions_are_tidied_and_nothing_else_is(tmp_path, monkeypatch):
    monkeypatch.setattr(kept, "kept_folder", lambda: tmp_path)
    kernels = tmp_path / "kernels"
    for number in range(6):
        (kernels / f"old{number}").mkdir(parents=True)
        (kernels / f"old{number}" / "kept-by-evrin").touch()
        os.utime(kernels / f"old{number}" / "kept-by-evrin", (number, number))
    (kernels / "mine").mkdir()
    kept.kernels_folder.cache_clear()
    now = kept.kernels_folder()
    kept.kernels_folder.cache_clear()
    assert {path.name for path in kernels.iterdir()} == {"mine", "old3", "old4", "old5", now.name}


def test_kernels_are_only_in_the_rooms_that_are_prepared():
    for path in PACKAGE.rglob("*.py"):
        if path.relative_to(PACKAGE).parts[0] not in ROOMS:
            assert not re.search(r"evrin\.kernels import .*\b(kernel|inner|lean|lean_kernel)\b", path.read_text()), path


def test_the_test_command_lints_checks_types_and_contracts():
    output = subprocess.run(["make", "-n", "test"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    for tool in ("ruff check", "ruff format --check", "mypy", "lint-imports", "pytest"):
        assert f".venv/bin/{tool}" in output or f"-m {tool}" in output, tool
    assert "make test" in (ROOT / ".ci" / "run").read_text()


RING = "line,x,y\nr,4001,2801\nr,4026,2801\nr,4026,2826\nr,4001,2826\nr,4001,2801\n"
TABLES = '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\n\n[[flat]]\nfile = "pond.csv"\nlevel = 40.0\non = false\n'


@pytest.fixture
def site(tmp_path):
    lay_out(tmp_path, TABLES, field=grid_field(), limit__csv=RING, pond__csv=RING)
    return tmp_path


@pytest.mark.parametrize("name", ["day1.csv", "limit.csv", "pond.csv", "DAY1.CSV", "sub/../limit.csv", "link.csv"])
def test_no_input_of_a_recipe_is_ever_written_over(site, run, name):
    (site / "sub").mkdir()
    (site / "link.csv").symlink_to("day1.csv")
    os.link(site / "limit.csv", site / "hard.csv")
    before = {path: path.read_bytes() for path in site.glob("*.*")}
    for target in (name, "hard.csv"):
        output = run("contours", "site.toml", "-o", target, "--overwrite", code=2, folder=site)
        assert "inputs are never written over" in output.stderr
    output = run("build", "site.toml", "-o", "x.xml", "-o", "site.toml", code=2, folder=site)
    assert "site.toml" in output.stderr
    assert {path: path.read_bytes() for path in before} == before


def test_what_evrin_did_not_write_is_replaced_only_where_asked(site, run):
    (site / "mine.csv").write_text("years of work")
    output = run("contours", "site.toml", "-o", "mine.csv", code=2, folder=site)
    assert "give --overwrite" in output.stderr and (site / "mine.csv").read_text() == "years of work"
    run("contours", "site.toml", "-o", "mine.csv", "--overwrite", folder=site)
    written = (site / "mine.csv").read_bytes()
    run("contours", "site.toml", "-o", "mine.csv", "--interval", "0.1", folder=site)
    assert (site / "mine.csv").read_bytes() != written
    (site / "mine.csv").write_text("a colleague's notes")
    run("contours", "site.toml", "-o", "mine.csv", code=2, folder=site)
    run("build", "site.toml", "-o", "ground.xml", "--json", code=1, folder=site)
    assert "inputs are never" in run("convert", "ground.xml", "ground.xml", code=2, folder=site).stderr


def test_python_too_refuses_to_write_over_a_source_but_may_write_its_own_again(site):
    ground = evrin.Recipe.read(site / "site.toml").build().surface
    contours = ground.contours(0.1)
    with pytest.raises(DataError, match="inputs are never written over"):
        evrin.write(site / "limit.csv", contours)
    evrin.write(site / "own.csv", contours)
    evrin.write(site / "own.csv", contours)


def test_every_command_that_writes_has_the_switch(run):
    for command in ("build", "check", "contours", "map", "view", "profile", "sections", "report", "convert", "height"):
        assert "--overwrite" in run(command, "--help").stdout, command
    assert json.loads(run("figures", "clean.toml", "--json").stdout)


@given(st.text("abcABC.-_ é", min_size=1, max_size=12))
def test_a_file_is_known_by_every_way_to_write_its_name(tmp_path_factory, name):
    folder = tmp_path_factory.mktemp("names")
    source = folder / f"x{name}.csv"
    source.write_text("1,2,3\n")
    from evrin.base.written_files import check_output, running_command

    with running_command([source], overwrite=True):
        for way in (source, folder / "." / source.name, folder / source.name.upper(), Path(os.path.relpath(source))):
            with pytest.raises(DataError, match="never written over"):
                check_output(way)
        check_output(folder / f"y{name}.csv")


BLOCKS = (
    ("source", '[[source]]\nfile = "b.csv"\nrole = "breaklines"\n  [source.keep]\n  layers = ["A", "B"]\n'),
    ("trim", "[trim]\nlongest_edge = 30.0\n"),
    ("edit", '[[edit]]\ndo = "flip"\nat = [4010.0,\n  2805.0]\n'),
    ("edit", """[[edit]]\ndo = "flip"\nat = [4.0, 5.0]\nwhy = \'\'\'it [[reads]] # so\n\'\'\'\n"""),
    ("boundary", '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\nkeep = { names = ["r#"] }\n'),
    ("field_codes", '[field_codes]\nstart = "ST"\n[[field_codes.code]]\nmatch = "TOP"\nmeans = "line"\n'),
    ("check", "[ check ]\n\theight_tolerance = 0.05\n"),
)


@pytest.mark.slow
@given(data=st.data())
def test_all_text_outside_what_is_changed_stays_byte_for_byte(tmp_path_factory, data):
    picked = data.draw(st.permutations(BLOCKS))
    lines, blocks = ['accept = [ { finding = "hollow", why = "a # pond" } ] # inline 0', "# the recipe", ""], []
    lines += [
        "[site] # head",
        'name = "x" # name',
        "[[source]] # first",
        'file = "day1.csv" # d',
        'role = "points" # p',
    ]
    for number, (kind, text) in enumerate(picked):
        lines += [f"# lead {number}"] if data.draw(st.booleans()) else ["", f"# apart {number}", ""]
        start = len(lines)
        lines += [line if "why" in line or line.startswith("'") else f"{line}  # {number}.{k}"
                  for k, line in enumerate(text.splitlines())]  # fmt: skip
        blocks.append((kind, start, len(lines)))
    newline = data.draw(st.sampled_from(["\n", "\r\n"]))
    path = tmp_path_factory.mktemp("recipe") / "r.toml"
    for name in ("day1.csv", "b.csv", "limit.csv"):
        (path.parent / name).touch()
    old = newline.join(lines) + (newline if data.draw(st.booleans()) else "")
    path.write_bytes(b"\xef\xbb\xbf" * data.draw(st.booleans()) + old.encode())
    before = path.read_bytes()
    chosen = data.draw(st.integers(0, len(blocks) - 1))
    kind, start, stop = blocks[chosen]
    number = None
    if kind not in single_kinds():
        number = 1 + [k for k, block in enumerate(blocks) if block[0] == kind].index(chosen) + (kind == "source")
    document = RecipeDocument(path)
    what = data.draw(st.sampled_from(["off", "put", "append", "drop", "accept"]))
    own = range(start, stop)
    if what == "off":
        document.switch(kind, number, False) if kind not in ("check", "site") else document.put(kind, number, {})
    elif what == "put":
        document.put(kind, number, {"why": "because"} if kind not in ("check", "field_codes") else {})
    elif what == "append":
        document.append("edit", do="flip", at=(1.0, 2.0))
        own = range(0)
    elif what == "accept":
        document.append("accept", finding="hollow", at=[1.0, 2.0], why="dry")
        own = range(1)
    else:
        document.drop(kind, number)
        own = range(start - 1, stop)
    document.save()
    after = path.read_bytes()
    assert after[:3] == before[:3] or not before.startswith(b"\xef")
    others = [line for k, line in enumerate(lines) if k not in own and line]
    output = after.decode("utf-8-sig").split(newline)
    assert [line for line in output if line in set(others)] == others
    if what == "off":
        document.switch(kind, number, True) if kind != "check" else None
        document.save()
        assert path.read_bytes() in (before, before + newline.encode())


@pytest.mark.parametrize("width", [24, 60, 80, 100, 120])
@given(data=st.data())
def test_a_table_keeps_every_digit_and_every_head_at_any_width(width, data):
    words = st.text("abcdefg[]/ ", max_size=30)
    heads = data.draw(
        st.lists(st.sampled_from(["plan area", "source", "left out", "what", "easting"]), min_size=1, max_size=9)
    )
    numeric = [data.draw(st.booleans()) for _ in heads]
    rows = [
        [
            f"{data.draw(st.integers(0, 10**9)):,}.{k}7" if is_number else data.draw(words)
            for k, is_number in enumerate(numeric)
        ]
        for _ in range(data.draw(st.integers(1, 4)))
    ]
    stream = io.StringIO()
    print_table(Console(file=stream, width=width, highlight=False), heads, rows, numeric)
    output = stream.getvalue()
    for row in rows:
        for cell, is_number in zip(row, numeric, strict=True):
            assert not is_number or cell in output
            assert all(word in output for word in cell.split() if len(word) <= 10)
    assert all(word in output for head in heads for word in head.split())
    if width >= 60:
        assert max(map(len, output.splitlines())) <= width


@pytest.mark.slow
def test_tables_at_the_terminal_lose_nothing(run, monkeypatch):
    plain = run("figures", "clean.toml").stdout
    tally = json.loads(run("build", "clean.toml", "--json").stdout)["rows"]
    for width in ("60", "80", "100", "120"):
        monkeypatch.setenv("COLUMNS", width)
        output = run("build", "clean.toml").stdout
        assert max(map(len, output.splitlines())) <= int(width)
        assert all(f"{row['read']:,}" in output and f"{row['used']:,}" in output for row in tally)
        assert set(run("figures", "clean.toml").stdout.split()) == set(plain.split())


@pytest.mark.parametrize("value", ["nan", "inf", "-inf", "1e-8", "1e-300", "0", "-1"])
@pytest.mark.parametrize(
    "words",
    [
        ("contours", "clean.toml", "-o", "never.csv", "--interval"),
        ("points", "clean.toml", "--along", "field/track-centre.csv", "-o", "never.csv", "--every"),
        ("profile", "clean.toml", "--along", "field/track-centre.csv", "-o", "never.csv", "--every"),
        ("sections", "clean.toml", "--along", "field/track-centre.csv", "-o", "never.csv", "--every"),
        ("convert", "clean.toml", "never.asc", "--cell"),
    ],
)
def test_absurd_numbers_are_refused_before_any_work(run, demo, words, value):
    output = run(*words, value, *(("--left", 1, "--right", 1) if words[0] == "sections" else ()), code=2)
    assert output.stderr.splitlines()[-1].startswith("error: ") and not list(demo[0].glob("never*"))


def test_contours_of_more_pieces_than_can_be_drawn_are_refused():
    steep = evrin.triangulate([[k % 40, k // 40, 1000.0 * (k % 7)] for k in range(1600)])
    with pytest.raises(DataError, match=r"contours of [0-9,]+ pieces; at most 50,000,000"):
        steep.contours(0.1)


def test_an_error_of_ours_has_its_own_code_one_line_and_a_file_to_send(run, monkeypatch):
    def fails(*_):
        raise ZeroDivisionError("a [/b] defect\n$x$")

    monkeypatch.setattr("evrin.cli.asking.place_commands.worked_out", fails)
    output = run("figures", "clean.toml", code=70).stderr
    (line,) = output.splitlines()
    assert "ZeroDivisionError: a [/b] defect $x$" in line and "Traceback" not in output
    sent = Path(line.rpartition(" ")[2])
    assert "Traceback" in sent.read_text() and "figures clean.toml" in sent.read_text()
    sent.unlink()
    output = run("-v", "figures", "clean.toml", code=70).stderr
    assert "Traceback" in output
    Path(output.split()[-1]).unlink()


def test_the_module_is_the_command_and_h_is_help():
    output = subprocess.run([sys.executable, "-m", "evrin", "build", "-h"], capture_output=True, text=True, check=True)
    assert "--overwrite" in output.stdout
    started = "import evrin.cli.start as s, sys\nsys.modules['evrin.cli.app'] = None\n"
    interrupted = started + "import builtins\nreal = builtins.__import__\n"
    interrupted += "def stop(name, *rest):\n    if name == 'evrin.cli.app': raise KeyboardInterrupt\n"
    interrupted += "    return real(name, *rest)\nbuiltins.__import__ = stop\ns.main()\n"
    output = subprocess.run([sys.executable, "-c", interrupted], capture_output=True, text=True, check=False)
    assert output.returncode == 130 and output.stderr == "interrupted; no partial files were written\n"


@pytest.mark.slow
@given(st.lists(st.sampled_from([-9999.0, -99999.0, 40.125, 41.00000000001, float("nan")]), min_size=6, max_size=6))
@pytest.mark.parametrize("name", ["g.tif", "g.asc"])
def test_any_height_comes_back_from_a_grid_to_the_last_digit(tmp_path_factory, name, heights):
    if all(height != height for height in heights):
        heights[0] = 1.0
    grid = Grid("g", 500000.5, 5400000.5, 1.0, 1.0, np.array(heights).reshape(2, 3), "m", "EPSG:25832")
    path = tmp_path_factory.mktemp("grid") / name
    evrin.write(path, grid)
    evrin.write(path, grid)
    back = read(path)
    assert np.array_equal(back.grids[0].heights, grid.heights, equal_nan=True) and back.stated.crs == "EPSG:25832"


@pytest.mark.parametrize(("name", "beside"), [("g.tif", "g.tif.aux.xml"), ("g.tif", "g.tfw"), ("g.asc", "g.prj")])
def test_a_strangers_file_beside_a_grid_is_not_taken_for_part_of_it(tmp_path, name, beside):
    (tmp_path / beside).write_text("somebody else's")
    grid = Grid("g", 0.5, 0.5, 1.0, 1.0, np.ones((2, 3)), "m", "local")
    with pytest.raises(DataError, match=f"{beside} beside it would be read as part of it"):
        evrin.write(tmp_path / name, grid)
    assert sorted(path.name for path in tmp_path.iterdir()) == [beside]


@pytest.mark.parametrize("name", ["g.gpkg", "g.xml", "g.tif"])
def test_what_killed_runs_left_beside_an_output_is_tidied_and_live_ones_are_not(site, name):
    ground = evrin.Recipe.read(site / "site.toml").build().surface
    removed = subprocess.Popen([sys.executable, "-c", ""])
    removed.wait()
    (site / f".{name}.evrin-{removed.pid}-abc").mkdir()
    (site / f".{name}.evrin-{removed.pid}-abc" / name).write_text("half")
    (site / f".{name}.evrin-{removed.pid}-def").write_text("half")
    (site / f".{name}.evrin-{os.getpid()}-abc").write_text("being written")
    evrin.write(site / name, ground, cell=1.0)
    assert [path.name for path in site.glob(".g*")] == [f".{name}.evrin-{os.getpid()}-abc"]


@pytest.mark.parametrize(
    ("package", "call", "name"), [("pyogrio.raw", "write", "g.gpkg"), ("rasterio", "open", "g.tif")]
)
def test_a_full_disk_is_an_error_of_ours_and_leaves_nothing(site, monkeypatch, package, call, name):
    module = importlib.import_module(package)
    errors = importlib.import_module(f"{package.partition('.')[0]}.errors")
    failure = errors.DataSourceError if "pyogrio" in package else errors.RasterioIOError

    def full(*_, **__):
        raise failure("write failed: no space left on device")

    ground = evrin.Recipe.read(site / "site.toml").build().surface
    monkeypatch.setattr(module, call, full)
    with pytest.raises(DataError, match="no space left on device"):
        evrin.write(site / name, ground, cell=1.0)
    assert not list(site.glob("*g.*")) and not list(site.glob(".g*"))


@pytest.mark.parametrize(
    ("name", "text", "output"),
    [
        ("c.csv", "x,y,z,class\n1,2,3,ground\n2,3,4,road\n5,5,5,2\n", "3 points"),
        ("c.csv", "x,y,z,classification\n1,2,3,2\n2,3,4,2.5\n5,5,5,inf\n", "3 points"),
        ("c.ply", "ply\nformat ascii 1.0\nelement vertex 2\nproperty float x\nproperty float y\nproperty float z\n"
                  "property float classification\nend_header\n4000 2800 1 2.5\n4001 2801 2 nan\n", "2 points"),
    ],
)  # fmt: skip
def test_classes_that_are_not_numbers_are_reported_not_tripped_over(tmp_path, run, name, text, output):
    (tmp_path / name).write_text(text)
    rows = json.loads(run("inspect", name, "--json", folder=tmp_path, code=0).stdout)
    assert output.split()[0] in json.dumps(rows)
    assert "class" not in read(tmp_path / name).points.columns


def test_a_mesh_with_too_few_numbers_is_refused_by_name(tmp_path, run):
    for text in ("v 0 0\nv 1 0\nv 0 1\nf 1 2 3\n", "v 0\nv 1\n", "v 0 0\nv 1 1\n"):
        (tmp_path / "m.obj").write_text(text)
        assert "m.obj" in run("inspect", "m.obj", folder=tmp_path, code=2).stderr


@pytest.mark.thorough
def test_commands_printed_for_copying_are_never_broken(tmp_path, run, monkeypatch):
    monkeypatch.setenv("COLUMNS", "60")
    output = run("demo", "site", folder=tmp_path).stdout
    (line,) = [line for line in output.splitlines() if " sections " in line]
    assert len(line) > 100 and line.endswith("sections.pdf")


def test_an_empty_recipe_is_one_when_its_comments_are_taken_off(tmp_path, run):
    run("init", "new.toml", folder=tmp_path)
    text = (tmp_path / "new.toml").read_text()
    with pytest.raises(evrin.RecipeError, match="source"):
        evrin.Recipe.read(tmp_path / "new.toml")
    uncommented = re.sub(r"^# (?=[\[a-z_]+ *[=\]\[a-z_])(?!A recipe|Paths)", "", text, flags=re.M)
    tables = tables_of(tomllib.loads(uncommented))
    assert len(tables.source) == 2 and tables.trim is not None and len(tables.accept) == 1
    (tmp_path / "new.toml").write_text("mine")
    assert "give --overwrite" in run("init", "new.toml", folder=tmp_path, code=2).stderr


@pytest.mark.parametrize("radius", [5.0, 1e9, 9e11])
def test_a_circle_of_any_radius_gives_a_bounded_number_of_vertices(tmp_path, radius):
    drawing = ezdxf.new()
    drawing.modelspace().add_circle((4000, 2800, 40), radius)
    drawing.modelspace().add_lwpolyline([(0, 0, 0, 0, 1e-12 * 5.0 / radius), (100, 0, 0, 0, 0)])
    drawing.saveas(tmp_path / "c.dxf")
    lines = read(tmp_path / "c.dxf", How(as_lines=True, needs_height=False)).lines
    circle = next(line for line in lines if len(line.xyz) > 10)
    assert len(circle.xyz) < 10_000
    away = np.hypot(*(circle.xyz[:, :2] - [4000, 2800]).T)
    assert np.allclose(away, radius, rtol=1e-9)


EXTRAS = ("ezdxf", "laspy", "lazrs", "pyogrio", "pyproj", "rasterio", "shapely", "trimesh")
BLOCKED = f"""
import sys
class Without:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in {EXTRAS}:
            raise ModuleNotFoundError(name)
sys.meta_path.insert(0, Without())
"""


def typed(folder, *words, code=0, **variables):
    """Run the command in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "evrin", *map(str, words)],
        cwd=folder,
        env=os.environ | variables,
        capture_output=True,
        text=True,
    )
    assert done.returncode == code, done.stdout + done.stderr
    return done


@pytest.mark.thorough
def test_the_bare_install_runs_the_demo_and_states_early_in_one_hint_what_it_lacks(tmp_path):
    (tmp_path / "hook").mkdir()
    (tmp_path / "hook" / "sitecustomize.py").write_text(BLOCKED)
    bare = {"PYTHONPATH": os.pathsep.join((str(tmp_path / "hook"), str(ROOT / "src")))}
    site = tmp_path / "ostrel-weir"
    typed(tmp_path, "demo", "ostrel-weir", **bare)
    limit = json.loads((site / "field" / "limit.geojson").read_text())
    assert limit["features"] and (site / "report.html").exists()
    typed(site, "build", "clean.toml", "-o", "g.xml", "-o", "g.ply", "-o", "g.geojson", "--fresh", **bare)
    (site / "old.dxf").write_text("0\nSECTION\n2\nENTITIES\n0\nENDSEC\n0\nEOF\n")
    for words in (
        ("inspect", "old.dxf"),
        ("convert", "ground.xml", "g.gpkg"),
        ("convert", "ground.xml", "g.tif", "--cell", "1"),
        ("contours", "clean.toml", "-o", "c.dxf"),
        ("outline", "clean.toml", "-o", "c.shp"),
    ):
        done = typed(site, *words, code=2, **bare)
        assert "pip install 'evrin[formats]'" in done.stderr and "triangulate" not in done.stderr, words


def wheel_of(source, folder):
    build = ["wheel", "--no-deps", "--no-build-isolation", "--no-index", "-w", str(folder), str(source)]
    subprocess.run([*PIP, *build], check=True, capture_output=True)
    (wheel,) = folder.iterdir()
    return wheel


PIP = [sys.executable, "-m", "pip", "--quiet", "--disable-pip-version-check", "--no-input"]


@pytest.mark.thorough
def test_the_wheel_works_elsewhere_offline_installed_anew_and_upgraded(tmp_path):
    source, place = tmp_path / "source", tmp_path / "place"
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__"))
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy(ROOT / name, source / name)
    offline = {"PYTHONPATH": str(place), "PIP_NO_INDEX": "1", "https_proxy": "http://127.0.0.1:9"}
    elsewhere = offline | {"EVRIN_CACHE": str(tmp_path / "kept"), "PYTHONDONTWRITEBYTECODE": "1"}
    compiled = elsewhere | {"EVRIN_KERNELS": "compiled"}

    def install(wheel):
        shutil.rmtree(place, ignore_errors=True)
        subprocess.run([*PIP, "install", "--no-deps", "--no-index", "--target", str(place), str(wheel)], check=True)
        where = asked("import evrin; print(evrin.__file__)", **offline).stdout
        assert Path(where.strip()).is_relative_to(place)
        return sorted(place.rglob("*"))

    wheel, printed = wheel_of(source, tmp_path / "wheels"), []
    for _ in range(2):
        install(wheel)
        typed(tmp_path, "demo", "site", "--quiet", **offline)
        printed.append(typed(tmp_path, "figures", "site/clean.toml", "--json", **offline).stdout)
    assert printed[0] == printed[1] and json.loads(printed[0])["figures"]["triangles"] > 2000
    files = install(wheel)
    assert asked(HEIGHT, **elsewhere).stdout == asked(HEIGHT, **compiled).stdout == "1.25\n"
    # An upgrade in which one number has changed, its file as old and as long as before, gives the new one.
    plane = source / "src" / "evrin" / "tin" / "exact" / "plane.py"
    before, text = plane.stat(), plane.read_text()
    changed = text.replace("    return az + to_b * (bz - az)", "    return 9. + to_b * (bz - az)")
    assert changed != text and len(changed) == len(text)
    plane.write_text(changed)
    os.utime(plane, ns=(before.st_atime_ns, before.st_mtime_ns))
    upgraded = install(wheel_of(source, tmp_path / "upgraded"))
    assert asked(HEIGHT, **elsewhere).stdout == asked(HEIGHT, **compiled).stdout == "9.25\n"
    assert [path.name for path in upgraded if path.suffix != ".pyc"] == [p.name for p in files if p.suffix != ".pyc"]
    assert sorted(place.rglob("*")) == upgraded
    kernels = [path.name.rpartition("-")[0] for path in (tmp_path / "kept" / "kernels").glob("*/tin.exact.plane.*.py")]
    assert len(kernels) > len(set(kernels))


def test_what_the_package_index_shows_is_addressed_in_full():
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    output = " ".join(project["classifiers"])
    assert all(f":: {version}" in output for version in ("3.11", "3.12", "3.13"))


FULL = """
import resource, sys, evrin
from evrin.base.errors import EvrinError
ground = evrin.read_surface(sys.argv[1])
thing = ground.contours(0.5) if sys.argv[3] == "contours" else ground
more = {"cell": 1.0} if sys.argv[2].endswith((".tif", ".asc")) else {}
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[4]),) * 2)
try:
    evrin.write(sys.argv[2], thing, **more)
except EvrinError as error:
    assert "cannot be written" in str(error), error
    print("refused")
"""


@pytest.mark.thorough
@pytest.mark.parametrize(
    ("name", "what"),
    [(f"g.{kind}", "surface") for kind in ("xml", "dxf", "ply", "obj", "stl", "geojson", "gpkg", "shp", "tif", "asc")]
    + [(f"c.{kind}", "contours") for kind in ("csv", "dxf", "geojson", "gpkg", "shp")],
)
def test_a_disk_that_fills_up_is_reported_and_leaves_nothing(demo, tmp_path, name, what):
    ground = evrin.read_surface(demo[0] / "ground.xml")
    more = {"cell": 1.0} if name.endswith((".tif", ".asc")) else {}
    evrin.write(tmp_path / f"whole{name[1:]}", ground.contours(0.5) if what == "contours" else ground, **more)
    largest = max(path.stat().st_size for path in tmp_path.iterdir())
    for less in (64, 5000, largest // 2):
        words = [str(demo[0] / "ground.xml"), str(tmp_path / name), what, str(largest - less)]
        done = subprocess.run([sys.executable, "-c", FULL, *words], capture_output=True, text=True, check=True)
        assert done.stdout == "refused\n", (less, done.stdout)
        assert all(path.name.startswith("whole") for path in tmp_path.iterdir())


def test_a_cloud_that_claims_more_than_its_chunks_hold_is_refused_before_it_is_decoded(tmp_path):
    import laspy

    header = laspy.LasHeader(point_format=7, version="1.4")
    header.scales = [0.001] * 3
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = np.random.default_rng(1).uniform(0, 100, (3, 500))
    cloud.write(tmp_path / "whole.laz")
    whole = (tmp_path / "whole.laz").read_bytes()
    assert len(read(tmp_path / "whole.laz").points.xyz) == 500
    first_point = int.from_bytes(whole[96:100], "little")
    layers = first_point + 8 + header.point_format.size + 4
    for at, content in ((layers, b"\xff" * 4), (layers + 16, b"\x00\x00\x00\x40"), (429 + 36, b"\xff\x7f")):
        (tmp_path / "bomb.laz").write_bytes(whole[:at] + content + whole[at + len(content) :])
        with pytest.raises(DataError, match=r"bomb\.laz: (a chunk of points claims|its points have)"):
            read(tmp_path / "bomb.laz")


def test_rows_that_no_survey_has_are_refused_by_their_line(tmp_path):
    for text, output in (
        ("x,y,z\n1,2,3\n4,5," + "6" * 200_000 + "\n", "line 3: the row is 200,004 characters long"),
        ("x,y,z" + ",a" * 3000 + "\n1,2,3\n", "line 1: it has 3,003 columns"),
    ):
        (tmp_path / "wide.csv").write_text(text)
        with pytest.raises(DataError, match=output):
            read(tmp_path / "wide.csv")
    # Only line ends end a line, so that the lines named are those that an editor shows.
    (tmp_path / "ends.csv").write_text("x,y,z,note\n1,2,3,a\u2028b\n4,5,6,c\x0cd\r\n7,8,nine,e\n", encoding="utf-8")
    found = read(tmp_path / "ends.csv").points
    assert found.shots.line_of.tolist() == [2, 3] and found.refused[0].where == "ends.csv line 4"
