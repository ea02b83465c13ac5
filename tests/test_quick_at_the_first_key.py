"""The quick ways of reading, triangulating and keeping give what the slow ones give; commands load what they need."""

import os
import subprocess
import sys
from pathlib import Path

import ezdxf
import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import evrin
from evrin import Recipe
from evrin.base.errors import GeometryError
from evrin.formats import How, read
from evrin.formats.fast.decimal_digits import read_number, write_faces, write_points
from evrin.kernels import Bytes, Floats, Indices, Mutable, kernel
from evrin.recipe.store.kept_results import FOLDER
from evrin.tin.delaunay.tile_tree import Waiting, joined
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.mesh.working_mesh import Mesh
from sites import lay_out
from zoo import SHAPES, SITE


@kernel
def numbers_at(data: Bytes, starts: Indices, out: Mutable[Floats]) -> None:
    for k in range(starts.shape[0]):
        value, end = read_number(data, starts[k])
        out[k] = value if end >= 0 else np.inf


def read_numbers(texts):
    starts = np.cumsum([0, *(len(text) + 1 for text in texts[:-1])])
    out = np.empty(len(texts))
    numbers_at(np.frombuffer((" ".join(texts) + " ").encode(), np.uint8), starts, out)
    return out


@given(st.lists(st.from_regex(r"[-+]?[0-9]{0,19}\.?[0-9]{0,20}", fullmatch=True), min_size=1, max_size=30))
@example(["9007199254740993.0", "0.1234567890123456", "1.00000000000000011102", "-.5", "5.", ".", "", "-0"])
def test_a_plain_number_is_read_as_the_double_nearest_to_it(texts):
    for text, value in zip(texts, read_numbers(texts).tolist(), strict=True):
        if any(c.isdigit() for c in text):
            assert value == np.inf or value.hex() == float(text).hex(), text
            assert value != np.inf or len(text) > 15
        else:
            assert value == np.inf


@given(st.lists(st.tuples(*[st.floats(-1e8, 1e8).map(lambda v: round(v, 3))] * 3), min_size=1, max_size=20))
@example([(0.0, -0.0, 1e-4), (9e-5, 1.5, 123456.789)])
def test_a_number_is_written_as_python_writes_it(rows):
    out, at = np.empty(4000, np.uint8), np.array([0, 0, 1, 2, 3, 4], np.int32)
    marks = np.frombuffer(b",; \n", np.uint8)
    size = write_points(np.array(rows), 7, marks, at, np.empty(0, np.uint8), np.zeros(len(rows) + 1, np.int64), out)
    texts = [f"{k},;{y!r} {x!r} {z!r}\n" for k, (x, y, z) in enumerate(rows, 7)]
    assert size < 0 or out[:size].tobytes().decode() == "".join(texts)
    assert size >= 0 or any("e" in text for text in texts)
    faces = np.array([[0, 10, 2**31 - 2]], np.int32)
    assert out[: write_faces(faces, marks, at[1:], out)].tobytes() == b",1;11;2147483647 "


def triangles_of(places, parts):
    order, starts = distinct_places(places)
    xy = np.ascontiguousarray(places[order[starts[:-1]]])
    try:
        mesh = Mesh(xy, np.zeros(len(xy)), parts=parts)
    except GeometryError as error:
        return str(error)
    half = np.arange(3 * mesh.triangle_count)
    assert (mesh.mate[mesh.mate[half]] == half).all()
    assert (mesh.corner[half] == mesh.corner[np.where(half % 3 == 2, half - 2, half + 1)[mesh.mate[half]]]).all()
    return mesh.read().triangles.tolist()


