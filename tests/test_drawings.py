"""Drawings as they come: every kind of entity, layers that are off, heights in texts and attributes."""

import ezdxf
import numpy as np
import pytest
from ezdxf.render import MeshBuilder
from hypothesis import given, settings
from hypothesis import strategies as st

from evrin.base.errors import DataError, RecipeError
from evrin.formats import How, read
from evrin.recipe import Recipe
from evrin.survey.contents import BLOCK, POINT, TEXT
from evrin.survey.curves import arc_by_three, arc_through, smooth_through
from evrin.survey.heights import heights_in, pair_with_texts

SPOTS = [(0.0, 0.0, 41.0), (20.0, 0.0, 41.5), (20.0, 20.0, 42.0), (0.0, 20.0, 0.0), (10.0, 10.0, 41.7)]


@pytest.fixture
def drawing(tmp_path):
    """A new drawing, its space, and how to read it back."""
    document = ezdxf.new("R2010")

    def back(**how):
        document.saveas(tmp_path / "d.dxf")
        return read(tmp_path / "d.dxf", How(**how))

    return document, document.modelspace(), back


def recipe(tmp_path, *tables):
    (tmp_path / "site.toml").write_text("\n".join(tables), encoding="utf-8")
    return Recipe.read(tmp_path / "site.toml")


def source(role, **keys):
    rows = [f"{key} = {value}" for key, value in keys.items()]
    return "\n".join(["[[source]]", 'file = "d.dxf"', f'role = "{role}"', *rows])


def balanced(build):
    columns = [name for name in build.tally.columns if name not in ("source", "read")]
    return (build.tally[columns].sum(axis=1) == build.tally["read"]).all()


def test_points_blocks_and_texts_keep_layer_kind_and_attributes(drawing):
    document, space, back = drawing
    block = document.blocks.new("SPOT")
    block.add_attdef("HEIGHT", (0, 0))
    space.add_point((1, 2, 3), dxfattribs={"layer": "P"})
    space.add_blockref("SPOT", (4, 5, 0), dxfattribs={"layer": "B"}).add_auto_attribs({"HEIGHT": "41,25"})
    space.add_text("42.50", dxfattribs={"layer": "T"}).set_placement((7, 8, 9))
    space.add_mtext("{\\fArial;43.75}", dxfattribs={"layer": "T", "insert": (1, 1)})
    space.add_text("mirrored", dxfattribs={"extrusion": (0, 0, -1)}).set_placement((5, 6))
    points = back().points
    assert points.column("kind").tolist() == [POINT, BLOCK, TEXT, TEXT, TEXT]
    assert points.column("layer").tolist() == ["P", "B", "T", "T", "0"]
    assert points.xyz[:3].tolist() == [[1, 2, 3], [4, 5, 0], [7, 8, 9]]
    assert points.xyz[4, 0] == -5.0  # drawn from below
    assert points.column("HEIGHT")[1] == "41,25" and points.shots.codes[1] == "SPOT"
    assert heights_in(points.column("text"))[2:4].tolist() == [42.5, 43.75]
    handle = points.shots.describe(0).rsplit(" ", 1)[1]
    assert document.entitydb[handle].dxf.location == (1, 2, 3)


def test_lines_polylines_and_curves_come_with_their_heights_and_within_the_chord(drawing):
    _, space, back = drawing
    space.add_line((0, 0, 1), (5, 0, 2), dxfattribs={"layer": "L"})
    space.add_lwpolyline([(0, 0), (4, 0), (4, 4)], close=True, dxfattribs={"layer": "C", "elevation": 42.5})
    space.add_polyline3d([(0, 0, 1), (1, 1, 2), (2, 0, 3)], dxfattribs={"layer": "B"})
    space.add_polyline2d([(0, 0), (9, 0)], dxfattribs={"layer": "B2", "elevation": (0, 0, 40)})
    space.add_lwpolyline([(0, 0, 0, 0, 1.0), (10, 0)], dxfattribs={"layer": "ARC", "elevation": 7.0})
    space.add_arc((0, 0, 3), 10, 0, 90, dxfattribs={"layer": "A"})
    space.add_circle((50, 0, 3), 5, dxfattribs={"layer": "A"})
    space.add_spline([(0, 0, 1), (5, 5, 2), (10, 0, 3)], dxfattribs={"layer": "S"})
    lines = back(chord=0.02).lines
    by_layer = {line.facts["layer"]: line for line in lines}
    assert by_layer["L"].xyz.tolist() == [[0, 0, 1], [5, 0, 2]]
    assert by_layer["C"].closed and (by_layer["C"].xyz[:, 2] == 42.5).all()
    assert by_layer["B"].facts["kind"] == "polyline 3-D" and by_layer["B"].xyz[:, 2].tolist() == [1, 2, 3]
    assert (by_layer["B2"].xyz[:, 2] == 40).all()
    half = by_layer["ARC"].xyz
    assert (
        np.abs(np.hypot(half[:, 0] - 5, half[:, 1]) - 5.0).max() <= 0.02 and (half[:, 2] == 7.0).all() and len(half) > 8
    )
    arc, circle = (line for line in lines if line.facts["layer"] == "A")
    for line, middle, radius in ((arc, (0, 0), 10.0), (circle, (50, 0), 5.0)):
        ends = np.vstack((line.xyz, line.xyz[:1])) if line.closed else line.xyz
        sagitta = radius - np.hypot(*((ends[1:, :2] + ends[:-1, :2]) / 2 - middle).T)
        assert sagitta.max() <= 0.02 and np.allclose(line.xyz[:, 2], 3.0)
    assert circle.closed and not arc.closed
    assert np.allclose(by_layer["S"].xyz[[0, -1]], [[0, 0, 1], [10, 0, 3]])


