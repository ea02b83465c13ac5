"""Heaps, sections, grids, levels, recipes and records of volumes, as a surveyor meets them."""

import csv
import json
import multiprocessing
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import DataError, GeometryError, Recipe, RecipeError
from evrin.analysis import band_polygons, end_areas, find_toe, grid_volumes, methods_table, no_change_lines, usual_bands
from evrin.demo import earthworks, ground
from evrin.making import Plane
from evrin.recipe import append_entry, read_record
from sites import lay_out


@pytest.mark.slow
def test_the_demos_heaps_and_dredging_are_within_what_is_printed_of_the_truth():
    found = earthworks.measure()
    assert len(found.rows) == 4
    for row in found.rows:
        assert abs(row.volume - row.truth) <= row.within_95
        assert row.within_95 < 0.13 * row.truth
    for flight in earthworks.FLIGHTS:
        toe = found.heaps[flight.date].toe
        off = ground.heap_distance(*toe[:, :2].T) - flight.height / flight.slope
        assert 0.1 < off.mean() < 0.5
        assert np.abs(off).max() < 1.0
    taken = found.surfaces["bed-before.xml"].vertices[:, 2].mean() - ground.RIVER_BELOW
    assert abs(taken) < 0.01


@pytest.mark.thorough
@given(st.floats(0.35, 0.8), st.floats(2.0, 4.0), st.floats(-0.05, 0.05), st.integers(0, 10**6))
def test_a_cone_on_a_slope_is_found_and_measured(slope, height, tilt, seed):
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(-18, 18, (2, 5000))
    field = 0.03 * x + tilt * y
    heap = np.maximum(height - slope * np.hypot(x, y), 0.0)
    surface = evrin.triangulate(np.column_stack((x, y, field + heap + rng.normal(0, 0.01, len(x)))), name="heap")
    toe = find_toe(surface, rng.uniform(-0.5, 0.5, 2))
    assert np.hypot(*toe[:, :2].T).mean() == pytest.approx(height / slope, abs=0.12 * height / slope + 0.2)
    found = surface.heap_volume((0.0, 0.0))
    truth = np.pi * (height / slope) ** 2 * height / 3.0
    assert abs(found.volume - truth) <= found.within_95 + 0.02 * truth
    assert found.table["volume"].iloc[3] >= found.volume


def test_a_toe_is_refused_where_there_is_none():
    x, y = (axis.ravel() for axis in np.mgrid[0:40:1.0, 0:40:1.0])
    flat = evrin.triangulate(np.column_stack((x, y, 0.02 * x)))
    with pytest.raises(GeometryError, match="no toe was found"):
        flat.heap_volume((20.0, 20.0))
    with pytest.raises(DataError, match="off the surface"):
        flat.heap_volume((90.0, 20.0))
    with pytest.raises(GeometryError, match="off the surface"):
        flat.heap_volume([[30, 30], [60, 30], [60, 60]])
    for bad in (np.nan, 0.0, -1.0, np.inf):
        with pytest.raises(DataError):
            find_toe(flat, (20.0, 20.0), bad)


def test_other_methods_come_nearer_as_their_spacing_halves():
    found = earthworks.measure()
    before, after = found.surfaces["bed-before.xml"], found.surfaces["bed-after.xml"]
    total, difference = after.volume_above(before).total, after.less(before)
    away = []
    for spacing in (4.0, 2.0, 1.0, 0.5):
        table, sections = methods_table(
            difference, (total.cut, total.fill), spacing=spacing, bearing_deg=90.0, cell=spacing / 4
        )
        assert sections.chainage[-1] - sections.chainage[0] == pytest.approx(sections.line.length)
        away.append(np.abs(table.set_index("method")["cut"] - total.cut) / total.cut)
    for method in ("end areas", "prismoidal", "grid, corners", "grid, middles"):
        assert away[-1][method] < 0.01
        assert away[-1][method] <= max(away[0][method], 0.004)


