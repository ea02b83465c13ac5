"""Meshes of other kinds come in as one surface or ask; and lines, descriptions and hidden faces travel."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage

import evrin
from evrin import DataError, Recipe, SourceLine, Surface
from evrin.formats import look, read
from evrin.recipe.document.draft import draft
from evrin.surface.components import only
from evrin.surface.line_edges import chains
from evrin.surface.validity.covering_sheets import covered, sheet_of
from evrin.survey import inventory
from evrin.survey.cloud.openings import opened
from sites import lay_out

RNG = np.random.default_rng(6)
XY = np.vstack(([(0, 0), (50, 0), (50, 40), (0, 40)], RNG.uniform((0, 0), (50, 40), (200, 2))))
GROUND = evrin.triangulate(np.column_stack((XY, 40 + 0.1 * XY[:, 0] + np.sin(XY[:, 1] / 5))).round(3), name="ground")
VERTICES, FACES = GROUND.vertices, GROUND.triangles
COUNT = len(VERTICES)
(RIM,) = GROUND.rim()
NEXT = np.roll(RIM, -1)
WALLS = np.vstack((np.column_stack((RIM, RIM + COUNT, NEXT)), np.column_stack((NEXT, RIM + COUNT, NEXT + COUNT))))
FLOOR = VERTICES * (1, 1, 0) + (0, 0, 30)


def obj(path, vertices, *parts, encoding="utf-8"):
    rows = [f"v {x!r} {y!r} {z!r}" for x, y, z in vertices.tolist()]
    for head, faces in parts:
        rows += [*head, *(f"f {a} {b} {c}" for a, b, c in (faces + 1).tolist())]
    path.write_bytes("\n".join([*rows, ""]).encode(encoding))
    return path


def is_ground(surface):
    return {tuple(v) for v in surface.vertices.tolist()} == {
        tuple(v) for v in VERTICES.tolist()
    } and surface.plan_area == pytest.approx(GROUND.plan_area)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "latin-1"])
def test_an_obj_in_another_encoding_keeps_its_name(tmp_path, encoding):
    path = obj(tmp_path / "a.obj", VERTICES, (["o Böschung"], FACES), encoding=encoding)
    assert is_ground(evrin.read_surface(path)) and evrin.read_surface(path).name == "Böschung"


@pytest.mark.parametrize("word", ["o", "g", "usemtl"])
def test_parts_of_an_obj_can_be_chosen_by_name(tmp_path, word):
    path = obj(tmp_path / "a.obj", VERTICES, ([f"{word} east"], FACES[:90]), ([f"{word} west"], FACES[90:]))
    assert [(s.name, len(s.triangles)) for s in read(path).surfaces] == [("east", 90), ("west", len(FACES) - 90)]
    with pytest.raises(DataError, match="choose one with --name"):
        evrin.read_surface(path)
    assert len(evrin.read_surface(path, "west").triangles) == len(FACES) - 90


def test_heights_along_the_second_axis_are_noticed_and_turned_on_request(tmp_path):
    path = obj(tmp_path / "a.obj", VERTICES[:, [0, 2, 1]] * (1, 1, -1), ([], FACES))
    assert "look along the second axis" in " ".join(inventory(look(path)).looks_wrong)
    with pytest.raises(DataError, match="up=y"):
        evrin.read_surface(path)
    assert is_ground(evrin.read_surface(path, up="y"))
    base = '[[source]]\nfile = "a.obj"\nrole = "surface"\n'
    assert "y-up" in [f.code for f in Recipe.read(lay_out(tmp_path, base=base)).build().open_findings]
    assert is_ground(Recipe.read(lay_out(tmp_path, base=base + 'up = "y"\n')).build().surface)


@pytest.mark.parametrize(
    ("faces", "which", "wanted"),
    [
        (np.vstack((FACES, FACES[:, ::-1] + COUNT, WALLS)), "top", VERTICES),
        (np.vstack((FACES, FACES[:, ::-1] + COUNT, WALLS)), "bottom", FLOOR),
        (np.vstack((FACES, FACES[40:90] + COUNT)), "top", VERTICES),
    ],
)
@pytest.mark.parametrize("suffix", [".obj", ".dxf"])
def test_closed_and_many_sheeted_meshes_give_the_sheet_asked_for(tmp_path, faces, which, wanted, suffix):
    path = tmp_path / f"a{suffix}"
    if suffix == ".obj":
        obj(path, np.vstack((VERTICES, FLOOR)), ([], faces))
    else:
        evrin.write(path, Surface.from_arrays(np.vstack((VERTICES, FLOOR)), faces))
    assert "covers places more than once" in " ".join(inventory(look(path)).looks_wrong)
    with pytest.raises(DataError, match=r'covers places more than once.*sheet = "top" or "bottom"'):
        evrin.read_surface(path)
    sheet = evrin.read_surface(path, sheet=which)
    assert sheet.plan_area == pytest.approx(GROUND.plan_area) and {tuple(v) for v in sheet.vertices.tolist()} == {
        tuple(v) for v in wanted.tolist()
    }


def test_a_skirt_is_left_out_by_itself(tmp_path):
    path = obj(tmp_path / "a.obj", np.vstack((VERTICES, FLOOR)), ([], np.vstack((FACES, WALLS))))
    assert is_ground(evrin.read_surface(path))


@given(st.integers(0, 999), st.integers(1, 12))
def test_a_sheet_covers_each_place_once(seed, count):
    rng = np.random.default_rng(seed)
    corners = rng.integers(0, 6, (count, 3, 2)).astype(float)
    heights = np.repeat(np.arange(count, dtype=float), 3)
    mesh = Surface.from_arrays(np.column_stack((corners.reshape(-1, 2), heights)), np.arange(3 * count).reshape(-1, 3))
    for which in ("top", "bottom"):
        has_above, has_below = covered(sheet_of(mesh, which))
        assert not has_above.any() and not has_below.any()


@given(st.integers(0, 999), st.integers(1, 9), st.integers(1, 9), st.integers(1, 6))
def test_an_opening_with_an_octagon_is_that_of_its_four_lines(seed, rows, columns, radius):
    grid = np.random.default_rng(seed).normal(size=(rows, columns))
    diagonal = round(0.293 * radius)
    straight, want = radius - 2 * diagonal, grid
    for act, outside in ((ndimage.minimum_filter, np.inf), (ndimage.maximum_filter, -np.inf)):
        for down, right, half in ((0, 1, straight), (1, 0, straight), (1, 1, diagonal), (1, -1, diagonal)):
            around = np.zeros((2 * half + 1,) * 2, bool)
            for k in range(-half, half + 1):
                around[half + k * down, half + k * right] = True
            want = act(want, footprint=around, mode="constant", cval=outside)
    assert np.array_equal(opened(grid, radius), want)


def with_lines():
    """The ground with a breakline along its edges, described, its vertices traced, and a hidden face."""
    chain = [int(FACES[0, 0])]
    while len(chain) < 5:
        beside = GROUND.edges[(GROUND.edges == chain[-1]).any(axis=1)].ravel()
        chain.append(next(int(v) for v in beside if v not in chain))
    return chain, SourceLine("top", VERTICES[chain], description="top of bank, Ufer")


LANDXML = """<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2">
<Units><Metric linearUnit="meter" elevationUnit="feet"/></Units><CoordinateSystem epsgCode="25832"/>
<CgPoints name="control"><CgPoint name="C1" code="CTRL" desc="bolt">2800 4000 136</CgPoint></CgPoints>
<CgPoints name="shots"><CgPoint name="7" desc="lawn">2801 4001 137</CgPoint></CgPoints><Surfaces>
<Surface name="bed" desc="river bed"><SourceData><Breaklines><Breakline name="toe" desc="toe of wall">
<PntList3D>2800 4000 131 2800 4010 132</PntList3D></Breakline></Breaklines><Contours><Contour elev="131.5">
<PntList2D>2801 4001 2802 4003</PntList2D></Contour></Contours></SourceData><Definition surfType="grid"><Pnts>
<P id="1" name="11" code="BED" desc="gravel">2800 4000 131</P><P id="2">2800 4010 132</P><P id="3">2810 4010 133</P>
<P id="4">2810 4000 132</P><P id="5">2820 4010 134</P></Pnts>
<Faces><F>1 2 3 4</F><F>4 3 99</F><F i="1">4 3 5</F></Faces>
</Definition></Surface><Surface name="bed"><Definition surfType="TIN"><Pnts><P id="1">0 0 1</P><P id="2">0 9 1</P>
<P id="3">9 9 1</P></Pnts><Faces><F>1 2 3</F></Faces></Definition></Surface></Surfaces></LandXML>"""


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16"])
def test_landxml_as_others_write_it(tmp_path, encoding):
    head = f'<?xml version="1.0" encoding="{encoding}"?>\n'
    (tmp_path / "a.xml").write_bytes((head + LANDXML).encode(encoding))
    contents = read(tmp_path / "a.xml")
    assert (contents.stated.units, contents.stated.height_units, contents.stated.crs) == ("m", "ft", "EPSG:25832")
    assert contents.points.column("layer").tolist() == ["control", "shots"]
    assert contents.points.shots.codes.tolist() == ["CTRL", "lawn"] and contents.points.shots.descriptions.tolist() == [
        "bolt",
        "",
    ]
    bed, other = contents.surfaces
    assert (bed.name, other.name, len(bed.triangles), bed.hidden.tolist()) == ("bed", "bed 2", 2, [[3, 2, 4]])
    (refusal,) = contents.refused
    assert "names a point that is not there, such as point '99'" in refusal.reason and refusal.count == 1
    assert bed.lines[0].description == "toe of wall" and (bed.edge_lines >= 0).sum() == 1
    assert str(bed.provenance.describe(0)).startswith("shot 11, code BED, gravel")
    assert {line.facts["kind"] for line in contents.lines} == {"breakline", "contour"}
    assert evrin.read_surface(tmp_path / "a.xml", "bed").vertices[0, 2] == pytest.approx(131 * 0.3048)


@pytest.mark.parametrize("suffix", [".xml", ".gpkg"])
def test_a_surface_that_is_read_again_keeps_its_breaklines_system_and_description(tmp_path, suffix):
    chain, line = with_lines()
    given = GROUND.renamed(crs="EPSG:25832", description="as surveyed").with_lines((line,))
    evrin.write(tmp_path / f"a{suffix}", given)
    evrin.write(tmp_path / f"b{suffix}", evrin.read_surface(tmp_path / f"a{suffix}"))
    back = evrin.read_surface(tmp_path / f"b{suffix}")
    assert (back.crs, back.description) == ("EPSG:25832", "as surveyed")
    (kept,) = [each for each in back.lines if not each.is_ring]
    assert kept.description == line.description and np.array_equal(kept.points, line.points)
    assert (back.edge_lines >= 0).sum() in (2 * len(chain) - 2, 2 * len(chain) - 3, 2 * len(chain) - 4)
    base = f'[site]\ncrs = "EPSG:25832"\n[[source]]\nfile = "b{suffix}"\nrole = "surface"\n'
    build = Recipe.read(lay_out(tmp_path, base=base)).build()
    (built,) = build.surface.lines
    assert (built.name, built.description) == ("top", line.description) and np.array_equal(built.points, line.points)
    assert np.array_equal(np.sort(build.surface.triangle_areas), np.sort(GROUND.triangle_areas))
    frozen = build.freeze(tmp_path / "frozen")
    again = Recipe.read(frozen[2]).build().surface
    assert [each.description for each in again.lines] == [line.description]


def test_hidden_faces_travel_through_build_freeze_and_convert(tmp_path):
    (tmp_path / "a.xml").write_text(LANDXML.replace("4 3 5</F>", "4 3 2</F>"))
    base = '[site]\ncrs = "EPSG:25832"\n[[source]]\nfile = "a.xml"\nrole = "surface"\nkeep = { names = ["bed"] }\n'
    build = Recipe.read(lay_out(tmp_path, base=base)).build()
    assert len(build.surface.hidden) == 1 and len(build.surface.triangles) == 2
    frozen = build.freeze(tmp_path / "frozen")
    again = read(frozen[0]).surfaces[0]
    assert len(again.hidden) == 1 and str(again.provenance.describe(0)).count("gravel") == 1
    origin = Recipe.read(frozen[2]).build().surface.provenance
    assert "gravel" in " ".join(str(origin.describe(vertex)) for vertex in range(4))
    evrin.write(tmp_path / "b.xml", evrin.read_surface(tmp_path / "a.xml", "bed"))
    assert len(evrin.read_surface(tmp_path / "b.xml").hidden) == 1
    assert len(only(build.surface, np.array([True, False])).hidden) == 0


def test_contours_of_landxml_are_drafted_as_contours(tmp_path):
    lines = "".join(
        f'<Contour elev="{41 + k}"><PntList2D>{2800 + 9 * k} 4000 {2803 + 9 * k} 4030 {2800 + 9 * k} 4060</PntList2D>'
        "</Contour>"
        for k in range(3)
    )
    head = '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Surfaces><Surface name="a">'
    text = f"{head}<SourceData><Contours>{lines}</Contours></SourceData></Surface></Surfaces></LandXML>"
    (tmp_path / "a.xml").write_text(text)
    made = draft([tmp_path / "a.xml"], tmp_path / "site.toml")
    assert 'role = "contours"' in made.text
    (tmp_path / "site.toml").write_text(made.text)
    assert float(Recipe.read(tmp_path / "site.toml").build().surface.height(4030, 2812)) == pytest.approx(42.0)


def test_a_line_that_leaves_the_edges_is_followed_only_where_it_runs_along_them():
    chain, line = with_lines()
    away = SourceLine("away", np.vstack((line.points, [[500.0, 500.0, 1.0]])))
    corners = [np.flatnonzero((VERTICES[:, :2] == place).all(axis=1))[0] for place in ((0, 0), (50, 40))]
    across = SourceLine("across", VERTICES[corners])
    assert [[part.tolist() for part in parts] for parts in chains(GROUND, [line, away, across])] == [
        [chain],
        [chain],
        [],
    ]
