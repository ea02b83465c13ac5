"""What is written is read back equal, by us and by each format's own package."""

import json

import ezdxf
import laspy
import numpy as np
import pyogrio
import pytest
import rasterio
import shapely
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

import evrin
from evrin.analysis.terrain.gridding import gridded
from evrin.analysis.terrain.natural_heights import natural_heights
from evrin.base.errors import DataError
from evrin.formats import FORMATS, How, read
from evrin.formats.door.writers import writers
from evrin.surface import Grid, Surface
from zoo import SITE, lattice, places

SURFACES = sorted(writers("surface").keys() - {".csv", ".txt", ".xyz", ".pts", ".tsv", ".dat", ".json", ".landxml"})
CONTOURS = sorted(writers("contours").keys() - {".txt", ".xyz", ".pts", ".tsv", ".dat", ".json"})
NAMED = {"name": "Ostrel ground", "kind": "proposed", "colour": "#7a5c3e", "units": "m"}


def corners(surface):
    """The triangles as sets of places, whatever the order of vertices."""
    return {frozenset(map(tuple, rows)) for rows in surface.vertices[surface.triangles].tolist()}


def sample():
    xy = lattice(7) * 3.0 + SITE.round(3)
    z = 41.0 + np.sin(xy[:, 0]) + np.arange(49) % 5 / 8.0
    line = np.column_stack((SITE + [[2.0, 2.5], [14.0, 11.0]], [41.5, 42.25]))
    ground = evrin.triangulate(np.column_stack((xy, z)), breaklines=[line])
    return ground.renamed(**NAMED, crs="EPSG:25832")


@st.composite
def surfaces(draw):
    """Surfaces of at least two triangles on lattices, circles and needles, with heights to a nanometre."""
    xy = draw(places(4, 25))
    z = draw(st.lists(st.floats(-1e3, 1e4).map(lambda v: round(v, 9)), min_size=len(xy), max_size=len(xy)))
    try:
        surface = evrin.triangulate(np.column_stack((xy, z)))
    except (evrin.GeometryError, DataError):
        surface = sample()
    return surface if len(surface.triangles) > 1 else sample()


@pytest.mark.parametrize("suffix", SURFACES)
@settings(max_examples=20)
@given(surface=surfaces())
def test_a_surface_comes_back_triangle_for_triangle(tmp_path_factory, suffix, surface):
    path = tmp_path_factory.mktemp("back") / f"ground{suffix}"
    evrin.write(path, surface)
    assert corners(evrin.read_surface(path)) == corners(surface)


@pytest.mark.parametrize("suffix", SURFACES)
def test_name_kind_colour_units_and_reference_system_travel_where_there_is_a_place(tmp_path, suffix):
    path = tmp_path / f"ground{suffix}"
    evrin.write(path, sample())
    contents = read(path)
    (back,) = contents.surfaces
    no_place = {".dxf": {"kind"}, ".stl": {"kind", "colour", "units"}}.get(suffix, set())
    for key in NAMED.keys() - no_place:
        assert getattr(back, key) == NAMED[key], key
    if suffix not in (".dxf", ".stl"):
        assert contents.stated.crs == "EPSG:25832"
    assert contents.stated.units == "m" or contents.stated.hinted_units == "m" or suffix == ".stl"


def test_each_package_reads_what_was_written(tmp_path):
    surface = sample()
    for suffix in SURFACES:
        evrin.write(tmp_path / f"g{suffix}", surface)
    want = corners(surface)
    drawing = ezdxf.readfile(tmp_path / "g.dxf")
    faces = [[tuple(v) for v in face.wcs_vertices()] for face in drawing.modelspace().query("3DFACE")]
    assert {frozenset(face) for face in faces} == want and drawing.units == 6
    assert drawing.layers.get("Ostrel ground").rgb == (0x7A, 0x5C, 0x3E)
    assert len(drawing.audit().errors) == 0
    for suffix, tolerance in ((".ply", 0.0), (".obj", 0.0), (".stl", 0.0)):
        mesh = trimesh.load(tmp_path / f"g{suffix}", process=False, maintain_order=True)
        rows = np.asarray(mesh.vertices, np.float64)[np.asarray(mesh.faces)]
        assert {frozenset(map(tuple, face)) for face in rows.tolist()} == want, (suffix, tolerance)
    for suffix, layer in ((".gpkg", "triangles"), (".shp", "g"), (".geojson", "triangles")):
        _, _, shapes, fields = pyogrio.raw.read(tmp_path / f"g{suffix}", layer=layer)
        rings = [shapely.get_coordinates(shape, include_z=True)[:3] for shape in shapely.from_wkb(shapes)]
        assert {frozenset(map(tuple, ring.tolist())) for ring in rings} == want
        assert set(fields[0]) == {"Ostrel ground"}
    root = etree.parse(tmp_path / "g.xml").getroot()
    points = [[float(v) for v in p.text.split()] for p in root.iter("{*}P")]
    rows = [[points[int(k) - 1] for k in f.text.split()] for f in root.iter("{*}F")]
    assert {frozenset((e, n, z) for n, e, z in face) for face in rows} == want