@pytest.mark.parametrize("shape", [*SHAPES, "two sites", "circle", "lattice"])
@settings(max_examples=95)
@given(st.integers(0, 2**32 - 1), st.integers(2, 33), st.integers(3, 220))
def test_parts_triangulated_side_by_side_are_the_one_triangulation_bit_for_bit(shape, seed, parts, count):
    rng = np.random.default_rng(seed)
    if shape == "two sites":
        places = np.concatenate((rng.random((count, 2)), rng.random((count, 2)) + [50.0, 3.0])) + SITE
    elif shape == "circle":
        turn = rng.integers(0, 24, count) * (np.pi / 12.0)
        places = np.column_stack((np.cos(turn), np.sin(turn))).round(6) * 64.0
    elif shape == "lattice":
        places = rng.integers(0, 9, (count, 2)) * 0.25 + SITE
    else:
        places = SHAPES[shape][rng.permutation(len(SHAPES[shape]))[:count], :2]
    assert triangles_of(places, parts) == triangles_of(places, 1)


def lowest_first(triangles):
    turned = [t[t.index(min(t)) :] + t[: t.index(min(t))] for t in np.concatenate(triangles).tolist()]
    return sorted(turned)


NO_WALLS = np.empty((0, 2), np.int32)


def triangles_by_tiles(edges, places_of):
    """Settle every tile by itself, then each four, and so on; the outermost edges are without end."""
    columns, rows = (len(each) - 1 for each in edges)
    found = []

    def end(axis, at, side):
        return edges[axis][at] if 0 < at < len(edges[axis]) - 1 else side * np.inf

    def settled(column, row, size):
        if column >= columns or row >= rows:
            return Waiting(np.empty((0, 2)), np.empty(0, np.int32), NO_WALLS)
        half = size // 2
        quarters = [(column + east, row + north) for north in (0, half) for east in (0, half)]
        parts = [settled(*each, half) for each in quarters] if half else [Waiting(*places_of(column, row), NO_WALLS)]
        low = end(0, column, -1), end(1, row, -1)
        high = end(0, min(column + size, columns), 1), end(1, min(row + size, rows), 1)
        triangles, waiting = joined(parts, np.array([*low, *high]))
        found.append(triangles)
        return waiting

    last = settled(0, 0, 1 << (max(columns, rows) - 1).bit_length())
    found.append(joined([last], np.array([-np.inf, -np.inf, np.inf, np.inf]))[0])
    return found


@pytest.mark.slow
@settings(max_examples=250)
@given(st.integers(0, 2**32 - 1), st.integers(1, 7), st.integers(1, 7), st.sampled_from(["random", "lattice", "gap"]))
def test_places_that_come_tile_by_tile_are_triangulated_as_if_they_came_at_once(seed, columns, rows, kind):
    rng = np.random.default_rng(seed)
    places = rng.random((int(rng.integers(3, 220)), 2)) * 8.0
    if kind != "random":
        places = np.floor(places) if kind == "lattice" else places[(places[:, 0] < 1.5) | (places[:, 0] > 6.5)]
    order, starts = distinct_places(np.ascontiguousarray(places))
    xy = np.ascontiguousarray(places[order[starts[:-1]]])
    numbers = rng.permutation(len(xy)).astype(np.int32)
    # Edges of tiles through places of the lattice.
    edges = np.linspace(0.0, 8.0, columns + 1).round(), np.linspace(0.0, 8.0, rows + 1).round()
    column, row = (np.searchsorted(each, xy[:, k], side="right") - 1 for k, each in enumerate(edges))

    def places_of(i, j):
        return xy[(column == i) & (row == j)], numbers[(column == i) & (row == j)]

    try:
        whole = numbers[Mesh(xy, np.zeros(len(xy)), parts=1).read().triangles]
    except GeometryError:
        assert sum(map(len, triangles_by_tiles(edges, places_of))) == 0
        return
    assert lowest_first(triangles_by_tiles(edges, places_of)) == lowest_first([whole])


def contents(path, how=None):
    """All that a file gives, or why it gives nothing."""
    try:
        found = read(path, how or How())
    except evrin.EvrinError as error:
        return str(error)
    points, shots = found.points, found.points.shots
    surfaces = [
        (s.name, s.vertices.tobytes(), s.triangles.tobytes(), s.hidden.tobytes(), *_labels(s.provenance))
        for s in found.surfaces
    ]
    lines = [(line.name, line.xyz.tobytes(), line.closed, line.shots.line_of.tolist()) for line in found.lines]
    columns = {name: list(values) for name, values in points.columns.items()}
    rows = (points.xyz.tobytes(), shots.numbers.tolist(), shots.codes.tolist(), shots.line_of.tolist(), columns)
    return surfaces, lines, rows, [(each.where, each.reason) for each in found.refused], found.notes