def test_faces_of_all_kinds_become_one_surface_a_layer(drawing):
    document, space, back = drawing
    space.add_3dface([(0, 0, 1), (4, 0, 1), (4, 4, 2), (4, 4, 2)], dxfattribs={"layer": "G"})
    space.add_3dface([(4, 0, 1), (8, 0, 1), (8, 4, 2), (4, 4, 2)], dxfattribs={"layer": "G"})
    builder = MeshBuilder()
    builder.add_mesh(vertices=[(0, 0, 0), (1, 0, 0), (1, 1, 1), (0, 1, 1)], faces=[(0, 1, 2), (0, 2, 3)])
    builder.render_mesh(space, dxfattribs={"layer": "M"})
    builder.render_polyface(space, dxfattribs={"layer": "PF"})
    space.add_3dface([(0, 0, 1), (4, 0, 1), (0, 0, 1), (4, 0, 1)], dxfattribs={"layer": "DEGENERATE"})
    document.layers.add("G").rgb = (1, 2, 255)
    contents = back()
    assert {s.name: len(s.triangles) for s in contents.surfaces} == {"G": 3, "M": 2, "PF": 2}
    (ground,) = (surface for surface in contents.surfaces if surface.name == "G")
    assert ground.colour == "#0102ff" and len(ground.vertices) == 5
    assert "no face has three different corners" in contents.refused[0].reason


def test_layers_that_are_off_and_what_is_ignored_are_reported(drawing):
    document, space, back = drawing
    document.layers.add("COLD").freeze()
    document.layers.add("DARK").off()
    document.units = 1
    space.add_point((0, 0, 1))
    space.add_hatch()
    document.layout("Layout1").add_point((9, 9, 9))
    contents = back()
    assert set(contents.notes) == {
        *("layer COLD is frozen", "layer DARK is switched off", "1 HATCH ignored"),
        "1 entity in paper space (layouts for printing) ignored",
    }
    assert contents.stated.hinted_units == "in"
    assert len(contents.points) == 1