@pytest.mark.parametrize("suffix", CONTOURS)
def test_contours_come_back_with_their_levels(tmp_path, suffix):
    lines = sample().contours(0.5, index=1.0)
    path = tmp_path / f"c{suffix}"
    evrin.write(path, lines)
    contents = read(path, How(as_lines=True))
    assert contents.stated.crs == ("EPSG:25832" if suffix in (".gpkg", ".shp", ".geojson") else "")
    back = contents.lines
    back = back if suffix != ".dxf" else sorted(back, key=lambda line: (line.xyz[0, 2], line.xyz.tolist()))
    given = sorted(lines, key=lambda line: (line.level, line.points.tolist())) if suffix == ".dxf" else list(lines)
    assert len(back) == len(given) > 5
    for one, other in zip(given, back, strict=True):
        assert one.is_closed == other.closed and (other.xyz[:, 2] == one.level).all()
        assert np.array_equal(one.points[: len(other.xyz)], other.xyz[:, :2])


def test_contours_are_on_index_and_intermediate_layers_with_labels_that_read_upright(tmp_path):
    lines = sample().contours(0.25, index=1.0)
    evrin.write(tmp_path / "c.dxf", lines)
    space = ezdxf.readfile(tmp_path / "c.dxf").modelspace()
    by_layer = {}
    for entity in space.query("LWPOLYLINE"):
        by_layer.setdefault(entity.dxf.layer, set()).add(entity.dxf.elevation)
    assert by_layer["CONTOURS INDEX"] == {line.level for line in lines if line.is_index}
    assert by_layer["CONTOURS INTERMEDIATE"] == {line.level for line in lines if not line.is_index}
    texts = list(space.query("TEXT"))
    shown = {float(text.dxf.text) for text in texts}
    assert shown & by_layer["CONTOURS INDEX"] and shown <= set(lines.levels.tolist())
    assert all(not 90.0 < text.dxf.rotation < 270.0 for text in texts)
    assert all(text.dxf.align_point[2] == float(text.dxf.text) for text in texts)


def test_edges_and_points_go_into_a_drawing_where_they_are_asked_for(tmp_path):
    surface = sample()
    evrin.write(tmp_path / "p.dxf", surface, parts=["edges", "points"])
    contents = read(tmp_path / "p.dxf")
    assert not contents.surfaces and len(contents.lines) == len(surface.edges)
    assert sorted(contents.points.xyz.tolist()) == sorted(surface.vertices.tolist())
    with pytest.raises(DataError, match="walls is not a part"):
        evrin.write(tmp_path / "q.dxf", surface, parts=["walls"])
    with pytest.raises(DataError, match=r"for \.dxf only"):
        evrin.write(tmp_path / "q.xml", surface, parts=["edges"])


@settings(max_examples=20)
@given(
    st.integers(2, 6), st.integers(2, 6), st.integers(0, 2**32), st.sampled_from([0.5, 1.0, 2.5]),
    st.sampled_from([".tif", ".asc"]),
)  # fmt: skip
def test_a_grid_comes_back_to_the_written_decimals(tmp_path_factory, rows, columns, seed, cell, suffix):
    rng = np.random.default_rng(seed)
    heights = rng.uniform(-50, 4000, (rows, columns)).round(4)
    heights[rng.random((rows, columns)) < 0.2] = np.nan
    heights[0, 0] = 41.25
    west, south = (np.round(SITE / cell) * cell).tolist()
    grid = Grid("bed", west, south, cell, cell, heights)
    path = tmp_path_factory.mktemp("grid") / f"g{suffix}"
    evrin.write(path, grid)
    (back,) = read(path).grids
    assert np.allclose(back.heights, heights, rtol=0.0, atol=1e-9, equal_nan=True)
    assert np.allclose([back.west, back.south, back.step_east, back.step_north], [west, south, cell, cell], atol=1e-6)
    with rasterio.open(path) as source:
        band = source.read(1, masked=True)
    assert np.allclose(band.filled(np.nan)[::-1], heights, atol=5e-4, equal_nan=True)