def _labels(provenance):
    return () if provenance is None else (provenance.shots.numbers.tolist(), provenance.shots.codes.tolist())


FIELDS = ["12.5", "-0.125", " 7 ", "500000.123456789", "1e3", "", "x", "1,5"]


@pytest.mark.slow
@settings(max_examples=10)
@given(st.data())
def test_a_large_text_gives_what_it_gives_row_by_row(tmp_path_factory, data):
    path = tmp_path_factory.mktemp("text") / "day.csv"
    sign, ending = data.draw(st.sampled_from(",;\t| ")), data.draw(st.sampled_from(["\n", "\r\n"]))
    code = "BANK" if sign == " " else "a bank "
    rows = [sign.join((str(k), f"{k}.25", f"{k / 3:.4f}", "41.375", code)) for k in range(30_000)]
    for _ in range(data.draw(st.sampled_from([0, 0, 1]))):
        field = data.draw(st.sampled_from(FIELDS))
        rows[data.draw(st.integers(0, 29_999))] = sign.join(("7", field, "2.0", "3.0", "odd"))
    if data.draw(st.booleans()):
        rows.insert(0, sign.join(("number", "easting", "northing", "height", "code")))
    text = ending.join(rows) + data.draw(st.sampled_from(["", ending]))
    assert len(text) > 1_000_000
    path.write_bytes(text.encode())
    quick = contents(path, How("PENZD"))
    # A comment is enough for the text to be taken apart row by row.
    path.write_bytes((text + ("" if text.endswith("\n") else ending) + "# the end" + ending).encode())
    assert quick == contents(path, How("PENZD"))


@settings(max_examples=40)
@given(st.data())
def test_landxml_gives_what_it_gives_through_the_parser(tmp_path_factory, data):
    rng = np.random.default_rng(data.draw(st.integers(0, 2**32 - 1)))
    xyz = (rng.random((30, 3)) * 100.0).round(data.draw(st.sampled_from([3, 17])))
    path = tmp_path_factory.mktemp("xml") / "g.xml"
    evrin.write(path, evrin.triangulate(xyz))
    text = path.read_text()
    label = data.draw(st.sampled_from(['name="7"', 'code="LAWN &amp; kerb"', "desc='é'", 'name="a" code="b" desc="c"']))
    text = text.replace('<P id="3">', f'<P  id="3"\n {label} >\n').replace("<F>1 ", '<F n="0 0 0" i="1">1 ', 1)
    at = data.draw(st.sampled_from(["<Faces>", "<Pnts>", "</Surfaces>"]))
    odd = data.draw(st.sampled_from(["", "", "<P id='40'>1e1 2 3</P>", "<F>1 2</F>", "<F>1 2 3 4</F>", "<Pnts/>"]))
    place = {"<P": "</Pnts>", "<F": "</Faces>", "": "</Pnts>"}[odd[:2]]
    text = text.replace(place, odd + place)
    path.write_text(text)
    quick = contents(path)
    path.write_text(text.replace(at, f"<!-- -->{at}"))
    assert quick == contents(path)


