"""What other programs write, as their packages or their hands write it: read as meant, or refused with the reason."""

import json
import struct

import ezdxf
import numpy as np
import pyogrio
import pytest

from evrin.base.errors import DataError
from evrin.formats import How, look
from evrin.formats.door.readers import read
from evrin.recipe import Recipe
from evrin.survey import inventory


def arc(radius, z=(10.0, 11.0, 12.0)):
    """Half a circle round (5000, 5000) in well-known binary: a circular string in space."""
    places = [(5000 - radius, 5000, z[0]), (5000, 5000 + radius, z[1]), (5000 + radius, 5000, z[2])]
    return struct.pack("<BII", 1, 1008, 3) + b"".join(struct.pack("<3d", *place) for place in places)


@pytest.mark.parametrize("chord", [0.001, 0.01, 0.5])
def test_arcs_of_a_geopackage_stray_no_farther_than_the_chord_that_is_asked_for(tmp_path, chord):
    shapes = np.array([arc(radius) for radius in (3.0, 80.0, 1000.0)], object)
    names = np.array(["a", "b", "c"], object)
    pyogrio.raw.write(
        tmp_path / "curves.gpkg",
        shapes,
        field_data=[names],
        fields=np.array(["name"], object),
        geometry_type="Unknown",
        crs="EPSG:25832",
        driver="GPKG",
    )
    lines = read(tmp_path / "curves.gpkg", How(as_lines=True, chord=chord)).lines
    assert len(lines) == 3
    for line, radius in zip(lines, (3.0, 80.0, 1000.0), strict=True):
        middles = (line.xyz[:-1] + line.xyz[1:]) / 2.0
        assert radius - np.hypot(*(middles[:, :2] - 5000.0).T).min() <= chord
        assert np.abs(np.hypot(*(line.xyz[:, :2] - 5000.0).T) - radius).max() < 1e-6
        assert (line.xyz[0, 2], line.xyz[-1, 2]) == (10.0, 12.0) and (np.diff(line.xyz[:, 2]) > 0.0).all()


@pytest.mark.parametrize("count", [1, 40])
def test_a_multipatch_is_a_surface_of_its_triangles(tmp_path, count):
    # Of many triangles the drivers make a collection of several parts.
    squares = [((10 * k, 0, 1), (10 * k + 10, 0, 1), (10 * k + 10, 10, 2), (10 * k, 10, 2)) for k in range(count)]
    triangles = [(a, *rest) for a, b, c, d in squares for rest in ((b, c), (c, d))][::-1]
    rings = [struct.pack("<3I", 1, 4, 0)[:8] + b"".join(struct.pack("<3d", *p) for p in (*t, t[0])) for t in triangles]
    tin = struct.pack("<BII", 1, 1016, len(triangles)) + b"".join(struct.pack("<BI", 1, 1017) + ring for ring in rings)
    pyogrio.raw.write(
        tmp_path / "patch.shp",
        np.array([tin], object),
        field_data=[np.array(["a"], object)],
        fields=np.array(["name"], object),
        geometry_type="Unknown",
        crs="EPSG:25832",
        driver="ESRI Shapefile",
        layer_options={"SHPT": "MULTIPATCH"},
    )
    (surface,) = look(tmp_path / "patch.shp").surfaces
    assert len(surface.triangles) == 2 * count and surface.plan_area == pytest.approx(100.0 * count)