def test_a_drawing_without_anything_is_refused_and_a_broken_entity_is_reported(drawing, tmp_path):
    _, space, back = drawing
    with pytest.raises(DataError, match="holds nothing"):
        back()
    space.add_point((1, 2, float("nan")))
    space.add_point((1, 2, 1e30))
    space.add_lwpolyline([(1, 1)])
    space.add_point((1, 2, 3))
    contents = back()
    assert len(contents.points) == 1 and [r.reason for r in contents.refused][2] == "a line of 1 vertex"
    text = (tmp_path / "d.dxf").read_bytes()
    (tmp_path / "d.dxf").write_bytes(text[: len(text) * 2 // 3])
    with pytest.raises(DataError, match="cut short"):
        read(tmp_path / "d.dxf")


def test_a_binary_drawing_reads_alike(drawing, tmp_path):
    document, space, back = drawing
    space.add_point((1.5, 2.5, 3.5), dxfattribs={"layer": "P"})
    document.layers.add("COLD").freeze()
    plain = back()
    document.saveas(tmp_path / "b.dxf", fmt="bin")
    binary = read(tmp_path / "b.dxf")
    assert binary.points.xyz.tolist() == plain.points.xyz.tolist() and binary.notes == plain.notes


def spot_drawing(tmp_path, spots=SPOTS, texts=((0, 20, "41.9"), (10, 10, "41.7"), (20, 20, "42.3"), (50, 50, "44.0"))):
    document = ezdxf.new("R2010")
    space = document.modelspace()
    document.blocks.new("SPOT").add_attdef("H", (0, 0))
    for x, y, z in spots:
        space.add_blockref("SPOT", (x, y, z), dxfattribs={"layer": "SPOT"}).add_auto_attribs({"H": f"{z + 1:.2f}"})
    for x, y, text in texts:
        space.add_text(text, dxfattribs={"layer": "NUMBERS"}).set_placement((x + 0.6, y + 0.4))
    document.saveas(tmp_path / "d.dxf")


def test_blocks_at_zero_take_the_numbers_beside_them_and_the_rest_is_reported(tmp_path):
    spot_drawing(tmp_path)
    build = recipe(tmp_path, source("points", heights='"text nearby"')).build()
    assert build.surface.height(0.0, 20.0) == 41.9 and build.surface.height(20.0, 20.0) == 42.0
    codes = sorted(finding.code for finding in build.findings)
    assert codes == ["height-from-text", "text-disagrees", "text-without-point"]
    note = next(finding for finding in build.findings if finding.code == "height-from-text")
    assert "height 41.900 m taken from the text 0.72 m away" in note.message and not note.is_open
    assert balanced(build) and build.tally["left_out"].iloc[0] == 4


def test_a_block_at_zero_without_a_number_is_reported_and_stays(tmp_path):
    spot_drawing(tmp_path, texts=())
    build = recipe(tmp_path, source("points", heights='"text nearby"')).build()
    assert {"height-missing", "zero-height"} <= {finding.code for finding in build.open_findings}
    assert build.surface.height(0.0, 20.0) == 0.0


def test_heights_come_from_attributes_texts_and_levels(tmp_path):
    spot_drawing(tmp_path)
    by_attribute = recipe(tmp_path, source("points", heights='{ attribute = "H" }')).build()
    assert by_attribute.surface.height(0.0, 20.0) == 1.0 and by_attribute.surface.height(20.0, 0.0) == 42.5
    by_text = recipe(tmp_path, source("points", heights='"text"')).build()
    assert len(by_text.surface.vertices) == 4 and by_text.surface.height(50.6, 50.4) == 44.0
    by_level = recipe(tmp_path, source("points", heights="{ level = 43.2 }")).build()
    assert set(by_level.surface.vertices[:, 2]) == {43.2}
    assert all(balanced(build) for build in (by_attribute, by_text, by_level))
    with pytest.raises(DataError, match=r"no attribute 'DEPTH'\. Known here: H, "):
        recipe(tmp_path, source("points", heights='{ attribute = "DEPTH" }')).build()
    with pytest.raises(RecipeError, match="either a level or the name"):
        recipe(tmp_path, source("points", heights="{ }"))


def test_heights_are_raised_stretched_and_set_one_by_one(tmp_path):
    spot_drawing(tmp_path)
    raised = recipe(tmp_path, source("points", raise_by=0.5, scale_heights=2.0)).build()
    assert raised.surface.height(20.0, 0.0) == 83.5
    (tmp_path / "p.csv").write_text("7,0,0,5\n8,0,9,5\n9,9,0,0\n")
    table = '[[source]]\nfile = "p.csv"\nrole = "points"\ncolumns = "PNEZ"\n'
    build = recipe(tmp_path, table + 'set_height = [{ number = "9", to = 5.5, why = "field book" }]').build()
    assert build.surface.height(0.0, 9.0) == 5.5
    by_place = recipe(tmp_path, table + "set_height = [{ at = [0.2, 8.9], to = 6.5 }]").build()
    assert by_place.surface.height(0.0, 9.0) == 6.5
    for named in ('number = "6"', "at = [30.0, 9.0]"):
        missed = recipe(tmp_path, table + f"set_height = [{{ {named}, to = 5.5 }}]").build()
        assert [f.code for f in missed.open_findings if "was not applied: it names" in f.message] == [
            "set-height-unmet"
        ]


def test_units_of_a_drawing_are_not_trusted_but_reported(tmp_path):
    spot_drawing(tmp_path)
    document = ezdxf.readfile(tmp_path / "d.dxf")
    document.units = 2
    document.saveas(tmp_path / "d.dxf")
    build = recipe(tmp_path, source("points")).build()
    assert build.surface.extent == (0.0, 0.0, 20.0, 20.0)
    assert "units-differ" in {finding.code for finding in build.open_findings}
    converted = recipe(tmp_path, source("points", units='"ft"')).build()
    assert converted.surface.extent[2] == pytest.approx(6.096) and "units-differ" not in {
        finding.code for finding in converted.findings
    }
    assert converted.surface.height(6.096, 0.0) == pytest.approx(41.5 * 0.3048)


def test_lines_of_a_drawing_play_their_parts(tmp_path):
    document = ezdxf.new("R2010")
    space = document.modelspace()
    for x, y, z in [(0, 0, 40), (30, 0, 40), (30, 30, 42), (0, 30, 42)]:
        space.add_point((x, y, z), dxfattribs={"layer": "P"})
    space.add_polyline3d([(5, 5, 40.2), (25, 5, 40.4)], dxfattribs={"layer": "BANK"})
    space.add_lwpolyline([(5, 15), (25, 15)], dxfattribs={"layer": "FENCE"})
    space.add_lwpolyline([(4, 24), (26, 24)], dxfattribs={"layer": "CONTOUR", "elevation": 41.5})
    document.saveas(tmp_path / "d.dxf")
    tables = [
        source("points", name='"spots"'),
        source("breaklines", name='"bank"', keep='{ layers = ["BANK"] }'),
        source("breaklines", name='"fence"', keep='{ layers = ["FENCE"] }', heights='"surface"'),
        source("contours", name='"contour"', keep='{ layers = ["CONTOUR"] }'),
    ]
    build = recipe(tmp_path, *tables).build()
    assert build.surface.height(15.0, 5.0) == pytest.approx(40.3) and build.surface.height(15.0, 24.0) == 41.5
    assert build.surface.edge_lines.max() == 2 and balanced(build)
    flat = recipe(tmp_path, tables[0], source("breaklines", keep='{ layers = ["FENCE"] }')).build()
    assert flat.surface.height(15.0, 15.0) == 0.0
    vertices = recipe(
        tmp_path, source("points", keep='{ kinds = ["vertex", "point"], layers = ["BANK", "P"] }')
    ).build()
    assert len(vertices.surface.vertices) == 6 and balanced(vertices)


@given(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 30)), min_size=1, max_size=12, unique=True), st.data())
def test_pairs_are_one_to_one_within_reach_and_no_closer_pair_is_left_alone(places, data):
    points = np.array(places, float)
    texts = points[data.draw(st.permutations(range(len(points))))][: data.draw(st.integers(0, len(points)))] + 0.4
    pairs = pair_with_texts(points, texts.reshape(-1, 2), 2.0)
    assert len(set(pairs.points.tolist())) == len(pairs.points) == len(set(pairs.texts.tolist()))
    away = np.hypot(*(points[pairs.points] - texts[pairs.texts]).T) if len(pairs.points) else np.empty(0)
    assert (away <= 2.0).all()
    assert sorted([*pairs.points, *pairs.lone_points]) == list(range(len(points)))
    assert sorted([*pairs.texts, *pairs.lone_texts]) == list(range(len(texts)))
    for row in pairs.lone_points:
        assert all(np.hypot(*(points[row] - texts[text])) > 2.0 for text in pairs.lone_texts)


