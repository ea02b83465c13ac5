"""What a folder that somebody sent can and cannot do: nothing in it runs, ruins or misleads."""

import logging
import os
import shutil
import struct
import subprocess
import sys
import warnings
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rich.console import Console

import evrin
from evrin import Recipe
from evrin.analysis import Alignment
from evrin.base.errors import DataError
from evrin.base.wording import escaped, literal, one_line, unescaped
from evrin.cli.layout import print_table
from evrin.draw import map_sheet, profile_sheet
from evrin.formats import read
from evrin.making.editor import Editor
from evrin.recipe import RecipeDocument
from evrin.recipe.store import digests, plain
from evrin.recipe.store.kept_results import FOLDER, FolderStore
from evrin.report.templating import filled, part
from evrin.surface import Grid, Provenance, Shots, SourceLine


def field(side):
    """A lattice of places five apart, its heights uneven."""
    east, north = np.meshgrid(np.arange(side) * 5.0 + 4000.0, np.arange(side) * 5.0 + 2800.0)
    heights = 40.0 + 0.1 * np.sin(east) + 0.05 * (north - 2800.0)
    return np.column_stack((east.ravel(), north.ravel(), heights.ravel())).round(3)


TEXT = "".join(f"{k + 1},{y},{x},{z}\n" for k, (x, y, z) in enumerate(field(5).tolist()))
SITE = '[[source]]\nname = "a"\nfile = "a.csv"\nrole = "points"\ncolumns = "PNEZ"\n'


def site(folder, more=""):
    (folder / "a.csv").write_text(TEXT)
    (folder / "r.toml").write_text(SITE + more)
    return folder / "r.toml"


def entries(folder):
    return sorted(path for path in (folder / FOLDER).iterdir() if path.is_dir())


def reused(build):
    return [stage.name for stage in build.stages if stage.reused]


# --- what is kept --------------------------------------------------------------------------------------------------


@pytest.mark.slow
def test_what_another_user_kept_is_not_used_and_is_replaced(tmp_path):
    recipe = site(tmp_path)
    code = (
        f"from evrin import Recipe; build = Recipe.read({str(recipe)!r}).build(keep=True); "
        "print(*(stage.reused for stage in build.stages))"
    )

    def is_reported(user):
        cache = tmp_path / user
        if not cache.exists():
            cache.mkdir(mode=0o700)
            (cache / "kernels").symlink_to(kernels_of_this_user())
        variables = os.environ | {"EVRIN_CACHE": str(cache)}
        done = subprocess.run([sys.executable, "-c", code], env=variables, capture_output=True, text=True, check=True)
        return "True" in done.stdout

    assert [is_reported("mine"), is_reported("mine"), is_reported("yours"), is_reported("yours")] == [
        False,
        True,
        False,
        True,
    ]


def kernels_of_this_user():
    from evrin.kernels.kept import kernels_folder

    return kernels_folder().parent


def test_a_crafted_entry_runs_nothing_and_restores_nothing(tmp_path, monkeypatch):
    recipe = site(tmp_path)
    before = Recipe.read(recipe).build(keep=True)
    for entry in entries(tmp_path):
        (entry / "output.json").write_text('{"of":"evrin.base.files:whole_file","items":[{"path":"/tmp/owned"}]}')
    again = Recipe.read(recipe).build(keep=True)
    assert reused(again) == [] and again.surface.vertices.tobytes() == before.surface.vertices.tobytes()
    # Even what this user's own key signs restores listed classes only.
    store = FolderStore(tmp_path / "other")
    monkeypatch.setattr(plain, "_name_of", lambda kind: f"{kind.__module__}:{kind.__qualname__}")
    store.save("0" * 32, SimpleNamespace(a=1))
    assert (tmp_path / "other" / ("0" * 32)).is_dir() and store.load("0" * 32, object) is None
    monkeypatch.undo()
    with pytest.raises(TypeError, match="not listed"):
        store.save("1" * 32, SimpleNamespace(a=1))