def test_sections_and_cells_of_plain_solids():
    prism = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 3, 2], [0, 3, 2], [0, 6, 0], [10, 6, 0]])
    difference = prism.less(0.0)
    for spacing in (3.0, 7.0, 10.0, 40.0):
        cut = end_areas(difference, spacing, bearing_deg=90.0)
        assert cut.volume()[1] == pytest.approx(60.0, rel=1e-6)
        assert cut.table["fill_so_far"].iloc[-1] == pytest.approx(60.0, rel=1e-6)
    # A pyramid is a prismoid between any two sections: prismoidal is exact, end areas are not.
    pyramid = evrin.triangulate([[0, 0, 0], [6, 0, 0], [6, 6, 0], [0, 6, 0], [3, 3, 4]]).less(0.0)
    cut = end_areas(pyramid, 3.0, bearing_deg=0.0)
    assert cut.prismoidal()[1] == pytest.approx(48.0, rel=1e-6)
    assert cut.volume()[1] == pytest.approx(36.0, rel=1e-6)
    assert grid_volumes(pyramid, 0.05)["middles"][1] == pytest.approx(48.0, rel=1e-3)
    for bad in (0.0, -1.0, np.nan, 1e-9, np.inf, 1e300):
        with pytest.raises(DataError):
            grid_volumes(pyramid, bad)
    for bad in (0.0, -1.0, np.nan, 1e-9):
        with pytest.raises(DataError):
            end_areas(pyramid, bad, bearing_deg=0.0)
    with pytest.raises(DataError, match="left and right"):
        end_areas(pyramid, 1.0, [(0, 3), (3, 3), (6, 0)])


def test_lines_of_no_change_and_bands_close_and_add_up():
    x, y = (axis.ravel() for axis in np.mgrid[-9:9.5:0.5, -9:9.5:0.5])
    bowl = evrin.triangulate(np.column_stack((x, y, 0.1 * (x**2 + y**2) - 2.5)))
    difference = bowl.less(0.0)
    (line,) = no_change_lines(difference, bowl)
    assert line.closed
    assert np.hypot(*line.points[:, :2].T) == pytest.approx(5.0, abs=0.05)
    limits = usual_bands(difference)
    assert 0.0 in limits
    rings = band_polygons(difference, limits)

    def shoelace(points):
        x, y = points[:, 0], points[:, 1]
        return float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum() / 2)

    assert sum(shoelace(ring.points) for ring in rings) == pytest.approx(bowl.plan_area)
    cut = sum(shoelace(ring.points) for ring in rings if ring.name.startswith("cut"))
    assert cut == pytest.approx(bowl.volume_above(0.0, tolerance=0.0).total.cut_area)


def test_planes_are_what_they_are_made_from():
    plane = Plane.sloping((100.0, 200.0, 5.0), 2.0, 30.0)
    places = np.array([[100.0, 200.0], [130.0, 170.0], [90.0, 260.0], [120.0, 220.0]])
    again = Plane.through(np.column_stack((places, plane.height(*places.T))))
    assert (again.grade_percent, again.height(0.0, 0.0)) == (pytest.approx(2.0), pytest.approx(plane.height(0.0, 0.0)))
    assert "30.00" in again.described()
    for places in ([[0, 0, 1], [1, 1, 2]], [[0, 0, 1], [1, 1, 2], [2, 2, 9]], [[0, 0, 1], [0, 0, 2], [0, 0, 3]]):
        with pytest.raises(DataError):
            Plane.through(places)
    for bad in (np.nan, np.inf, 1e300):
        with pytest.raises(DataError):
            Plane.level(bad)
        with pytest.raises(DataError):
            Plane.sloping((0, 0, 0), bad, 0.0)


SHOTS = "1,0,0,1.0\n2,0,10,1.0\n3,10,10,2.0\n4,10,0,2.0\n5,5,5,4.0\n"
TABLE = '[[volume]]\nname = "pile"\nlevel = 1.0\nwhy = "to be carted away"\n'


def site(tmp_path, tables=TABLE, shots=SHOTS):
    base = '[[source]]\nfile = "shots.csv"\nrole = "points"\ncolumns = "PNEZ"\n'
    return lay_out(tmp_path, tables, base=base, shots__csv=shots)


@pytest.mark.slow
def test_a_recipe_measures_its_volumes_at_every_build_and_knows_what_they_were(tmp_path):
    recipe = site(tmp_path)
    first = Recipe.read(recipe).build(keep=True)
    (pile,) = first.volumes
    net = pile.rows[0]["net"]
    assert (pile.before, net) == (None, pytest.approx(first.surface.volume_above(1.0).total.net))
    (same,) = Recipe.read(recipe).build(keep=True).volumes
    assert (same.rows, same.before) == (pile.rows, {})
    (tmp_path / "shots.csv").write_text(SHOTS.replace("5,5,5,4.0", "5,5,5,7.0"))
    (now,) = Recipe.read(recipe).build(keep=True).volumes
    assert (now.before, now.rows[0]["net"]) == ({"all": net}, pytest.approx(net + 100.0))
    page = tmp_path / "report.html"
    Recipe.read(recipe).build().report(page)
    assert "to be carted away" in page.read_text() and f"{now.rows[0]['net']:,.3f}" in page.read_text()