@settings(max_examples=40)
@given(st.floats(0.5, 500.0), st.floats(0.0, 6.28), st.floats(0.05, 6.2), st.booleans(), st.floats(0.001, 0.5))
def test_arcs_lie_on_their_circle_and_stray_no_more_than_asked(radius, first, turn, clockwise, chord):
    sign = -1.0 if clockwise else 1.0
    centre = np.array([652345.678, 5123456.789])
    angle = first + sign * turn * np.array([0.0, 0.5, 1.0])
    ends = np.column_stack((centre + radius * np.column_stack((np.cos(angle), np.sin(angle))), [40.0, 41.0, 42.0]))
    for arc in (arc_through(ends[0], ends[2], centre, clockwise, chord), arc_by_three(*ends, chord)):
        assert arc[0].tolist() == ends[0].tolist() and arc[-1].tolist() == ends[2].tolist()
        if len(arc) > 3:
            assert np.allclose(np.hypot(*(arc[:, :2] - centre).T), radius, rtol=1e-6)
        middles = (arc[1:, :2] + arc[:-1, :2]) / 2.0
        if radius * (1 - np.cos(turn / 2)) > 1e-6:
            assert (radius - np.hypot(*(middles - centre).T)).max() <= chord + 1e-6 * radius
        assert (np.diff(arc[:, 2]) >= -1e-9).all()


def test_a_smooth_curve_passes_its_shots_and_straight_ones_stay_straight():
    shots = np.array([[0.0, 0, 1], [5, 3, 2], [10, 0, 3], [15, -3, 2]])
    curve = smooth_through(shots, 0.01)
    assert {tuple(row) for row in shots.tolist()} <= {tuple(row) for row in curve.tolist()} and len(curve) > 12
    steps = np.diff(curve[:, :2], axis=0)
    turns = np.abs(np.diff(np.unwrap(np.arctan2(steps[:, 1], steps[:, 0]))))
    assert turns.max() < 0.35
    straight = np.array([[0.0, 0, 1], [5, 0, 2], [10, 0, 3]])
    assert smooth_through(straight, 0.01).tolist() == straight.tolist()
    assert arc_by_three(*straight, 0.01).tolist() == straight.tolist()
