"""A cloud or a grid in tiles: the surface of all of it, whatever the tiles, the workers and the stops between."""

import json
import os
import signal
from collections import Counter
from pathlib import Path

import distributed
import laspy
import numpy as np
import pyogrio
import pytest
import rasterio
import shapely
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

import evrin
from evrin import Recipe
from evrin.analysis.terrain.gridding import gridded
from evrin.base.errors import DataError, GeometryError
from evrin.large import Engine, tiled, workers
from evrin.large.other_surface import against
from evrin.large.tiled_outputs import (
    Levels,
    volume_against,
    write_contours,
    write_differences,
    write_heights,
    write_slopes,
)
from evrin.survey.cloud.ground_filter import is_ground
from evrin.tin.delaunay.tile_listing import touched_tiles
from zoo import millimetres, small_grid

some_places = st.one_of(
    hnp.arrays(np.float64, st.tuples(st.integers(1, 60), st.just(2)), elements=each)
    for each in (small_grid, millimetres)
)
EVERYWHERE = (-1e9, -1e9, 1e9, 1e9)


@pytest.fixture(scope="module")
def crew():
    with distributed.Client(
        processes=False, n_workers=1, threads_per_worker=1, dashboard_address="127.0.0.1:0", set_as_default=False
    ) as client:
        yield Engine(client, lambda stage, done, total: None)


def write_laz(path, xyz):
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.offsets, header.scales = np.floor(xyz.min(axis=0)), np.full(3, 0.001)
    out = laspy.LasData(header)
    out.x, out.y, out.z = xyz.T
    out.write(path)


def lay_out(folder, xyz, *keys, files=1, tables=()):
    """Write a cloud into some files, and its recipe."""
    (folder / "flight").mkdir(parents=True)
    for number, part in enumerate(np.array_split(xyz, files)):
        if len(part):
            write_laz(folder / "flight" / f"{number}.laz", part)
    source = ["[[source]]", 'files = "flight/*.laz"', 'role = "cloud"', *keys]
    text = "\n".join(['[site]\nname = "Ostrel Weir"\nunits = "m"', *source, *tables])
    (folder / "site.toml").write_text(text, encoding="utf-8")
    return Recipe.read(folder / "site.toml")