@pytest.mark.slow
def test_a_surface_goes_into_cells_of_whole_sizes_by_either_method(tmp_path):
    ramp = evrin.triangulate([[0.3, 0.2, 1.0], [9.7, 0.2, 2.0], [9.7, 8.1, 5.0], [0.3, 8.1, 4.0]])
    for method in ("linear", "natural"):
        evrin.write(tmp_path / "g.tif", ramp, cell=0.5, method=method)
        (grid,) = read(tmp_path / "g.tif").grids
        assert (grid.west, grid.south) == (0.25, 0.25) and grid.heights.shape == (17, 20)
        x, y = np.meshgrid(grid.west + 0.5 * np.arange(20), grid.south + 0.5 * np.arange(17))
        inside = grid.has_height
        plane = 1.0 + (x - 0.3) / 9.4 + 3.0 * (y - 0.2) / 7.9
        assert inside.sum() == 18 * 16 and np.allclose(grid.heights[inside], plane[inside], atol=1e-9)
    for cell, output in ((None, "a grid needs a cell size"), (0.0, "larger than 0"), (1e-7, "too many")):
        with pytest.raises(DataError, match=output):
            evrin.write(tmp_path / "h.tif", ramp, cell=cell)
    with pytest.raises(DataError, match="linear or natural"):
        gridded(ramp, 1.0, "cubic")


@given(places(5, 30), st.integers(0, 2**32))
def test_natural_neighbours_keep_planes_and_vertices_and_stay_between_heights(xy, seed):
    rng = np.random.default_rng(seed)
    middle, size = xy.mean(axis=0), max(float(np.ptp(xy, axis=0).max()), 1e-3)
    plane = 3.0 + 2.0 * (xy[:, 0] - middle[0]) / size - (xy[:, 1] - middle[1]) / size
    try:
        surface = evrin.triangulate(np.column_stack((xy, plane)))
    except evrin.GeometryError:
        return
    weights = rng.dirichlet(np.ones(3), len(surface.triangles))
    asked = (surface.vertices[surface.triangles][:, :, :2] * weights[:, :, None]).sum(axis=1)
    heights = natural_heights(surface, asked)
    want = 3.0 + 2.0 * (asked[:, 0] - middle[0]) / size - (asked[:, 1] - middle[1]) / size
    known = np.isfinite(heights)
    slack = 1e-6 * np.abs(xy).max() / size + 1e-6
    assert (np.abs(heights - want)[known] <= slack).all()
    used = surface.vertices[np.unique(surface.triangles)]
    assert np.array_equal(natural_heights(surface, used[:, :2].copy()), used[:, 2])
    rough = Surface.from_arrays(
        np.column_stack((surface.vertices[:, :2], rng.uniform(0, 9, len(surface.vertices)))), surface.triangles
    )
    between = natural_heights(rough, asked)
    known = np.isfinite(between)
    assert (between[known] >= rough.vertices[:, 2].min() - 1e-9).all()
    assert (between[known] <= rough.vertices[:, 2].max() + 1e-9).all()


def test_sibsons_weights_in_a_square_are_the_areas_taken():
    """A new cell at a quarter of a square, by hand: circumcentres and shoelace."""
    square = evrin.triangulate([[0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 8], [2, 2, 0]])
    # Beside the middle the neighbours are the four corners and the middle; by mirroring, those at equal distance tie.
    left, right = natural_heights(square, np.array([[1.0, 3.0], [3.0, 1.0]]))
    assert left > 1.0 and right == pytest.approx(0.0)
    bare = evrin.triangulate([[0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 8]])
    assert natural_heights(bare, np.array([[2.0, 2.0]]))[0] == pytest.approx(2.0)


@pytest.mark.parametrize("seed", range(4))
def test_natural_neighbours_do_not_look_across_lines(seed):
    """A pond is level to its shore; above and below a wall nothing is known of the other side; planes stay planes."""
    rng = np.random.default_rng(seed)
    turn = np.linspace(0.0, 2.0 * np.pi, 24)
    shore = np.column_stack((30.0 + 12.0 * np.cos(turn), 50.0 + 9.0 * np.sin(turn), np.full(24, 9.0)))
    top, foot = ([[x, 5.0, z], [x + 2.0, 95.0, z]] for x, z in ((75.0, 30.0), (75.5, 10.0)))
    xy = rng.uniform(0.0, 100.0, (900, 2))
    east = xy[:, 0] - 75.0 - xy[:, 1] / 45.0
    outside = ((xy[:, 0] - 30.0) / 12.0) ** 2 + ((xy[:, 1] - 50.0) / 9.0) ** 2 > 1.1
    xy, east = xy[outside & ((east < -0.5) | (east > 1.0))], east[outside & ((east < -0.5) | (east > 1.0))]
    z = np.where(east > 0.0, 10.0, np.where(xy[:, 0] > 55.0, 30.0, 10.0 + 0.1 * xy[:, 0]))
    surface = evrin.triangulate(np.column_stack((xy, z)), [shore, top, foot])
    asked = rng.uniform(2.0, 98.0, (4000, 2))
    asked = asked[(asked[:, 1] > 12.0) & (asked[:, 1] < 88.0)]
    heights, side = natural_heights(surface, asked), asked[:, 0] - 75.0 - asked[:, 1] / 45.0
    pond = ((asked[:, 0] - 30.0) / 12.0) ** 2 + ((asked[:, 1] - 50.0) / 9.0) ** 2 < 0.95
    assert np.isfinite(heights).mean() > 0.99
    for among, level in ((pond, 9.0), (side > 0.8, 10.0), ((side < -0.2) & (asked[:, 0] > 68.0), 30.0)):
        known = heights[among & np.isfinite(heights)]
        assert len(known) > 50 and (known == level).all()
    grid = surface.gridded(1.0, "natural").heights
    assert np.isfinite(grid).sum() == np.isfinite(surface.gridded(1.0).heights).sum()
    ends = [rng.uniform(5.0, 95.0, (2, 2)) for _ in range(40)]
    lines = [np.column_stack((each, 3.0 + each @ [0.2, -0.1])) for each in ends]
    plane = evrin.triangulate(np.column_stack((xy, 3.0 + xy @ [0.2, -0.1])), lines)
    off = natural_heights(plane, asked) - (3.0 + asked @ [0.2, -0.1])
    assert np.isfinite(off).mean() > 0.95 and np.nanmax(np.abs(off)) < 1e-9