@pytest.mark.slow
def test_one_flipped_bit_anywhere_in_what_is_kept_changes_nothing_in_the_result(tmp_path):
    recipe = site(tmp_path, '[[edit]]\ndo = "raise"\nat = [4010, 2810]\nby = 0.5\n')
    first = Recipe.read(recipe).build(keep=True)
    rng = np.random.default_rng(4)
    for entry in entries(tmp_path):
        is_whole = '"of":"Build"' in (entry / "values.json").read_text()
        for path in sorted(entry.iterdir()):
            data = bytearray(path.read_bytes())
            at = int(rng.integers(len(data)))
            data[at] ^= 1 << int(rng.integers(8))
            path.write_bytes(data)
            again = Recipe.read(recipe).build(keep=True)
            assert not is_whole or len(reused(again)) < len(again.stages), path
            assert again.surface.vertices.tobytes() == first.surface.vertices.tobytes()
            assert again.tally.equals(first.tally)


def test_nothing_but_what_evrin_kept_is_ever_removed_or_written_over(tmp_path, caplog, monkeypatch):
    # Another test's tool may have switched off every log there was.
    monkeypatch.setattr(logging.getLogger("evrin"), "disabled", False)
    recipe = site(tmp_path)
    project = tmp_path / "project"
    for name in ("part-1", "a" * 32):
        (project / name).mkdir(parents=True)
        (project / name / "drawing.dxf").write_text("mine")
        os.utime(project / name, (0, 0))
    (project / ".gitignore").write_text("mine")
    Recipe.read(recipe).build(keep=project)
    assert (project / ".gitignore").read_text() == "mine"
    assert all((project / name / "drawing.dxf").exists() for name in ("part-1", "a" * 32))
    other = tmp_path / "notes"
    other.mkdir()
    (other / "notes.txt").write_text("mine")
    Recipe.read(recipe).build(keep=other)
    assert [path.name for path in other.iterdir()] == ["notes.txt"] and "other things than results" in caplog.text
    linked = tmp_path / FOLDER
    linked.symlink_to(other, target_is_directory=True)
    Recipe.read(recipe).build(keep=True)
    assert [path.name for path in other.iterdir()] == ["notes.txt"]


@pytest.mark.parametrize("name", ["p.DBF", "p.Prj", "p.shp.aux.xml", "p.CPG"])
def test_files_that_are_read_along_count_in_any_letter_case(tmp_path, name):
    (tmp_path / "p.shp").write_bytes(b"a")

    def key():
        return digests.FileDigests(tmp_path).of("p.shp")

    before = key()
    (tmp_path / "unrelated.dbf").write_bytes(b"b")
    assert key() == before
    (tmp_path / name).write_bytes(b"b")
    second = key()
    (tmp_path / name).write_bytes(b"c")
    assert len({before, second, key()}) == 3


def test_another_version_of_a_package_makes_results_anew(monkeypatch):
    digests.program_digest.cache_clear()
    before = digests.program_digest()
    monkeypatch.setattr(digests, "version", lambda name: "0.0.1")
    digests.program_digest.cache_clear()
    assert digests.program_digest() != before
    monkeypatch.undo()
    digests.program_digest.cache_clear()
    assert digests.program_digest() == before


def test_templates_come_from_the_package_alone_and_reach_nothing_of_python():
    for name in ("../../../etc/passwd", "/etc/passwd", "report.html/../look.html", ""):
        with pytest.raises((ValueError, OSError)):
            part(name)
    from jinja2.exceptions import SecurityError

    from evrin.report import templating

    with pytest.raises(SecurityError):
        templating._environment().from_string("{{ ''.__class__.__mro__[1].__subclasses__() }}").render()
    with pytest.raises(ValueError, match="names no template"):
        filled("../evil.html")


# --- names ---------------------------------------------------------------------------------------------------------

HOSTILE = st.one_of(
    st.sampled_from(
        [
            *("[/]", "[/b]", "[bold red]x", "$x$", "$\\frac{", "a$b", "end_header", "points-go-here", "faces-go-here"),
            *("1.125", "2.25", "0", "\x1b[31mred\x1b[0m", "\x1b]0;title\x07", "two\nlines", "tab\there", "nul\x00byte"),
            *("<b>&amp;</b>", "]]>", "{0!r}", "{}", "solid", "endsolid x", "facet normal 0 0 1", "vertex 1 2 3", "\\N"),
            *(
                "element vertex 9",
                "\ud800",
                "\u202egnp.exe",
                "é" * 90,
                " lead",
                "trail ",
                "a  b",
                "\\u0041",
                "_x",
                "#",
                ":-)",
            ),
            *("EOF", "\u2028", "\ufffe", "comment", "o name", "=1+1", '"quoted"', "a,b;c", "-", "plan[old].csv"),
        ]
    ),
    st.text(max_size=30),
)


