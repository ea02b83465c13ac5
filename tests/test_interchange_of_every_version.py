"""LandXML as other offices write it: versions, names, units, source data, plan features and alignments."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin.base.errors import DataError
from evrin.formats import How, read
from evrin.recipe import Recipe

SPACES = {
    "1.0": "http://www.landxml.org/schema/LandXML-1.0",
    "1.1": "http://www.landxml.org/schema/LandXML-1.1",
    "1.2": "http://www.landxml.org/schema/LandXML-1.2",
    "2.0": "http://www.landxml.org/schema/LandXML-2.0",
}
METRES = '<Units><Metric linearUnit="meter"/></Units>'
PLACES = ["0 0 1", "0 9 1", "9 9 2", "9 0 2"]
FACES = "<Faces><F>{0} {1} {2}</F><F>{0} {2} {3}</F></Faces>"


def document(body, version="1.2", head=METRES, prefix=""):
    text = f'<LandXML xmlns="{SPACES[version]}" version="{version}">{head}{body}</LandXML>'
    if prefix:
        text = text.replace("</", "\0").replace("<", f"<{prefix}:").replace("\0", f"</{prefix}:")
        text = text.replace("xmlns=", f"xmlns:{prefix}=")
    return '<?xml version="1.0"?>\n' + text


def surface(names, name="ground", extra="", faces=FACES):
    points = "".join(f'<P id="{n}">{p}</P>' if n else f"<P>{p}</P>" for n, p in zip(names, PLACES, strict=True))
    named = [n or str(k) for k, n in enumerate(names, 1)]
    held = faces.format(*named)
    return (
        f'<Surface name="{name}">{extra}<Definition surfType="TIN"><Pnts>{points}</Pnts>{held}</Definition></Surface>'
    )


def written(tmp_path, body, **how):
    (tmp_path / "x.xml").write_text(document(body, **how), encoding="utf-8")
    return tmp_path / "x.xml"


@pytest.mark.parametrize("version", SPACES)
@pytest.mark.parametrize("prefix", ["", "lx"])
@pytest.mark.parametrize(
    "names", [["1", "2", "3", "4"], ["4", "7", "2", "5"], ["", "", "", ""], ["a", "b", "007", "7"]]
)
def test_every_version_prefix_and_way_of_naming_points_gives_the_same_surface(tmp_path, version, prefix, names):
    path = written(tmp_path, f"<Surfaces>{surface(names)}</Surfaces>", version=version, prefix=prefix)
    ground = evrin.read_surface(path)
    assert ground.vertices.tolist() == [[0, 0, 1], [9, 0, 1], [9, 9, 2], [0, 9, 2]]
    assert ground.triangles.tolist() == [[0, 1, 2], [0, 2, 3]]
    assert read(path).form == f"LandXML {version}"


def test_hidden_faces_are_left_out_and_four_cornered_ones_cut_in_two(tmp_path):
    faces = '<Faces><F i="1">1 2 3</F><F n="0 0 0">1 3 4</F></Faces>'
    ground = evrin.read_surface(written(tmp_path, f"<Surfaces>{surface([''] * 4, faces=faces)}</Surfaces>"))
    assert ground.triangles.tolist() == [[0, 2, 3]]
    square = "<Faces><F>1 2 3 4</F></Faces>"
    ground = evrin.read_surface(written(tmp_path, f"<Surfaces>{surface([''] * 4, faces=square)}</Surfaces>"))
    assert ground.triangles.tolist() == [[0, 1, 2], [0, 2, 3]]


def test_one_of_several_surfaces_is_picked_by_name(tmp_path):
    body = f"<Surfaces>{surface([''] * 4, 'old')}{surface([''] * 4, 'new')}</Surfaces>"
    path = written(tmp_path, body)
    with pytest.raises(DataError, match="choose one with --name, or name= in Python: old, new"):
        evrin.read_surface(path)
    assert evrin.read_surface(path, "new").name == "new"
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "x.xml"\nrole = "surface"\nkeep = { names = ["new"] }\n')
    assert len(Recipe.read(tmp_path / "site.toml").build().surface.triangles) == 2


@pytest.mark.parametrize(
    ("unit", "kind", "units", "factor"),
    [
        ("meter", "Metric", "m", 1.0),
        ("millimeter", "Metric", "m", 0.001),
        ("foot", "Imperial", "ft", 1.0),
        ("USSurveyFoot", "Imperial", "ftUS", 1.0),
        ("inch", "Imperial", "ft", 1.0 / 12.0),
    ],
)
def test_units_are_read_and_converted_to_the_sites(tmp_path, unit, kind, units, factor):
    head = f'<Units><{kind} linearUnit="{unit}"/></Units>'
    points = '<CgPoints><CgPoint name="7" code="NAIL">10 20 30</CgPoint></CgPoints>'
    path = written(tmp_path, f"{points}<Surfaces>{surface([''] * 4)}</Surfaces>", head=head)
    contents = read(path)
    assert contents.stated.units == units and contents.surfaces[0].units == units
    assert contents.surfaces[0].extent == pytest.approx((0, 0, 9 * factor, 9 * factor))
    assert contents.points.xyz[0] == pytest.approx(np.array([20, 10, 30]) * factor)
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "x.xml"\nrole = "surface"\n')
    build = Recipe.read(tmp_path / "site.toml").build()
    metres = {"m": 1.0, "ft": 0.3048, "ftUS": 1200 / 3937}[units]
    assert build.surface.units == "m" and build.surface.extent[2] == pytest.approx(9 * factor * metres)


def test_points_source_data_features_and_alignments_come_along(tmp_path):
    source = """<SourceData>
      <Boundaries><Boundary bndType="outer" name="limit">
        <PntList2D>0 0 0 9 9 9 9 0 0 0</PntList2D></Boundary></Boundaries>
      <Breaklines><Breakline name="bank"><PntList3D>1 1 5 2 8 6</PntList3D></Breakline></Breaklines>
      <Contours><Contour elev="42.5"><PntList2D>3 1 3 8</PntList2D></Contour></Contours>
      <DataPoints code="SPOT"><PntList3D>4 4 41 5 5 42</PntList3D></DataPoints></SourceData>"""
    body = f"""<CoordinateSystem epsgCode="25832"/>
      <CgPoints><CgPoint name="1" code="NAIL">10 20 30</CgPoint><CgPoint name="2" desc="PEG">10 30</CgPoint></CgPoints>
      <Surfaces>{surface([""] * 4, extra=source)}</Surfaces>
      <PlanFeatures><PlanFeature name="kerb"><CoordGeom>
        <Line><Start pntRef="1"/><End>10 30</End></Line>
        <Curve rot="ccw"><Start>10 30</Start><Center>20 30</Center><End>20 40</End></Curve>
        <IrregularLine><Start>20 40</Start><End>40 40</End><PntList2D>25 41 30 39</PntList2D></IrregularLine>
      </CoordGeom></PlanFeature></PlanFeatures>
      <Alignments><Alignment name="CL" length="30"><CoordGeom>
        <Line><Start>0 0</Start><End>0 30</End></Line></CoordGeom></Alignment></Alignments>"""
    contents = read(written(tmp_path, body), How(chord=0.01))
    assert contents.stated.crs == "EPSG:25832"
    assert contents.points.shots.codes.tolist() == ["NAIL", "PEG", "SPOT", "SPOT"]
    assert contents.points.xyz[0].tolist() == [20, 10, 30] and np.isnan(contents.points.xyz[1, 2])
    lines = {line.facts["kind"]: line for line in contents.lines}
    assert lines["boundary"].closed and lines["boundary"].name == "limit" and len(lines["boundary"].xyz) == 4
    assert lines["breakline"].xyz.tolist() == [[1, 1, 5], [8, 2, 6]]
    assert lines["contour"].xyz.tolist() == [[1, 3, 42.5], [8, 3, 42.5]]
    assert lines["alignment"].name == "CL" and lines["alignment"].xyz[:, :2].tolist() == [[0, 0], [30, 0]]
    kerb = lines["plan feature"].xyz
    assert kerb[0].tolist() == [20, 10, 30] and kerb[-1, :2].tolist() == [40, 40]
    bend = kerb[(kerb[:, 0] > 30.0) & (kerb[:, 1] < 20.0)]
    assert np.allclose(np.hypot(bend[:, 0] - 30, bend[:, 1] - 20), 10.0) and len(bend) > 5
    assert [line.effect for line in contents.surfaces[0].lines] == ["breakline", "breakline", "keep"]


def test_source_data_alone_builds_a_surface(tmp_path):
    source = """<Surface name="bare"><SourceData>
      <DataPoints><PntList3D>0 0 41 0 30 41 30 30 42 30 0 42</PntList3D></DataPoints>
      <Breaklines><Breakline name="bank"><PntList3D>15 5 44 15 25 44</PntList3D></Breakline></Breaklines>
      <Boundaries><Boundary bndType="outer" name="l"><PntList2D>0 0 0 30 30 30 0 0</PntList2D></Boundary></Boundaries>
      </SourceData></Surface>"""
    written(tmp_path, f"<Surfaces>{source}</Surfaces>")
    table = '[[source]]\nfile = "x.xml"\nrole = "{}"\n'
    ring = '[[boundary]]\nfile = "x.xml"\neffect = "keep"\nkeep = { kinds = ["boundary"] }\n'
    (tmp_path / "site.toml").write_text(table.format("points") + table.format("breaklines") + ring)
    build = Recipe.read(tmp_path / "site.toml").build()
    assert build.surface.height(20.0, 15.0) == 44.0 and np.isnan(build.surface.height(5.0, 25.0))
    assert build.surface.plan_area == 450.0


@pytest.mark.parametrize(
    ("body", "output"),
    [
        (f"<Surfaces>{surface(['1', '2', '3', '4'], faces='<Faces><F>1 2 9</F></Faces>')}</Surfaces>", "point '9'"),
        (f"<Surfaces>{surface(['a', 'b', 'c', 'd'], faces='<Faces><F>a b 1</F></Faces>')}</Surfaces>", "point '1'"),
        (f"<Surfaces>{surface([''] * 4, faces='<Faces><F>0 1 2</F></Faces>')}</Surfaces>", "point '0'"),
        ('<CgPoints><CgPoint name="1">1 2 1e999</CgPoint></CgPoints>', "not finite"),
        ('<CgPoints><CgPoint name="1">1</CgPoint></CgPoints>', "3 numbers expected, 1 found"),
        ("<Pnts><P>1 2 3</P></Pnts>", "outside any surface"),
        (
            '<PlanFeature><CoordGeom><Line><Start pntRef="9"/><End>1 1</End></Line></CoordGeom></PlanFeature>',
            "point '9'",
        ),
        ("<Surfaces><Surface><SourceData><Breakline/></SourceData></Surface></Surfaces>", "a breakline without points"),
        ("<Other/>", "no surface, no point and no line"),
    ],
)
def test_what_does_not_hold_together_is_refused_with_its_place(tmp_path, body, output):
    with pytest.raises(DataError, match=output) as caught:
        read(written(tmp_path, body))
    assert "x.xml" in str(caught.value)


@given(st.integers(3, 2000), st.integers(1, 400), st.integers(0, 99))
def test_blocks_of_points_and_faces_join_up(tmp_path_factory, count, block, seed):
    """However the stream is cut into blocks, each face finds its points."""
    import evrin.formats.surfaces.landxml_parts as parts

    rng = np.random.default_rng(seed)
    places = np.column_stack((np.arange(count), rng.integers(0, 50, count), rng.integers(40, 45, count)))
    corners = rng.integers(0, count, (30, 3))
    text = "".join(f"<P>{n} {e} {z}</P>" for e, n, z in places.tolist())
    faces = "".join(f"<F>{a + 1} {b + 1} {c + 1}</F>" for a, b, c in corners.tolist())
    body = f"<Surfaces><Surface><Definition><Pnts>{text}</Pnts><Faces>{faces}</Faces></Definition></Surface></Surfaces>"
    path = written(tmp_path_factory.mktemp("blocks"), body)
    before, parts._BLOCK = parts._BLOCK, block
    try:
        ground = read(path).surfaces[0]
    finally:
        parts._BLOCK = before
    assert ground.vertices.tolist() == places.tolist()
    assert np.sort(ground.triangles, axis=1).tolist() == np.sort(corners, axis=1).tolist()