def test_a_cloud_reads_as_its_own_package_reads_it(tmp_path):
    rng = np.random.default_rng(3)
    for suffix in (".las", ".laz"):
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.offsets, header.scales = np.array([*SITE.round(), 0.0]), np.full(3, 0.001)
        cloud = laspy.LasData(header)
        cloud.x, cloud.y = SITE[0] + rng.uniform(0, 50, 500), SITE[1] + rng.uniform(0, 50, 500)
        cloud.z = rng.uniform(40, 45, 500)
        cloud.classification = rng.integers(0, 8, 500).astype(np.uint8)
        cloud.return_number, cloud.number_of_returns = np.ones(500, np.uint8), np.full(500, 2, np.uint8)
        cloud.withheld = np.arange(500) % 100 == 7
        cloud.write(tmp_path / f"c{suffix}")
        back = laspy.read(tmp_path / f"c{suffix}")
        contents = read(tmp_path / f"c{suffix}")
        stays = np.array(back.withheld) == 0
        # Its numbers are a rounding away from the decimals that the file holds; ours are those.
        assert np.abs(contents.points.xyz - back.xyz[stays]).max() < 1e-9
        decimals = [[float(f"{value:.3f}") for value in row] for row in back.xyz[stays].tolist()]
        assert contents.points.xyz.tolist() == decimals
        assert np.array_equal(contents.points.columns["class"], np.array(back.classification)[stays])
        assert contents.refused[0].count == 5 and "withheld" in contents.refused[0].reason
        assert contents.points.shots.describe(7).endswith(f"c{suffix} point 9")


def test_the_same_surface_gives_the_same_file(tmp_path):
    for suffix in SURFACES:
        if suffix == ".xml":
            continue  # its header has to bear the time
        for name in ("one", "two"):
            (tmp_path / name).mkdir(exist_ok=True)
            evrin.write(tmp_path / name / f"g{suffix}", sample())
        one, two = ((tmp_path / name / f"g{suffix}").read_bytes() for name in ("one", "two"))
        assert one == two, suffix


def test_every_format_is_registered_once_and_does_something():
    assert {
        "DXF",
        "LandXML",
        "LAS or LAZ",
        "PLY",
        "OBJ",
        "STL",
        "Shapefile",
        "GeoPackage",
        "GeoJSON",
        "GeoTIFF",
    } <= set(FORMATS)
    for entry in FORMATS.values():
        assert entry.read is not None and all(extension.startswith(".") for extension in entry.extensions)
    with pytest.raises(ValueError, match="registered already"):
        from evrin.formats.door.format_registry import register

        register(FORMATS["DXF"])


def test_a_missing_package_error_states_how_to_get_it(tmp_path, monkeypatch):
    import sys

    evrin.write(tmp_path / "g.dxf", sample())
    monkeypatch.setitem(sys.modules, "ezdxf", None)
    with pytest.raises(evrin.MissingPackageError, match=r"evrin\[drawings\]'.*evrin\[formats\]'"):
        read(tmp_path / "g.dxf")


def test_vertices_go_into_a_table_and_json_lines_keep_their_level(tmp_path):
    evrin.write(tmp_path / "g.csv", sample())
    back = read(tmp_path / "g.csv").points
    assert np.array_equal(back.xyz, sample().vertices) and back.shots.numbers[0] == "1"
    evrin.write(tmp_path / "c.geojson", sample().contours(1.0))
    features = json.loads((tmp_path / "c.geojson").read_text())["features"]
    assert {type(feature["properties"]["level"]) for feature in features} == {float}