@pytest.mark.slow
@settings(max_examples=6)
@given(st.data())
def test_a_drawing_gives_what_it_gives_entity_by_entity(tmp_path_factory, data):
    rng = np.random.default_rng(data.draw(st.integers(0, 2**32 - 1)))
    document = ezdxf.new(data.draw(st.sampled_from(["R12", "R2010"])))
    space = document.modelspace()
    kinds = data.draw(st.sets(st.sampled_from(["face", "point", "line", "text", "polyline"]), min_size=1))
    for _ in range(data.draw(st.sampled_from([1000, 1100]))):
        layer = {"layer": str(rng.choice(["TIN", "BANK", "0"]))}
        kind, places = rng.choice(sorted(kinds)), (rng.random((4, 3)) * [1e6, 100.0, 1e-3]).tolist()
        if kind == "face":
            space.add_3dface(places[: rng.integers(3, 5)], dxfattribs=layer)
        elif kind == "point":
            space.add_point(places[0], dxfattribs=layer)
        elif kind == "line":
            space.add_line(places[0], places[1], dxfattribs=layer)
        elif kind == "text":
            space.add_text("41.3", dxfattribs={**layer, "insert": places[0]})
        else:
            space.add_polyline3d(places, dxfattribs=layer)
    path = tmp_path_factory.mktemp("dxf") / "g.dxf"
    document.saveas(path)
    quick = contents(path)
    # A face whose name of a layer is written with its own escape is left to the package, and all others with it.
    slow = path.read_bytes()
    at = slow.index(b"ENTITIES\n") + len(b"ENTITIES\n")
    odd = b"".join(b"  0\n%s\n  5\nFFFF\n  8\nODD%%%%\n 60\n1\n" % name for name in (b"3DFACE", b"POINT", b"LINE"))
    tail = b" 10\n1\n 20\n1\n 11\n2\n 21\n1\n 12\n2\n 22\n2\n"
    path.write_bytes(slow[:at] + odd.replace(b" 60\n1\n", tail) + slow[at:])
    whole = contents(path)
    for fast, other in zip(quick[0], [each for each in whole[0] if each[0] != "ODD%%"], strict=True):
        assert fast == other
    assert [each[1] for each in quick[1]] == [each[1] for each in whole[1] if not each[0].startswith("ODD%%")]
    assert whole[2][0].endswith(quick[2][0])


def modules_after(*words, folder):
    """The large packages that a command loads."""
    code = "import sys; from evrin.cli.start import main\ntry: main()\nexcept SystemExit: pass\n"
    code += (
        "print(*sorted({n for n in sys.modules if n in ('numpy', 'numba', 'pandas.core', 'pydantic', 'scipy.spatial',"
    )
    code += "'matplotlib', 'lxml.etree', 'evrin.tin.mesh.working_mesh')}), file=sys.stderr)"
    done = subprocess.run([sys.executable, "-c", code, *words], cwd=folder, capture_output=True, text=True, check=True)
    return done.stderr.splitlines()[-1].split()


@pytest.mark.slow
def test_commands_load_what_they_need_and_nothing_else(demo):
    """If pydantic is loaded with a new Typer: leave `_spared` out of evrin.cli.parsing, and measure `edit list`."""
    folder = demo[0]
    for words in (["--help"], ["--version"], ["edit", "clean.toml", "list"]):
        modules_after(*words, folder=folder)
        assert modules_after(*words, folder=folder) == []
    check, height = ["check", "clean.toml"], ["height", "clean.toml", "--at", "4120,2877"]
    for words in (check, height):
        modules_after(*words, folder=folder)
    assert not {"numba", "pandas.core", "matplotlib"} & set(modules_after(*check, folder=folder))
    loaded = set(modules_after(*height, folder=folder))
    assert not {"numba", "pandas.core", "matplotlib", "scipy.spatial"} & loaded


def test_a_whole_build_is_kept_until_anything_that_it_rests_on_changes(tmp_path, monkeypatch):
    path = lay_out(tmp_path)
    recipe = Recipe.read(path)
    first = recipe.build(keep=True)
    assert not all(stage.reused for stage in first.stages)
    again = recipe.build(keep=True)
    assert all(stage.reused for stage in again.stages) and again.surface.plan_area == first.surface.plan_area
    assert again.tally.equals(first.tally) and again.findings == first.findings and again.changed == []
    assert again.kept("plus one", lambda ground: ground.plan_area + 1.0) == first.surface.plan_area + 1.0
    assert Recipe.read(path).build(keep=True).kept("plus one", lambda _: pytest.fail("worked out again")) > 1.0
    source = next(each for each in tmp_path.rglob("*.csv"))
    stamp = source.stat()
    source.write_bytes(source.read_bytes().replace(b"1", b"2", 1))
    # The same size and the same time: it was changed all the same.
    os.utime(source, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
    assert recipe.build(keep=True).changed == [f"file {source.relative_to(path.parent)}"]
    assert (Path(path).parent / FOLDER / "files-known.json").exists()