@pytest.mark.parametrize(
    "stated",
    [
        {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::25832"}},
        {"type": "EPSG", "properties": {"code": 25832}},
        {"type": "EPSG", "properties": {"code": "25832"}},
        {"type": "link", "properties": {"href": "http://www.opengis.net/def/crs/EPSG/0/25832", "type": "ogcwkt"}},
        {"type": "link", "properties": {"href": "http://spatialreference.org/ref/epsg/25832/proj4/"}},
    ],
)
def test_the_system_of_an_older_geojson_is_read_in_each_of_its_forms(tmp_path, stated):
    line = {"type": "LineString", "coordinates": [[412000, 5502000, 5], [412100, 5502000, 6]]}
    feature = {"type": "Feature", "properties": {}, "geometry": line}
    path = tmp_path / "lines.geojson"
    path.write_text(json.dumps({"type": "FeatureCollection", "crs": stated, "features": [feature]}))
    assert look(path).stated.crs == "EPSG:25832"
    stated["properties"] = {"name": "EPSG:4326"}
    path.write_text(json.dumps({"type": "FeatureCollection", "crs": stated, "features": [feature]}))
    assert any("plane system" in text for text in inventory(look(path)).looks_wrong)


def solid(name, z):
    """Two facets at a height, in the words of the format."""
    corners = [((0, 0), (10, 0), (10, 10)), ((0, 0), (10, 10), (0, 10))]
    facets = [
        "facet normal 0 0 1\nouter loop\n" + "".join(f"vertex {x} {y} {z}\n" for x, y in each) + "endloop\nendfacet\n"
        for each in corners
    ]
    return f"solid {name}\n" + "".join(facets) + f"endsolid {name}\n"


@pytest.mark.parametrize("ends", ["\n", "\r\n"])
@pytest.mark.parametrize("change", [str, str.upper])
def test_each_solid_of_an_stl_is_a_surface_in_whatever_case_its_words_are(tmp_path, ends, change):
    text = change(solid("Ground", 1) + solid("Rock top", 5)).replace("\n", ends)
    (tmp_path / "two.stl").write_bytes(text.encode())
    surfaces = look(tmp_path / "two.stl").surfaces
    assert [surface.name for surface in surfaces] == [change("Ground"), change("Rock top")]
    assert [surface.vertices[0, 2] for surface in surfaces] == [1.0, 5.0]


def test_chains_of_landxml_are_lines_by_name_or_by_place(tmp_path):
    points = "".join(f'<CgPoint name="{k}">{2800 + k} 4000 {40 + k}</CgPoint>' for k in range(1, 5))
    chains = '<Chain name="bank" desc="top">1 2 4</Chain><Chain name="drawn">2800 4000 41 2810 4005 42</Chain>'
    wrong = '<Chain name="lost">1 77</Chain>'
    surface = (
        f'<Surfaces><Surface name="s"><SourceData><Chains>{chains}{wrong}</Chains></SourceData></Surface></Surfaces>'
    )
    (tmp_path / "chains.xml").write_text(
        '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric linearUnit="meter"/>'
        f"</Units>{surface}<CgPoints>{points}</CgPoints></LandXML>"
    )
    contents = look(tmp_path / "chains.xml")
    assert [(line.name, line.xyz.tolist()) for line in contents.lines] == [
        ("bank", [[4000, 2801, 41], [4000, 2802, 42], [4000, 2804, 44]]),
        ("drawn", [[4000, 2800, 41], [4005, 2810, 42]]),
    ]
    assert "chain lost" in contents.refused[0].reason


def test_line_ends_within_quotation_marks_and_stray_marks_are_read_row_by_row(tmp_path):
    rows = [f'{k},{4000 + k},{2800 + k},{41 + k},LAWN,"first line\nand ""second"", with a comma"' for k in range(40)]
    rows[7] = '7,4007,2807,48,12" PIPE,'
    (tmp_path / "shots.csv").write_text("number,easting,northing,height,code,remark\n" + "\n".join(rows) + "\n")
    contents = look(tmp_path / "shots.csv")
    assert len(contents.points) == 40 and not contents.refused
    assert contents.points.shots.codes[7] == '12" PIPE'
    assert contents.points.column("remark")[8] == 'first line and "second", with a comma'


@pytest.mark.parametrize(
    ("more", "names"), [("", []), (" -1200", ["intensity"]), (" 12 33 44", ["red", "green", "blue"])]
)
def test_a_list_that_states_how_many_points_follow_needs_no_columns(tmp_path, more, names):
    rows = [f"{k}.5 {2 * k % 7} {3 + k / 10}{more}" for k in range(40)]
    (tmp_path / "scan.pts").write_text("20\n" + "\n".join(rows[:20]) + "\n20\n" + "\n".join(rows[20:]) + "\n")
    contents = look(tmp_path / "scan.pts")
    assert contents.points.xyz[3].tolist() == [3.5, 6.0, 3.3] and len(contents.points) == 40
    assert [name for name in contents.points.columns if name in ("intensity", "red", "green", "blue")] == names
    (tmp_path / "site.toml").write_text('[site]\n[[source]]\nfile = "scan.pts"\nrole = "points"\n')
    assert len(Recipe.read(tmp_path / "site.toml").build().surface.vertices) == 40
    # A job number above the rows is no count.
    (tmp_path / "scan.pts").write_text("4711\n" + "\n".join(rows) + "\n")
    with pytest.raises(DataError, match="state columns"):
        Recipe.read(tmp_path / "site.toml").build()


@pytest.mark.parametrize("suffix", [".shp", ".tif", ".las", ".gpkg", ".dxf", ".xml"])
def test_a_file_of_a_byte_is_refused_as_cut_short(tmp_path, suffix):
    (tmp_path / f"one{suffix}").write_bytes(b"\x01")
    with pytest.raises(DataError, match=r"1 byte, which no .* has; it is cut short"):
        look(tmp_path / f"one{suffix}")


@pytest.mark.parametrize("gap", [0.4, 0.8])
def test_a_number_belongs_to_the_spot_that_it_is_written_beside_even_if_another_is_nearer(tmp_path, gap):
    document = ezdxf.new()
    document.units = 6
    space = document.modelspace()
    for k in range(30):
        for step, z in ((0.0, 41.0), (gap, 41.6)):
            x, y = 6.0 * k + step, 5.0 * (k % 5)
            space.add_point((x, y, z + 0.01 * k), dxfattribs={"layer": "spots"})
            space.add_text(f"{z + 0.01 * k:.2f}", height=0.2).set_placement((x + 0.5, y + 0.1))
    document.saveas(tmp_path / "plan.dxf")
    recipe = '[site]\n[[source]]\nfile = "plan.dxf"\nrole = "points"\nheights = "text nearby"\n'
    (tmp_path / "site.toml").write_text(recipe)
    assert "text-disagrees" not in {finding.code for finding in Recipe.read(tmp_path / "site.toml").build().findings}