def hostile_surface(name):
    ground = evrin.triangulate(np.column_stack((field(4)[:, :2], np.arange(16) % 5.0)), name=name)
    shots = Shots.of_file("a.csv", np.arange(16), np.full(16, name, object), np.full(16, name, object))
    line = SourceLine(name, ground.vertices[[0, 5, 10]], False, "breakline")
    return evrin.Surface.from_arrays(
        ground.vertices,
        ground.triangles,
        name=name,
        description=name,
        lines=(line,),
        provenance=Provenance(shots, np.arange(16, dtype=np.int32)),
    )


@pytest.mark.slow
@pytest.mark.parametrize(
    "suffix", [".xml", ".dxf", ".ply", ".obj", ".stl", ".geojson", ".gpkg", ".shp", ".tif", ".csv"]
)
@settings(max_examples=40)
@given(name=HOSTILE)
def test_whatever_a_surface_is_called_it_comes_back_whole(tmp_path_factory, suffix, name):
    folder = tmp_path_factory.mktemp("named")
    ground = hostile_surface(name)
    path = folder / f"g{suffix}"
    evrin.write(path, ground, **({"cell": 1.0} if suffix == ".tif" else {}))
    contents = read(path)
    if suffix == ".csv":
        assert np.array_equal(contents.points.xyz, ground.vertices)
    elif suffix == ".tif":
        assert np.isfinite(contents.grids[0].heights).sum() > 4
    else:
        (back,) = contents.surfaces
        corners = [each.vertices[each.triangles].reshape(-1, 9) for each in (ground, back)]
        assert np.array_equal(*(rows[np.lexsort(rows.T)] for rows in map(canonical, corners)))
        if suffix in (".ply", ".stl") and name.strip() and name == name.encode("utf-8", "replace").decode():
            assert back.name == name or suffix == ".stl"
    shutil.rmtree(folder)


def canonical(corners):
    """Each triangle from its least corner on, so that the corner a format begins with does not count."""
    rows = corners.reshape(-1, 3, 3)
    first = [min(range(3), key=lambda k, row=row: tuple(row[k])) for row in rows]
    return np.array([np.roll(row, -k, axis=0).ravel() for row, k in zip(rows, first, strict=True)])


@given(name=HOSTILE)
def test_whatever_is_in_a_name_a_terminal_prints_it_as_text(name):
    class Kept:
        def __init__(self):
            self.text = ""

        def write(self, text):
            self.text += text

        def flush(self):
            pass

    stream = Kept()
    print_table(Console(file=stream, width=200, force_terminal=True, color_system=None), ["name", "n"], [[name, "1"]])
    output = stream.text.replace("\x1b[1m", "").replace("\x1b[0m", "")
    assert not any(ord(c) < 32 and c != "\n" for c in output) and "\x7f" not in output
    assert all(word in output for word in literal(name).split())


@given(text=HOSTILE)
def test_what_is_escaped_is_on_one_line_and_comes_back(text):
    output = escaped(text, ("end_header", "vertex"))
    assert unescaped(output) == text and literal(output) == output
    assert (
        not {"\n", "\r", "\u2028"} & set(output)
        and "end_header" not in output.lower()
        and "vertex" not in output.lower()
    )
    assert len(one_line(text).splitlines()) <= 1


@pytest.mark.slow
@settings(max_examples=15)
@given(name=HOSTILE)
def test_whatever_is_in_a_name_pictures_are_drawn_with_it_as_text(tmp_path_factory, name):
    ground = hostile_surface(name)
    line = Alignment.along([(4001.0, 2801.0), (4011.0, 2809.0)])
    with warnings.catch_warnings():
        # No font has every sign.
        warnings.filterwarnings("ignore", message="Glyph")
        sheets = [map_sheet(ground, title=name), profile_sheet({name: ground.profile(line.points)}, units="m")]
        for kind, sheet in zip(("png", "svg"), sheets, strict=True):
            evrin_path = tmp_path_factory.mktemp("drawn") / f"a.{kind}"
            sheet.savefig(evrin_path)
            assert evrin_path.stat().st_size > 5000