def test_a_base_is_carried_over_to_the_site_and_recipes_do_not_rest_on_themselves(tmp_path):
    feet = evrin.triangulate(np.array([[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0]]) / 0.3048, units="ft")
    evrin.write(tmp_path / "feet.xml", feet)
    table = '[[volume]]\nname = "one"\nbase = "feet.xml"\n'
    build = Recipe.read(site(tmp_path, table)).build()
    assert build.volumes[0].rows[0]["net"] == pytest.approx(build.surface.volume_above(0.0).total.net)
    recipe = site(tmp_path, '[[volume]]\nbase = "site.toml"\n')
    with pytest.raises(DataError, match="measured from it"):
        Recipe.read(recipe).build()


def test_volumes_that_do_not_meet_the_ground_are_findings(tmp_path):
    tables = '[[volume]]\nname = "none"\nheap = [5.0, 5.0]\n[[volume]]\nlevel = 1.0\nwithin = "square-20.csv"\n'
    _square(tmp_path, 5, 5, 20)
    build = Recipe.read(site(tmp_path, tables, SHOTS.replace("5,5,5,4.0", "5,5,5,1.5"))).build()
    assert {finding.code for finding in build.open_findings} >= {"volume-unmeasured", "volume-uncovered"}
    assert (len(build.volumes), build.volumes[0].rows[0]["neither"]) == (1, pytest.approx(375.0))
    meant = Recipe.read(site(tmp_path, tables.replace("within", "allow_uncovered = true\nwithin"))).build()
    assert "volume-uncovered" not in [finding.code for finding in meant.open_findings]


@pytest.mark.parametrize(
    "table",
    [
        "level = 1.0\nbase = \"shots.csv\"",
        "",
        "plane = [[0, 0, 1], [1, 0, 1]]",
        "plane = [[0, 0, 1]]",
        "plane = [[0, 0, 1]]\ngrade = 2.0",
        "level = nan",
        "level = 1.0\nbulking = 0",
        "level = 1.0\nspread = -1",
        "heap = [5, 5]\nstrip = 0.2",
        "level = 1.0\nstrip_within = \"shots.csv\"",
        "heap = [5, 5]\nreach = 0",
    ],
)  # fmt: skip
def test_tables_of_volumes_that_cannot_be_are_refused(tmp_path, table):
    with pytest.raises(RecipeError):
        Recipe.read(site(tmp_path, f"[[volume]]\n{table}\n"))


def add_many(path, name):
    for k in range(20):
        append_entry(Path(path), name, {"level": 0.0}, {}, "m", [{"area": "all", "net": float(k)}], "2026-05-12")


def test_a_record_holds_with_two_writers_and_after_a_kill(tmp_path):
    record = tmp_path / "heap.jsonl"
    spawn = multiprocessing.get_context("spawn")
    writers = [spawn.Process(target=add_many, args=(str(record), name)) for name in ("one", "two")]
    for writer in writers:
        writer.start()
    for writer in writers:
        writer.join()
    before = record.read_bytes()
    entries, broken = read_record(record)
    assert (len(entries), broken) == (40, [])
    assert {name: sum(e.name == name for e in entries) for name in ("one", "two")} == {"one": 20, "two": 20}
    record.write_bytes(before + b'{"form": 1, "date": "2026-0')
    assert append_entry(record, "three", {"level": 0.0}, {}, "m", [{"area": "all", "net": 1.0}]) == 42
    assert record.read_bytes().startswith(before)
    entries, broken = read_record(record)
    assert (entries[-1].name, broken) == ("three", [41])
    (tmp_path / "notes.jsonl").write_text("shopping\n")
    for name, day in (("notes.jsonl", ""), ("heap.txt", ""), ("new.jsonl", "yesterday")):
        with pytest.raises(DataError):
            append_entry(tmp_path / name, "x", {}, {}, "m", [], day)
    assert (tmp_path / "notes.jsonl").read_text() == "shopping\n"


