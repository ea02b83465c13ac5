"""What is written is read back equal, appears whole or not at all, and foreign files are taken as they are."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

import evrin
from evrin.base import files
from evrin.base.errors import DataError
from evrin.formats import How, read
from evrin.surface import Provenance, Shots, Surface
from zoo import SITE, lattice, places

NS = "{http://www.landxml.org/schema/LandXML-1.2}"


def sample(seed=1, shift=SITE):
    rng = np.random.default_rng(seed)
    xyz = np.column_stack((shift + rng.uniform(0, 50, (80, 2)), rng.normal(40, 3, 80)))
    line = np.column_stack((shift + [[5.0, 5.1], [44.3, 40.7]], [39.5, 41.25]))
    ring = shift + np.array([[3.0, 3], [47, 4], [46, 46], [4, 45]])
    return evrin.triangulate(xyz, [line, line[:, :2] + 1.0], [ring], name="Ostrel & <Weir>", units="ftUS")


def same(one, other):
    assert one.vertices.tobytes() == other.vertices.tobytes()
    assert np.array_equal(one.triangles, other.triangles)


@given(st.integers(0, 10_000), places(6, 30))
def test_a_surface_comes_back_from_landxml_to_the_last_bit(tmp_path_factory, seed, xy):
    path = tmp_path_factory.mktemp("xml") / "ground.xml"
    rng = np.random.default_rng(seed)
    try:
        ground = evrin.triangulate(np.column_stack((xy, rng.normal(0, 1e3, len(xy)))))
    except evrin.GeometryError:
        return
    evrin.write(path, ground)
    same(ground, evrin.read_surface(path))


def test_name_units_lines_and_boundaries_travel(tmp_path):
    ground = sample().renamed(crs="EPSG:27700", description="as surveyed", kind="proposed")
    evrin.write(tmp_path / "g.xml", ground)
    back = evrin.read_surface(tmp_path / "g.xml")
    for name in ("name", "units", "crs", "description", "kind"):
        assert getattr(back, name) == getattr(ground, name)
    assert [(line.name, line.effect, line.closed) for line in back.lines] == [
        ("breakline 0", "breakline", False),
        ("breakline 1", "breakline", False),
        ("boundary 0", "keep", True),
    ]
    for one, other in zip(ground.lines, back.lines, strict=True):
        assert np.array_equal(one.points, other.points, equal_nan=True)


def test_each_point_carries_the_number_and_code_of_its_shot(tmp_path):
    bare = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2]])
    shots = Shots(
        ("day1.csv",),
        np.zeros(3, np.int32),
        np.arange(1, 4, dtype=np.int32),
        np.array(["7", "8&9", ""], object),
        np.array(["LAWN", '"edge"', ""], object),
    )
    ground = Surface(
        bare.vertices, bare.triangles, bare.edge_lines, provenance=Provenance(shots, np.arange(3, dtype=np.int32))
    )
    evrin.write(tmp_path / "g.xml", ground)
    back = evrin.read_surface(tmp_path / "g.xml").provenance
    assert back.shots.numbers.tolist() == ["7", "8&9", ""]
    assert back.describe(1).startswith('shot 8&9, code "edge", g.xml line ')


def test_landxml_follows_its_schema(tmp_path):
    ground = sample()
    evrin.write(tmp_path / "g.xml", ground)
    root = etree.parse(tmp_path / "g.xml").getroot()
    assert root.tag == NS + "LandXML" and root.get("version") == "1.2" and root.get("date")
    assert root.find(f"{NS}Units/{NS}Imperial").get("linearUnit") == "USSurveyFoot"
    surface = root.find(f"{NS}Surfaces/{NS}Surface")
    assert [child.tag.removeprefix(NS) for child in surface] == ["SourceData", "Definition"]
    definition = surface.find(f"{NS}Definition")
    assert definition.get("surfType") == "TIN"
    northing, easting, height = map(float, definition.find(f"{NS}Pnts/{NS}P").text.split())
    assert [easting, northing, height] == ground.vertices[0].tolist()
    assert len(definition.findall(f"{NS}Faces/{NS}F")) == len(ground.triangles)


def landxml(body, head='<Units><Metric linearUnit="meter"/></Units>'):
    return f'<LandXML xmlns="{NS[1:-1]}" version="1.2">{head}<Surfaces>{body}</Surfaces></LandXML>'


POINTS = '<Pnts><P id="4">0 0 1</P><P id="7">0 9 1</P><P id="2">9 9 2</P><P id="5">9 0 2</P></Pnts>'


def test_foreign_files_are_taken_as_they_are(tmp_path):
    path = tmp_path / "other.xml"
    faces = '<Faces><F>4 7 2</F><F i="1">4 2 5</F></Faces>'
    first = f'<Surface name="theirs"><Definition surfType="TIN">{POINTS}{faces}</Definition></Surface>'
    second = '<Surface name="second"><Definition><Pnts><P id="1">5 5 5</P></Pnts></Definition></Surface>'
    text = landxml(first + second).replace("<", "<x:").replace("<x:/", "</x:").replace("xmlns=", "xmlns:x=")
    path.write_text(text, encoding="utf-8")
    ground = evrin.read_surface(path)
    assert ground.name == "theirs" and len(ground.vertices) == 4
    assert ground.triangles.tolist() == [[0, 1, 2]]  # the hidden face is left out
    assert ground.vertices[1].tolist() == [9.0, 0.0, 1.0]


@pytest.mark.parametrize(
    ("text", "output"),
    [
        ("", "the file is empty"),
        ("<LandXML", "not well-formed"),
        ("<?xml version='1.0'?><gpx/>", "not LandXML"),
        (landxml(""), "no surface"),
        (landxml(f"<Surface><Definition>{POINTS}<Faces/></Definition></Surface>"), "no surface in it"),
        (landxml(f"<Surface><Definition>{POINTS}<Faces><F>4 7 99</F></Faces></Definition></Surface>"), "point '99'"),
        (landxml(f"<Surface><Definition>{POINTS}<Faces><F>4 7</F></Faces></Definition></Surface>"), "2 points instead"),
        (landxml("<Surface><Definition><Pnts><P>1 2</P></Pnts></Definition></Surface>"), "3 numbers expected"),
        (landxml("<Surface><Definition><Pnts><P>1 2 x</P></Pnts></Definition></Surface>"), "could not convert"),
        (landxml("", '<Units><Metric linearUnit="furlong"/></Units>'), "'furlong' is not one of"),
        (
            "<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'cccccccc'><!ENTITY d '&b;&b;&b;'>]>"
            + landxml("<Surface><Definition><Pnts><P>&d;</P></Pnts></Definition></Surface>"),
            "3 numbers expected",
        ),
    ],
)
def test_broken_surfaces_are_refused_with_the_reason(tmp_path, text, output):
    path = tmp_path / "broken.xml"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(DataError, match=output):
        evrin.read_surface(path)


@given(st.data())
def test_mangled_landxml_never_gives_anything_but_a_surface_or_a_clear_error(tmp_path_factory, data):
    folder = tmp_path_factory.mktemp("fuzz")
    evrin.write(folder / "g.xml", evrin.triangulate(np.column_stack((lattice(3), np.arange(9.0)))))
    content = bytearray((folder / "g.xml").read_bytes())
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(content) - 1))
        content[at : at + data.draw(st.integers(0, 40))] = data.draw(st.binary(max_size=4))
    (folder / "g.xml").write_bytes(bytes(content))
    try:
        assert len(evrin.read_surface(folder / "g.xml").triangles) > 0
    except evrin.EvrinError as error:
        assert "g.xml" in str(error) or "vertex" in str(error)


def test_contours_come_back_from_csv_and_geojson(tmp_path):
    lines = sample().contours(0.5)
    for name in ("c.csv", "c.geojson"):
        evrin.write(tmp_path / name, lines)
        back = read(tmp_path / name, How(as_lines=True)).lines
        assert len(back) == len(lines)
        for one, other in zip(lines, back, strict=True):
            assert one.is_closed == other.closed
            assert np.array_equal(one.points[: len(other.xyz)], other.xyz[:, :2])
            assert (other.xyz[:, 2] == one.level).all()
    features = json.loads((tmp_path / "c.geojson").read_text())["features"]
    assert {feature["properties"]["index"] for feature in features} == {True, False}


def test_an_output_that_fails_leaves_the_old_file_and_nothing_else(tmp_path):
    target = tmp_path / "ground.xml"
    target.write_text("the old one")
    with pytest.raises(RuntimeError), files.whole_text_file(target) as stream:
        stream.write("half of the new")
        raise RuntimeError
    assert target.read_text() == "the old one"
    assert list(tmp_path.iterdir()) == [target]


def test_outputs_nobody_can_write_are_refused(tmp_path):
    ground = sample()
    for path, output in (
        (tmp_path / "no" / "g.xml", "no folder"),
        (tmp_path / "g.qqq", "no surface format is known by '.qqq'"),
        ("/proc/g.xml", "cannot be written"),
    ):
        with pytest.raises(DataError, match=output):
            evrin.write(path, ground)
    with pytest.raises(DataError, match=r"no contours format is known by '\.xml'"):
        evrin.write(tmp_path / "c.xml", ground.contours(1.0))
    (tmp_path / "folder.xml").mkdir()
    with pytest.raises(DataError, match="this is a folder"):
        evrin.write(tmp_path / "folder.xml", ground)


def test_an_unknown_surface_file_lists_the_known_ones(tmp_path):
    (tmp_path / "g.dat").write_text("hello")
    with pytest.raises(DataError, match="no header row that names the columns"):
        evrin.read_surface(tmp_path / "g.dat")
    (tmp_path / "g.qqq").write_text("hello")
    with pytest.raises(DataError, match=r"unrecognised format; supported: .*LandXML \(\.xml"):
        evrin.read_surface(tmp_path / "g.qqq")