def test_names_in_commands_are_printed_as_they_are(tmp_path, run):
    odd = "plan[old].csv"
    (tmp_path / odd).write_text("line,easting,northing,height\n[/b],1,2,3\n[/b],4,5,6\n")
    output = run("inspect", odd, folder=tmp_path, code=0)
    assert odd in output.stdout
    site(tmp_path)
    (tmp_path / "r.toml").write_text('[site]\nname = "[/] \\u001b[31m $x$"\n' + SITE)
    output = run("build", "r.toml", "-o", "g.xml", folder=tmp_path)
    assert "[/] \\x1b[31m $x$" in output.stdout and "\x1b" not in output.stdout + output.stderr
    run("map", "r.toml", "-o", "m.png", folder=tmp_path)


# --- half read, wrongly read ---------------------------------------------------------------------------------------


def test_what_is_cut_short_is_refused_not_read_half(tmp_path):
    ground = evrin.triangulate(field(6))
    evrin.write(tmp_path / "g.shp", ground)
    whole = (tmp_path / "g.shp").read_bytes()
    for length in (len(whole) // 2, len(whole) - 1, 99):
        (tmp_path / "g.shp").write_bytes(whole[:length])
        with pytest.raises(DataError, match="cut short"):
            read(tmp_path / "g.shp")
    (tmp_path / "g.shp").write_bytes(whole)
    table = (tmp_path / "g.dbf").read_bytes()
    (tmp_path / "g.dbf").write_bytes(table[:4] + struct.pack("<I", 3) + table[8:])
    with pytest.raises(DataError, match=r"its index has 50 shapes, its table 3"):
        read(tmp_path / "g.shp")
    head = "ply\nformat ascii 1.0\nelement vertex 4\nproperty double x\nproperty double y\nproperty double z\n"
    faces = "element face {}\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n"
    for text, output in (
        (head + faces.format(1) + "3 0 1 2\n", "can be read|broken"),
        (head + faces.format(2) + "1 1 0\n3 0 1 2\n", "can be read|broken"),
        (head + faces.format(1) + "1 1 0\n3 0 1 -1\n", "names a vertex that is not there|broken"),
    ):
        (tmp_path / "g.ply").write_text(text)
        with pytest.raises(DataError, match=output):
            read(tmp_path / "g.ply")
    evrin.write(tmp_path / "g.xml", ground)
    text = (tmp_path / "g.xml").read_text()
    (tmp_path / "g.xml").write_text(text.replace('<P id="7"', '<P id="8"'))
    with pytest.raises(DataError, match="two points of a surface have the id '8'"):
        read(tmp_path / "g.xml")


def test_a_local_shapefile_in_place_of_another_has_no_reference_system(tmp_path, run):
    ground = evrin.triangulate(field(4))
    evrin.write(tmp_path / "g.shp", ground.renamed(crs="EPSG:25832"))
    assert (tmp_path / "g.prj").exists()
    evrin.write(tmp_path / "g.shp", ground)
    assert not (tmp_path / "g.prj").exists() and read(tmp_path / "g.shp").stated.crs == ""
    (tmp_path / "h.prj").write_text("somebody else's")
    with pytest.raises(DataError, match=r"h\.prj beside it would be read as part of it"):
        evrin.write(tmp_path / "h.shp", ground)


def test_units_and_systems_come_back_from_grids_and_geojson(tmp_path):
    heights = np.arange(12.0).reshape(3, 4)
    evrin.write(tmp_path / "g.tif", Grid("g", 10.0, 20.0, 1.0, 1.0, heights, units="ft"))
    assert evrin.read_surface(tmp_path / "g.tif").units == "ft"
    small = evrin.triangulate(field(4) - [4000.0, 2800.0, 0.0])
    evrin.write(tmp_path / "g.geojson", small)
    found = read(tmp_path / "g.geojson")
    assert found.stated.crs == "" and found.stated.units == "" and found.surfaces[0].units == "m"
    (tmp_path / "d.geojson").write_text('{"type":"LineString","coordinates":[[7.1,50.2],[7.2,50.3]]}')
    assert read(tmp_path / "d.geojson").stated.units == "degrees"


def test_a_surface_that_is_not_one_height_a_place_is_not_edited():
    flat = [[0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 0]]
    stacked = evrin.Surface.from_arrays([*flat, [4, 4, 5.0], [4, 0, 5], [8, 2, 5]], [[0, 1, 2], [5, 6, 4]])
    with pytest.raises(
        DataError, match=r"two vertices lie one above the other at 4\.000, 0\.000, at 0\.000 and 5\.000"
    ):
        Editor.of(stacked)
    over = evrin.Surface.from_arrays([*flat, [1, 1, 5], [3, 1, 5], [2, 3, 5]], [[0, 1, 2], [0, 2, 3], [4, 5, 6]])
    with pytest.raises((DataError, evrin.GeometryError)):
        Editor.of(over)


AWKWARD = ("a;b", "tab\tx", "two\nlines", "a\\b", "[x]", "é ü", "-dash", "100%", "$HOME", "#h?", "x" * 120)


@pytest.mark.parametrize("name", AWKWARD)
def test_packages_write_into_folders_of_any_name(tmp_path, name):
    folder = tmp_path / name
    folder.mkdir()
    ground = evrin.triangulate(field(4))
    for suffix in (".gpkg", ".shp", ".tif", ".geojson"):
        evrin.write(folder / (name + suffix), ground, **({"cell": 1.0} if suffix == ".tif" else {}))
    found = sorted(path.name.removeprefix(name) for path in folder.iterdir())
    assert found == [".cpg", ".dbf", ".geojson", ".gpkg", ".shp", ".shx", ".tif"]


# --- at once, and without end --------------------------------------------------------------------------------------


@pytest.mark.slow
def test_four_edits_at_once_are_all_written(tmp_path):
    recipe = site(tmp_path)
    words = [sys.executable, "-m", "evrin", "edit", "r.toml", "put", "accept", "finding=height-spike", "--why"]
    running = [
        subprocess.Popen([*words, f"reason {k}"], cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        for k in range(4)
    ]
    assert [each.communicate()[1].count(b"changed") for each in running] == [1] * 4
    assert all(f"reason {k}" in recipe.read_text() for k in range(4))


def test_a_recipe_changed_by_somebody_else_meanwhile_is_left_as_that_made_it(tmp_path):
    recipe = site(tmp_path)
    document = RecipeDocument(recipe)
    recipe.write_text(SITE + "# mine\n")
    document.append("accept", finding="height-spike", why="a post")
    with pytest.raises(DataError, match="changed by another program meanwhile"):
        document.save()
    assert recipe.read_text() == SITE + "# mine\n"


def test_faults_are_found_by_line_in_one_pass_through_the_recipe(tmp_path):
    recipe = site(tmp_path, "".join(f'[[edit]]\ndo = "flipp"\nat = [{k}, 1]\n' for k in range(3000)))
    with pytest.raises(evrin.RecipeError) as raised:
        Recipe.read(recipe)
    assert len(raised.value.faults) == 3000
    lines = [int(fault.split(":")[0].removeprefix("line ")) for fault in raised.value.faults]
    assert lines == [len(SITE.splitlines()) + 3 * k + 2 for k in range(3000)]


def test_a_grid_that_claims_far_more_than_its_file_holds_is_refused(tmp_path):
    import rasterio

    shape = rasterio.transform.Affine(1.0, 0.0, 4000.0, 0.0, -1.0, 2800.0)
    with rasterio.open(
        tmp_path / "s.tif", "w", driver="GTiff", width=9000, height=9000, count=1, dtype="float32", nodata=-9999,
        tiled=True, SPARSE_OK=True, transform=shape,
    ):  # fmt: skip
        pass
    assert (tmp_path / "s.tif").stat().st_size < 50_000
    with pytest.raises(DataError, match="claims 81,000,000 cells"):
        read(tmp_path / "s.tif")


@pytest.mark.slow
def test_a_wide_shore_is_drawn_in_without_gigabytes(tmp_path):
    from evrin.survey.lines.offsets import drawn_in

    turn = np.linspace(0, 2 * np.pi, 6000, endpoint=False)
    ring = np.column_stack((4000 + 30 * np.cos(turn), 2800 + 30 * np.sin(turn)))
    inner = drawn_in(ring, 2.0)
    assert np.hypot(*(inner - [4000, 2800]).T) == pytest.approx(28.0, abs=1e-3)


def test_a_window_without_ground_and_texts_of_other_encodings_are_reported_in_words(run, tmp_path):
    assert "no ground in the window" in run("trust", "ground.xml", "--window", "0,0,1,1", code=2).stderr
    (tmp_path / "l.obj").write_bytes(b"# caf\xe9\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    assert len(read(tmp_path / "l.obj").surfaces[0].triangles) == 1