def test_what_is_printed_is_written_and_the_method_asked_for_is_kept(tmp_path, run):
    """A pyramid of 48: by end areas 46.67, and prismoidal 48 again, as in a textbook."""
    pyramid = tmp_path / "pyramid.xml"
    evrin.write(pyramid, evrin.triangulate([[0, 0, 0], [6, 0, 0], [6, 6, 0], [0, 6, 0], [3, 3, 4]], name="pyramid"))
    record, figures = tmp_path / "heap.jsonl", tmp_path / "figures.csv"
    asked = ("volume", str(pyramid), "--to-level", "0", "--spacing", "1", "--bearing", "0", "--append", str(record))
    shown = run(*asked, "--bands", "0,2", "--cell", "1", "-o", str(figures), "-o", str(tmp_path / "map.png"), code=0)
    assert "prismoidal" in shown.stdout and "Bands of depth" in shown.stdout
    with figures.open(encoding="utf-8-sig") as stream:
        rows = list(csv.DictReader(stream))
    assert [row["table"] for row in rows] == ["areas", *["bands"] * 3, *["methods"] * 5]
    bands = [row for row in rows if row["table"] == "bands"]
    assert [float(row["base_slope_area"]) for row in bands] == pytest.approx([0.0, 27.0, 9.0])
    assert [float(row["top_slope_area"]) for row in bands] == pytest.approx([0.0, 45.0, 15.0])
    run(*asked, "--record-by", "prismoidal", code=0)
    run(*asked, "--record-by", "exact", code=0)
    kept = json.loads(run("record", str(record), "--json", code=0).stdout)["rows"]
    assert [row["method"] for row in kept] == ["end areas", "prismoidal", "exact"]
    assert [row["net"] for row in kept] == pytest.approx([46.6667, 48.0, 48.0], abs=1e-4)
    run("record", str(record), "--again", code=0)
    first = json.loads(record.read_text().splitlines()[0])["rows"][-1]
    assert (first["net_exact"], first["net_prismoidal"]) == pytest.approx((48.0, 48.0))
    assert "needs cell" in run(*asked, "--record-by", "grid-corners", code=2).stderr
    text = run("volume", str(pyramid), "--table", "1", "-o", str(tmp_path / "table.csv"), code=0).stdout
    assert "volume below" in text


@pytest.mark.slow
def test_the_command_measures_writes_and_makes_a_record_again(tmp_path, run):
    recipe = site(tmp_path)
    ground = Recipe.read(recipe).build().surface
    low, high = tmp_path / "low.xml", tmp_path / "high.xml"
    evrin.write(low, ground)
    evrin.write(high, evrin.triangulate(ground.vertices + [0, 0, 1.5], name="high"))
    areas = tmp_path / "areas.csv"
    rings = {"west": (1, 1, 5, 9), "east": (5, 1, 9, 9)}
    rows = [
        f"{name},{x},{y}" for name, (w, s, e, n) in rings.items() for x, y in ((w, s), (e, s), (e, n), (w, n), (w, s))
    ]
    areas.write_text("line,x,y\n" + "\n".join(rows) + "\n")
    record, pair = tmp_path / "record.jsonl", ("volume", low, high)
    answer = json.loads(run(*pair, "--within", areas, "--json", "--append", record, "--cell", "0.5").stdout)
    assert [row["area"] for row in answer["rows"]] == ["west", "east", "all"]
    assert [row["fill"] for row in answer["rows"]] == pytest.approx([48.0, 48.0, 96.0])
    assert [row["method"] for row in answer["methods"]] == ["exact", "grid, corners", "grid, middles"]
    names = ("map.png", "rows.csv", "difference.xml", "line.dxf", "bands.geojson", "s.pdf")
    outputs = [tmp_path / name for name in names]
    run(
        *("volume", high, "--to-plane", "0,0,2 10,0,3.1 0,10,2.2", "--bands=-1,0,1", "--spacing", "3"),
        *("--bearing", "45", "-o", outputs[0], "-o", outputs[1], "-o", outputs[2]),
        *("--no-change-lines", outputs[3], "--polygons", outputs[4], "--sections", outputs[5]),
    )
    assert [path.stat().st_size > 0 for path in outputs] == [True] * 6
    assert evrin.read_surface(outputs[2]).plan_area == pytest.approx(100.0)
    run("volume", "--again", str(record))
    evrin.write(high, evrin.triangulate(ground.vertices + [0, 0, 2.0], name="high"))
    state = json.loads(run("record", str(record), "--again", "--json", code=1).stdout)["rows"][0]["state"]
    assert "high.xml has changed" in state and "all: fill 96.000, now 128.000" in state
    run("record", str(record), "-o", str(tmp_path / "series.png"))
    assert (tmp_path / "series.png").stat().st_size > 0
    assert json.loads(run("volume", str(low), "--table", "0.5", "--json").stdout)["rows"][-1]["volume_below"] > 0
    square = str(_square(tmp_path, 5, 5, 20))
    assert "exit code 1: 375.000 m² are not covered by both" in run(*pair, "--within", square, code=1).stderr
    run(*pair, "--within", square, "--allow-uncovered")