def hills(count, seed, size=60.0):
    """Rolling ground with a bank, a pond without points, and a barn; to the millimetre."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(0.0, size, (2, count))
    z = 40 + np.sin(x / 9) + np.cos(y / 7) + np.clip((x - 30) / 1.5, 0, 3) + rng.normal(0, 0.01, count)
    z = np.where((np.abs(x - 15) < 4) & (np.abs(y - 40) < 6), 48.0, z)
    dry = np.hypot(x - 45, y - 20) > 8
    return np.round(np.column_stack((x + 4100, y + 2800, z))[dry], 3)


def by_place(surface):
    """Triangles by the places of their corners, the westernmost first, in order."""
    corners = surface.vertices[surface.triangles]
    first = [min(range(3), key=lambda k: tuple(triangle[k])) for triangle in corners.tolist()]
    turned = corners[np.arange(len(corners))[:, None], (np.array(first)[:, None] + np.arange(3)) % 3].reshape(-1, 9)
    return turned[np.lexsort(turned.T)].tolist()


def lowest_at_each_place(xyz):
    xyz = xyz[np.lexsort((xyz[:, 2], xyz[:, 1], xyz[:, 0]))]
    return xyz[np.append(True, (xyz[1:, :2] != xyz[:-1, :2]).any(axis=1))]


@pytest.mark.thorough
@settings(max_examples=40, phases=[Phase.generate], suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(some_places, st.sampled_from([0.3, 0.5, 1.0, 1e6]), st.integers(1, 4), st.integers(0, 2**31))
def test_triangles_are_those_of_all_points_whatever_the_tiles_the_files_and_their_order(
    tmp_path_factory, crew, xy, part, files, seed
):
    """Lattices and lines: places on edges of tiles, gaps, several points at one place."""
    rng = np.random.default_rng(seed)
    xyz = np.round(np.column_stack((8.0 * xy, rng.uniform(40, 44, len(xy)))), 3)
    xyz = rng.permutation(np.vstack((xyz, xyz[::4] + (0, 0, 0.5))))
    folder = tmp_path_factory.mktemp("any")
    recipe = lay_out(folder, xyz, files=files)
    size = max(float(np.ptp(xyz[:, :2], axis=0).max()) * part, 1.0)
    try:
        whole = evrin.triangulate(lowest_at_each_place(xyz))
    except GeometryError:
        with pytest.raises(GeometryError):
            tiled(recipe, folder / "kept", crew, tile=size)
        return
    found = tiled(recipe, folder / "kept", crew, tile=size)
    assert by_place(found.within(EVERYWHERE)) == by_place(whole)
    owned = [part.vertices[part.triangles[part.is_own]] for tile in found.tiles if (part := found.part(tile))]
    assert sum(map(len, owned)) == found.triangles == len(whole.triangles)


@pytest.mark.slow
@pytest.mark.parametrize("size", [7.0, 25.0, None])
def test_the_ground_filter_gives_in_tiles_what_it_gives_in_one_piece(tmp_path, crew, size):
    xyz = hills(30_000, 3)
    recipe = lay_out(tmp_path, xyz, "ground_filter = { cell = 0.5, window = 8 }", files=3)
    found = tiled(recipe, tmp_path / "kept", crew, tile=size)
    ground = lowest_at_each_place(xyz[is_ground(xyz, cell=0.5, window=8.0)])
    assert 0.8 * len(xyz) < len(ground) < len(xyz) - 500
    kept = found.within(EVERYWHERE).vertices
    assert kept[np.lexsort((kept[:, 1], kept[:, 0]))].tolist() == ground.tolist()
    assert f"{len(xyz) - is_ground(xyz, cell=0.5, window=8.0).sum():,} points classified as non-ground" in found.notes


@pytest.mark.slow
@pytest.mark.parametrize("pick", ["lowest", "median", "middle"])
def test_thinned_by_cell_and_trimmed_in_tiles_as_in_one_piece(tmp_path, crew, pick):
    trim = ("[trim]", "longest_edge = 3.5")
    recipe = lay_out(tmp_path, hills(4_000, 5), f'thin = {{ cell = 1.1, pick = "{pick}" }}', tables=trim)
    whole = recipe.build().surface
    for size in (9.0, 23.0):
        found = tiled(recipe, tmp_path / f"kept-{size:g}", crew, tile=size)
        assert by_place(found.within(EVERYWHERE)) == by_place(whole) and found.triangles == len(whole.triangles)
    inside = recipe.path.read_text(encoding="utf-8") + "\ninside = true"
    recipe.path.write_text(inside, encoding="utf-8")
    again = Recipe.read(recipe.path)
    holed = tiled(again, tmp_path / "kept-9", crew, tile=9.0)
    assert by_place(holed.within(EVERYWHERE)) == by_place(again.build().surface)


def test_grids_in_several_files_are_a_source_too(tmp_path, crew):
    """A slope in two files with cells of 2, one of them without a value; windows choose from it."""
    for number, rows in enumerate(("1 2 3\n4 5 -9999", "7 8 9\n7 8 11")):
        head = f"ncols 3\nnrows 2\nxllcenter 4101\nyllcenter {2805 - 4 * number}\ncellsize 2\nNODATA_value -9999\n"
        (tmp_path / f"{number}.asc").write_text(head + rows)
    source = (
        '[site]\nname = "bed"\n[[source]]\nfiles = "*.asc"\nrole = "grid"\nkeep = { window = [4100, 2800, 4104, 2820] }'
    )
    (tmp_path / "bed.toml").write_text(source)
    recipe = Recipe.read(tmp_path / "bed.toml")
    found = tiled(recipe, tmp_path / "kept", crew, tile=3.0)
    part = found.within(EVERYWHERE)
    assert by_place(part) == by_place(recipe.build().surface) and len(part.vertices) == 8
    assert "cell" in part.provenance.describe(0) and "3 points left out as the table asks" in found.notes


@pytest.mark.thorough
@pytest.mark.parametrize("size", [11.0, 30.0])
def test_within_a_tolerance_every_dropped_point_is_measured_and_outputs_are_those_of_the_whole(tmp_path, crew, size):
    xyz = hills(12_000, 8)
    recipe = lay_out(tmp_path, xyz, "thin = { tolerance = 0.04 }", files=2)
    found = tiled(recipe, tmp_path / "kept", crew, tile=size)
    whole = found.within(EVERYWHERE)
    assert len(whole.vertices) == found.vertices < len(xyz) / 3
    off = np.abs(whole.height(xyz[:, 0], xyz[:, 1]) - xyz[:, 2])
    assert off.max() <= 0.04
    assert by_place(whole) == by_place(evrin.triangulate(whole.vertices))
    check_contours(found, whole, crew, tmp_path / "contours.gpkg")
    check_grids(found, whole, crew, tmp_path)
    check_volumes(found, whole, crew, tmp_path / "differences.tif")


def lines_of(points, starts, levels):
    """Each line by its level and places; a closed one from its westernmost place on."""
    out = []
    for level, line in zip(levels, np.split(points, starts[1:-1]), strict=True):
        if len(line) > 2 and (line[0] == line[-1]).all():
            first = np.lexsort((line[:-1, 1], line[:-1, 0]))[0]
            line = np.roll(line[:-1], -first, axis=0)
            line = np.vstack((line, line[:1]))
        out.append((float(level), line.tolist()))
    return sorted(out)


def check_contours(found, whole, crew, path):
    assert write_contours(found, crew, path, Levels(0.25, 1.0)) == len(one := whole.contours(0.25, index=1.0))
    head, _, shapes, (level, index, closed, depression) = pyogrio.raw.read(path)
    shapes = shapely.from_wkb(shapes)
    assert head["fields"].tolist() == ["level", "index", "closed", "depression"]
    xyz = shapely.get_coordinates(shapes, include_z=True)
    starts = np.append(0, np.cumsum(shapely.get_num_coordinates(shapes)))
    assert (xyz[:, 2] == np.repeat(level, np.diff(starts))).all()
    assert lines_of(xyz[:, :2], starts, level) == lines_of(one.points, one.starts, one.levels[one.level_of])
    assert (index.sum(), closed.sum(), depression.sum()) == tuple(
        sum(getattr(line, name) for line in one) for name in ("is_index", "is_closed", "is_depression")
    )


def read_back(path):
    """Cells from the south, NaN for none, and the middles of their columns and rows."""
    with rasterio.open(path) as source:
        assert source.tags(ns="IMAGE_STRUCTURE")["LAYOUT"] == "COG"
        values = source.read(1, masked=True).astype(float).filled(np.nan)[::-1]
        x = source.transform.c + source.transform.a * (np.arange(source.width) + 0.5)
        y = source.transform.f + source.transform.e * (np.arange(source.height)[::-1] + 0.5)
    return values, *np.meshgrid(x, y)


def check_grids(found, whole, crew, folder):
    write_heights(found, crew, folder / "heights.tif", 0.7)
    values, x, y = read_back(folder / "heights.tif")
    assert np.allclose(values, whole.height(x, y), atol=4e-6, equal_nan=True)
    assert np.isfinite(values).sum() == np.isfinite(gridded(whole, 0.7).heights).sum() > 5_000
    write_slopes(found, crew, folder / "slopes.tif", 0.7, "degrees")
    values, x, y = read_back(folder / "slopes.tif")
    assert np.allclose(values, np.degrees(np.arctan(whole.slope(x, y))), atol=1e-4, equal_nan=True)


def check_volumes(found, whole, crew, path):
    low = evrin.triangulate(whole.vertices[::5] + (0.31, -0.17, -0.4), name="before")
    base, one = against(found, low), whole.volume_above(low).total
    total = volume_against(found, crew, base)
    assert total == pytest.approx((one.cut, one.fill, one.common_area, one.only_top), rel=1e-9)
    assert total.net == pytest.approx(one.net)
    itself = volume_against(found, crew, against(found, found))
    assert (itself.cut, itself.fill) == (0.0, 0.0) and itself.common_area == pytest.approx(whole.plan_area)
    write_differences(found, crew, path, 0.7, base)
    values, x, y = read_back(path)
    assert np.allclose(values, whole.height(x, y) - low.height(x, y), atol=4e-6, equal_nan=True)


def test_every_vertex_is_traced_to_its_file_and_point(tmp_path, crew):
    xyz = hills(900, 2)
    found = tiled(lay_out(tmp_path, xyz, files=3), tmp_path / "kept", crew, tile=20.0)
    part = found.within((4110.0, 2810.0, 4135.0, 2840.0))
    assert 50 < len(part.vertices) < 600
    files = np.array_split(xyz, 3)
    for vertex, place in enumerate(part.vertices.tolist()):
        file, _, number = str(part.provenance.describe(vertex)).partition(".laz point ")
        assert files[int(file)][int(number) - 1].tolist() == place
    with pytest.raises(DataError, match="no surface within"):
        found.within((0.0, 0.0, 1.0, 1.0))


@pytest.mark.parametrize(
    ("tables", "named"),
    [
        ('[[source]]\nfile = "more.csv"\nrole = "points"', "one \\[\\[source\\]\\]"),
        ('[[boundary]]\nfile = "limit.csv"\neffect = "keep"', "boundary"),
        ("[trim]\nsmallest_angle_deg = 5", "smallest_angle_deg"),
        ('[[edit]]\ndo = "flip"\nat = [4120.0, 2820.0]\nwhy = "kerb"', "edit"),
    ],
)
def test_what_does_not_hold_across_tiles_is_refused_before_work_begins(tmp_path, crew, tables, named):
    for name in ("more.csv", "limit.csv"):
        (tmp_path / name).write_text("E,N,Z\n4100,2800,40\n4150,2800,40\n4150,2850,40\n")
    lay_out(tmp_path, hills(50, 1), tables=[tables])
    recipe = Recipe.read(tmp_path / "site.toml")
    with pytest.raises(DataError, match=named):
        tiled(recipe, tmp_path / "kept", crew)
    assert not (tmp_path / "kept").exists()


@pytest.mark.thorough
def test_a_killed_worker_and_a_stop_change_no_byte(tmp_path):
    recipe = lay_out(
        tmp_path,
        hills(40_000, 4),
        "ground_filter = { cell = 0.5, window = 8 }",
        "thin = { tolerance = 0.03 }",
        files=4,
    )
    quiet = tmp_path / "quiet"
    with workers(1) as crew:
        found = tiled(recipe, quiet, crew, tile=15.0)
        write_contours(found, crew, tmp_path / "quiet.gpkg", Levels(0.5))
        write_heights(found, crew, tmp_path / "quiet.tif", 0.5)
    killed, stopped, seen = [], [], Counter()

    def report(stage, done, total):
        seen[stage] += done == total
        if stage in ("ground", "triangulate") and done == 1 and stage not in killed:
            killed.append(stage)
            os.kill(next(iter(client.run(os.getpid).values())), signal.SIGKILL)
        if stage.startswith("measure") and done == 2 and not stopped:
            stopped.append(stage)
            raise KeyboardInterrupt

    with (
        distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address="127.0.0.1:0") as cluster,
        distributed.Client(cluster, set_as_default=False) as client,
    ):
        noisy = tmp_path / "noisy"
        with pytest.raises(KeyboardInterrupt), workers(scheduler=cluster.scheduler_address, report=report) as crew:
            tiled(recipe, noisy, crew, tile=15.0)
        before = {path: path.stat().st_mtime_ns for path in noisy.rglob("*/ground/*.npy")}
        with workers(scheduler=cluster.scheduler_address, report=report) as crew:
            again = tiled(recipe, noisy, crew, tile=15.0)
            write_contours(again, crew, tmp_path / "noisy.gpkg", Levels(0.5))
            write_heights(again, crew, tmp_path / "noisy.tif", 0.5)
    assert killed == ["ground", "triangulate"] and stopped and seen["read"] == 1
    assert before and {path: path.stat().st_mtime_ns for path in before} == before
    assert (again.digest, again.vertices, again.notes) == (found.digest, found.vertices, found.notes)
    for ending in (".gpkg", ".tif"):
        assert (tmp_path / f"noisy{ending}").read_bytes() == (tmp_path / f"quiet{ending}").read_bytes()


@pytest.mark.slow
@pytest.mark.parametrize(
    ("words", "named"),
    [
        (["--tile", "nan"], "--tile"),
        (["--tile", "0"], "--tile"),
        (["--tile", "1e300"], "tile"),
        (["--tile", "1e-8"], "tile"),
        (["--workers", "-1"], "--workers"),
        (["--contours", "c.gpkg"], "--interval"),
        (["--contours", "c.dxf", "--interval", "1"], "gpkg"),
        (["--contours", "c.gpkg", "--interval", "0"], "interval"),
        (["--contours", "c.gpkg", "--interval", "1", "--index", "-1"], "index"),
        (["--heights", "h.tif"], "--cell"),
        (["--heights", "h.png", "--cell", "1"], "tif"),
        (["--heights", "h.tif", "--cell", "-1"], "cell"),
        (["--heights", "no/h.tif", "--cell", "1"], "no"),
        (["--differences", "d.tif", "--cell", "1"], "--against"),
        (["--out", "part.xml"], "--window"),
        (["--slopes", "s.tif", "--cell", "1", "--slope-unit", "one_in"], "percent"),
        (["--scheduler", "tcp://127.0.0.1:9"], "no scheduler answers"),
        (["--folder", "flight"], "holds something else"),
    ],
)
def test_options_that_cannot_be_are_refused_in_words(tmp_path, run, words, named):
    lay_out(tmp_path, hills(50, 1))
    result = run("tiles", "site.toml", *words, code=2, folder=tmp_path)
    assert named in result.stderr and "Traceback" not in result.stderr
    assert sorted(path.name for path in tmp_path.glob("*.*")) == ["site.toml"]


@pytest.mark.slow
def test_the_command_writes_what_it_is_asked_for_and_prints_it(tmp_path, run, monkeypatch):
    lay_out(tmp_path, hills(4_000, 6), "thin = { tolerance = 0.05 }")
    monkeypatch.chdir(tmp_path)
    evrin.write("before.xml", evrin.triangulate(hills(500, 7) - (0, 0, 1)))
    outputs = "--contours c.gpkg --interval 0.5 --heights h.tif --slopes s.tif --cell 1 --differences d.tif"
    part = "--against before.xml --window 4120,2820,4140,2840 -o part.xml --workers 1 --tile 25 --json"
    result = run("tiles", "site.toml", *outputs.split(), *part.split(), folder=tmp_path)
    answer = json.loads(result.stdout)
    (row,) = answer["rows"]
    part = evrin.read_surface("part.xml")
    assert row["tiles"] == 9 and row["triangles"] > len(part.triangles) > 20
    assert row["net"] == pytest.approx(row["fill"] - row["cut"]) and row["common_area"] > 2_500
    assert any("represent the cloud within" in note for note in answer["notes"])
    assert all(Path(name).stat().st_size > 0 for name in ("c.gpkg", "h.tif", "s.tif", "d.tif"))
    for line in ("read …", "triangulate …", "contours …", "wrote d.tif"):
        assert line in result.stderr


@pytest.mark.slow
@given(st.integers(0, 2**31), st.sampled_from([0.7, 1.0, 16.0]))
def test_each_triangle_is_listed_in_every_tile_that_it_touches(seed, size):
    rng = np.random.default_rng(seed)
    corners = np.round(rng.uniform(-6, 6, (12, 3, 2)) * 4) / 4
    flat = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    corners = np.ascontiguousarray(corners[flat[0][:, 0] * flat[1][:, 1] != flat[0][:, 1] * flat[1][:, 0]])
    found = np.empty((10_000, 3), np.int64)
    count = touched_tiles(corners, np.floor(corners / size).astype(np.int64), size, found)
    listed = Counter(map(tuple, found[:count].tolist()))
    assert set(listed.values()) <= {1}
    shapes = shapely.polygons(corners)
    for column in range(int(-7 / size) - 2, int(7 / size) + 2):
        for row in range(int(-7 / size) - 2, int(7 / size) + 2):
            box = shapely.box(column * size, row * size, (column + 1) * size, (row + 1) * size)
            far = shapely.distance(shapes, box)
            inside = shapely.area(shapely.intersection(shapes, box)) > 1e-9
            for triangle in range(len(corners)):
                is_listed = (triangle, column, row) in listed
                assert not inside[triangle] or is_listed
                assert not is_listed or far[triangle] < 1e-5 * size


def test_strays_and_too_many_tiles_are_refused_with_their_place(tmp_path, crew):
    xyz = hills(300, 1)
    stray = lay_out(tmp_path / "stray", np.vstack((xyz, [[0.0, 0.0, 0.0]])))
    with pytest.raises(DataError, match=r"between easting 1 and 4,1\d\d"):
        tiled(stray, tmp_path / "kept", crew, tile=1.0)
    assert tiled(stray, tmp_path / "kept", crew, tile=500.0).vertices == len(xyz) + 1
    with pytest.raises(DataError, match="too many"):
        write_heights(tiled(stray, tmp_path / "kept", crew, tile=500.0), crew, tmp_path / "h.tif", 0.001)
    assert not (tmp_path / "h.tif").exists()
    nothing = lay_out(tmp_path / "nothing", xyz, "keep = { window = [0, 0, 1, 1] }")
    with pytest.raises(DataError, match="no point is left"):
        tiled(nothing, tmp_path / "none", crew)
