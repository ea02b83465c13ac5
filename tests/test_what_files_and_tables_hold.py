"""What a file states becomes what it means, by value: numbers, sides, units, names, the shot behind a vertex."""

import json

import laspy
import numpy as np
import pytest
import rasterio
from rasterio.transform import Affine

import evrin
from evrin import Recipe, RecipeError
from evrin.formats import read
from sites import lay_out

SHOTS = [(4000.0 + 5.0 * (k % 5), 2800.0 + 5.0 * (k // 5), 40.0 + 0.01 * k) for k in range(25)]
FIELD = "".join(f"{k},{y},{x},{z},GL\n" for k, (x, y, z) in enumerate(SHOTS, 1))
BASE = '[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PNEZD"\n'


def built(folder, extra="", field=FIELD, base=BASE, **files):
    return Recipe.read(lay_out(folder, extra, field=field, base=base, **files)).build()


def test_of_several_shots_at_one_place_the_first_names_the_vertex(tmp_path):
    x, y, z = SHOTS[12]
    build = built(tmp_path, field=FIELD + f"77,{y},{x},{z},GL\n78,{y},{x},{z},GL\n")
    at = int(np.hypot(*(build.surface.vertices[:, :2] - (x, y)).T).argmin())
    origin = build.surface.provenance
    assert origin.shots.numbers[origin.shot_of[at]] == "13"


def test_edges_longer_than_the_limit_of_the_trim_are_found_where_it_does_not_come(tmp_path):
    # All round a gap of 15 m there is ground.
    field = "".join(
        row for k, row in enumerate(FIELD.splitlines(keepends=True)) if k not in (6, 7, 8, 11, 12, 13, 16, 17, 18)
    )
    codes = {}
    for limit in (8.0, 30.0):
        build = built(tmp_path, f"[trim]\nlongest_edge = {limit}\n", field=field)
        codes[limit] = "long-edges" in [finding.code for finding in build.findings]
    assert codes == {8.0: True, 30.0: False}


def test_what_is_thinned_is_not_what_is_left_out(tmp_path):
    rows = "".join(f"{x} {y} {z}\n" for x, y, z in SHOTS)
    base = (
        '[[source]]\nfile = "c.xyz"\nrole = "cloud"\ncolumns = "xyz"\nkeep = { heights = [40.0, 40.19] }\n'
        "thin = { cell = 10.0 }\n"
    )
    row = built(tmp_path, base=base, c__xyz=rows).tally.iloc[-1]
    assert (row["read"], row["left_out"]) == (25, 5) and 0 < row["thinned"] < 20


@pytest.mark.parametrize(
    ("key", "role"),
    [
        ("ladder = [{ along = [[0, 0], [5, 5]], start = 40, step = 0.5 }]", "breaklines"),
        ("ladder = [{ along = [[0, 0], [5, 5]], start = 40, step = 0.5 }]", "points"),
        ("set_level = [{ at = [1.0, 2.0], to = 3.0 }]", "breaklines"),
        ("set_height = [{ number = '1', to = 3.0 }]", "contours"),
        ("ground_filter = {}", "breaklines"),
        ("weed = { tolerance = 0.1 }", "points"),
        ("snap = 0.1", "points"),
    ],
)
def test_a_key_that_means_nothing_in_a_role_is_refused(tmp_path, key, role):
    base = f'[[source]]\nfile = "day1.csv"\nrole = "{role}"\n{key}\n'
    with pytest.raises(RecipeError, match=f"{key.split()[0]} is not allowed for role '{role}'"):
        built(tmp_path, base=base)


RING = [(4003.0, 2803.0), (4017.0, 2803.0), (4017.0, 2817.0), (4003.0, 2817.0)]
ISLAND = [(4007.0, 2807.0), (4013.0, 2807.0), (4013.0, 2813.0), (4007.0, 2813.0)]


def polygon(rings, **facts):
    closed = [[*map(list, ring), list(ring[0])] for ring in rings]
    feature = {"type": "Feature", "properties": facts, "geometry": {"type": "Polygon", "coordinates": closed}}
    return json.dumps({"type": "FeatureCollection", "features": [feature]})


def test_a_bed_is_drawn_in_from_the_shore_and_out_from_an_island(tmp_path):
    table = '[[flat]]\nfile = "p.geojson"\nlevel = 39.0\ndepth = 1.0\nbank = 1.0\n'
    surface = built(tmp_path, table, p__geojson=polygon([RING, ISLAND])).surface
    assert surface.height([4003.5, 4005.5, 4006.5], [2810.0] * 3).tolist() == pytest.approx([38.5, 38.0, 38.5])
    assert float(surface.height(4006.0, 2810.0)) == pytest.approx(38.0)


def test_a_level_from_an_attribute_is_in_the_files_unit(tmp_path):
    table = '[[flat]]\nfile = "p.geojson"\nattribute = "wl"\nheight_units = "ft"\n'
    surface = built(tmp_path, table, p__geojson=polygon([RING], wl=100.0)).surface
    assert float(surface.height(4010.0, 2810.0)) == pytest.approx(30.48)


def test_features_are_numbered_from_one_and_a_triangle_closes(tmp_path):
    corners = [[0, 0], [4, 0], [0, 4], [0, 0]]
    features = [
        {"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": [k, k, 1.5]}} for k in (5, 6)
    ]
    features.append({"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": corners}})
    (tmp_path / "f.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    found = read(tmp_path / "f.geojson")
    assert [found.points.shots.describe(row) for row in (0, 1)] == ["f.geojson feature 1", "f.geojson feature 2"]
    (line,) = found.lines
    assert line.closed and line.xyz[:, :2].tolist() == corners[:3] and "f.geojson feature 3" in line.shots.describe(0)


@pytest.mark.parametrize(
    ("heading", "units", "height_units"),
    [("X (ft),Y (ft),Z (m)", "ft", "m"), ("X (m),Y (ft),Z (m)", "", "m"), ("X (m),Y (m),Z", "m", "")],
)
def test_units_of_headings_are_of_their_own_columns(tmp_path, heading, units, height_units):
    (tmp_path / "p.csv").write_text(f"{heading}\n1,2,3\n4,5,6\n7,9,8\n")
    found = read(tmp_path / "p.csv")
    assert (found.stated.units, found.stated.height_units) == (units, height_units)


LANDXML = """<?xml version="1.0"?>
<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2" date="2026-03-01" time="08:00:00">
<Units><Metric linearUnit="{unit}" areaUnit="squareMeter" volumeUnit="cubicMeter"/></Units>
<Surfaces><Surface name="s"><SourceData><Boundaries>
<Boundary bndType="outer"><PntList2D>0 0 0 900 900 900 0 0</PntList2D></Boundary>
<Boundary bndType="void"><PntList2D>100 200 100 300 200 300 100 200</PntList2D></Boundary>
</Boundaries></SourceData><Definition surfType="TIN"><Pnts>
<P id="1">0 0 10</P><P id="2">0 1000 10</P><P id="3">1000 0 20</P></Pnts><Faces><F>1 2 3</F></Faces></Definition>
</Surface></Surfaces></LandXML>"""


def test_units_and_kinds_of_boundaries_of_landxml(tmp_path):
    for unit, size in (("meter", 1000.0), ("millimeter", 1.0), ("kilometer", 1e6)):
        (tmp_path / "s.xml").write_text(LANDXML.format(unit=unit))
        found = read(tmp_path / "s.xml")
        (surface,) = found.surfaces
        assert np.ptp(surface.vertices, axis=0).tolist() == pytest.approx([size, size, size / 100.0])
        rings = [line for line in surface.lines if line.is_ring]
        assert [line.effect for line in rings] == ["keep", "cut"]
        assert [line.points[:, 0].max() for line in rings] == pytest.approx([0.9 * size, 0.3 * size])


@pytest.mark.parametrize("step_north", [-2.0, 2.0])
@pytest.mark.parametrize(("scale", "offset"), [(1.0, 0.0), (0.5, 100.0)])
def test_cells_of_a_grid_are_where_its_file_has_them(tmp_path, step_north, scale, offset):
    stored = np.array([[1.0, 2.0, 3.0], [4.0, 5.0, 6.0]], np.float32)
    shape = Affine(2.0, 0.0, 4000.0, 0.0, step_north, 2800.0)
    form = {"driver": "GTiff", "width": 3, "height": 2, "count": 1, "dtype": "float32", "transform": shape}
    with rasterio.open(tmp_path / "g.tif", "w", **form) as out:
        out.write(stored, 1)
        out.scales, out.offsets = (scale,), (offset,)
    (grid,) = read(tmp_path / "g.tif").grids
    xyz, _ = grid.points()
    expected = {
        (4001.0 + 2.0 * column, 2800.0 + (row + 0.5) * step_north, float(stored[row, column]) * scale + offset)
        for row in range(2)
        for column in range(3)
    }
    assert {tuple(place) for place in xyz.tolist()} == expected


def test_points_of_a_cloud_are_numbered_through_and_last_returns_are_last(tmp_path):
    header = laspy.LasHeader(point_format=3, version="1.2")
    header.scales, header.offsets = [0.01] * 3, [4000.0, 2800.0, 40.0]
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = (np.array([place[axis] for place in SHOTS]) for axis in range(3))
    cloud.return_number = np.arange(25) % 3 + 1
    cloud.number_of_returns = np.full(25, 3)
    cloud.write(tmp_path / "c.las")
    base = '[[source]]\nfile = "c.las"\nrole = "cloud"\nkeep = { returns = ["last"] }\n'
    surface = built(tmp_path, base=base).surface
    numbers = {surface.provenance.shots.describe(row) for row in surface.provenance.shot_of.tolist()}
    assert numbers == {f"c.las point {k + 1}" for k in range(25) if k % 3 == 2}


def test_a_flip_in_python_holds_against_a_vertex_beside_it():
    rhombus = [[0.0, 0, 1], [5, 2, 1], [10, 0, 1], [5, -2, 1]]
    around = [[-20.0, -20, 1], [30, -20, 1], [30, 20, 1], [-20, 20, 1]]
    editor = evrin.Editor.of(evrin.triangulate(rhombus + around))
    editor.flip((5.0, 0.0))
    editor.add((5.0, 0.4))
    now = editor.surface()
    edges = [sorted(map(tuple, now.vertices[e, :2].tolist())) for e in now.edges]
    assert [(0.0, 0.0), (10.0, 0.0)] in edges


def test_what_an_edit_did_to_a_vertex_is_noted_with_it(tmp_path):
    editor = evrin.Editor.of(built(tmp_path).surface)
    editor.move((4010.0, 2810.0), (4010.5, 2810.0))
    surface = editor.surface()
    at = int(np.hypot(*(surface.vertices[:, :2] - (4010.5, 2810.0)).T).argmin())
    assert "moved 0.500" in surface.provenance.describe(at)


def test_the_mean_height_is_by_area():
    # A large level part and many small triangles far above it.
    rng = np.random.default_rng(3)
    high = np.column_stack((100.0 + rng.uniform(0, 1, (200, 2)), np.full(200, 50.0)))
    low = [[0.0, 0, 10], [100.0, 0, 10], [0.0, 100, 10], [99.0, 99, 10]]
    figures = evrin.triangulate(np.vstack((low, high))).figures()
    assert 10.0 < figures["mean_height"] < 12.0


def test_a_slope_on_a_limit_is_of_the_steeper_band():
    ramp = evrin.triangulate([[0, 0, 0], [4, 0, 0], [4, 4, 2], [0, 4, 2]])
    assert ramp.slope_bands([0.25, 0.5, 1.0])["plan_area"].tolist() == [0.0, 0.0, 16.0, 0.0]


def test_a_frozen_surface_knows_its_shots_on_a_site_in_another_unit(tmp_path):
    written = evrin.freeze(built(tmp_path), tmp_path / "frozen")
    recipe = next(path for path in written if path.suffix == ".toml")
    text = recipe.read_text().replace('units       = "m"', 'units = "ft"')
    recipe.write_text(text)
    surface = Recipe.read(recipe).build().surface
    at = int(np.hypot(*(surface.vertices[:, :2] * 0.3048 - SHOTS[7][:2]).T).argmin())
    assert "8" in surface.provenance.describe(at).split(",")[0] and len(surface.vertices) == 25