def _square(folder, x, y, side):
    path = folder / f"square-{side}.csv"
    corners = ((x, y), (x + side, y), (x + side, y + side), (x, y + side), (x, y))
    path.write_text("line,x,y\n" + "".join(f"yard,{a},{b}\n" for a, b in corners))
    return path


@pytest.mark.parametrize(
    "words",
    [
        "SURFACE",
        "",
        "SURFACE SURFACE SURFACE",
        "SURFACE --to-level nan",
        "SURFACE --to-level 1e300",
        "SURFACE --to-plane 0,0",
        "SURFACE --to-plane 0,0,1 --grade 2",
        "SURFACE --to-plane 0,0,1 --grade inf --rising-to 3",
        "SURFACE SURFACE --to-level 3",
        "SURFACE --heap 5,5 --reach -1",
        "SURFACE --heap nan,5",
        "SURFACE --to-level 1 --spacing 2",
        "SURFACE --to-level 1 --spacing 0 --bearing 3",
        "SURFACE --to-level 1 --spacing 1e-8 --bearing 3",
        "SURFACE --to-level 1 --spacing 2 --bearing nan",
        "SURFACE --to-level 1 --cell 0",
        "SURFACE --to-level 1 --cell 1e-8",
        "SURFACE --to-level 1 --density 0",
        "SURFACE --to-level 1 --bulking inf",
        "SURFACE --to-level 1 --strip -1",
        "SURFACE --to-level 1 --no-change nan",
        "SURFACE --to-level 1 --spread 1e300",
        "SURFACE --to-level 1 --bands 1,0 -o map.png",
        "SURFACE --to-level 1 --append notes.txt",
        "SURFACE --table 0",
        "SURFACE --table nan",
        "SURFACE --table 1e-8",
        "SURFACE --table 1 --to-level 3",
        "SURFACE --to-level 1 --within SHOTS",
        "--again missing.jsonl",
    ],
)
def test_what_cannot_be_measured_is_refused_in_words(tmp_path_factory, words, run):
    folder = tmp_path_factory.getbasetemp() / "refusals"
    if not folder.exists():
        folder.mkdir()
        evrin.write(folder / "ground.xml", Recipe.read(site(folder)).build().surface)
    named = [word.replace("SURFACE", "ground.xml").replace("SHOTS", "shots.csv") for word in words.split(" ") if word]
    done = run("volume", *named, code=2, folder=folder)
    assert done.stderr.strip()
    assert "Traceback" not in done.stderr
    assert sorted(path.name for path in folder.iterdir()) == ["day1.csv", "ground.xml", "shots.csv", "site.toml"]


@pytest.mark.parametrize(("units", "foot"), [("m", 0.3048), ("ft", 1.0), ("ftUS", 1.0)])
def test_figures_are_stated_in_yards_acres_and_tons(tmp_path, run, units, foot):
    """A slab of one acre, one yard high, is 4,840 cubic yards; of a survey in US feet, of those feet."""
    side, high = 43560.0**0.5 * foot, 3.0 * foot
    slab = tmp_path / "slab.xml"
    corners = [[0, 0, high], [side, 0, high], [side, side, high], [0, side, high]]
    evrin.write(slab, evrin.triangulate(corners, name="slab", units=units))
    asked = ("volume", str(slab), "--to-level", "0", "--in", "yd3,acre,long-ton", "--density", "1.5", "--bands", "0")
    answer = json.loads(run(*asked, "--json", code=0).stdout)
    row, band = answer["rows"][0], answer["bands"][1]
    assert (row["fill"], row["fill_area"], row["fill_mass"]) == pytest.approx((4840.0, 1.0, 7260.0), rel=1e-9)
    assert (band["volume"], band["top_slope_area"]) == pytest.approx((4840.0, 1.0), rel=1e-9)
    assert answer["quantities"] == {"volume": "yd³", "area": "acre", "mass": "long ton"}
    shown = run(*asked, "-o", str(tmp_path / "slab.png"), code=0).stdout
    assert "4,840.000" in shown and "fill 7,260.000 long ton" in shown
    asked = ("volume", str(slab), "--table", "0.7", "--in", "yd3", "--json")
    last = json.loads(run(*asked, code=0).stdout)["rows"][-1]
    assert last["volume_below"] == pytest.approx(4840.0 * (last["level"] / high - 1.0), rel=1e-9)
    for wrong, why in (("yd3,m3", "yd3 and m3 are both units of volume"), ("pints", "'pints' is no unit")):
        assert why in run("volume", str(slab), "--to-level", "0", "--in", wrong, code=2).stderr
