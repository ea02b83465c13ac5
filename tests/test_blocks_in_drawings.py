"""What blocks hold is taken where they are inserted; the same drawing exploded gives the same things."""

import ezdxf
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from evrin import DataError, Recipe
from evrin.formats import read
from evrin.recipe.document.draft import draft

SCALES = st.sampled_from([(1, 1, 1), (2, 2, 1), (-1, 1, 1), (0.5, 0.5, 2), (1, 3, 1)])
INSERTS = st.lists(
    st.tuples(
        st.sampled_from(["AREA", "NEST"]), st.integers(0, 900), st.integers(-180, 180), SCALES, st.integers(1, 3)
    ),
    min_size=1,
    max_size=4,
)


def held(document):
    area = document.blocks.new("AREA")
    for k in range(6):
        area.add_point((3 * k, 2 * k, 40 + k * 0.1), dxfattribs={"layer": "0" if k % 2 else "SPOT"})
    area.add_polyline3d([(0, 0, 40), (5, 5, 41), (9, 3, 40.5)], dxfattribs={"layer": "BANK"})
    area.add_3dface([(0, 0, 1), (4, 0, 1), (4, 4, 2), (4, 4, 2)])
    area.add_text("41.20").set_placement((1, 1))
    nest = document.blocks.new("NEST")
    nest.add_blockref("AREA", (10, 10, 1), {"rotation": 30, "xscale": 2, "yscale": 2})
    nest.add_line((0, 0, 1), (30, 0, 2), {"layer": "BANK"})


def inserted(inserts, *, exploded):
    document = ezdxf.new("R2010")
    held(document)
    space = document.modelspace()
    for name, place, turn, (x, y, z), count in inserts:
        how = {"rotation": turn, "xscale": x, "yscale": y, "zscale": z}
        block = {"column_count": count, "row_count": 2, "column_spacing": 70, "row_spacing": 60}
        insert = space.add_blockref(name, (place, 2 * place, 5), {**how, **block})
        if exploded:
            for each in list(insert.multi_insert()):
                space.add_blockref(name, each.dxf.insert, how)
            space.delete_entity(insert)
    while exploded and space.query("INSERT"):
        for insert in list(space.query("INSERT")):
            insert.explode(space)
    return document


def things(contents):
    columns = (contents.points.column(name).tolist() for name in ("layer", "kind", "text"))
    points = sorted(zip(*columns, map(tuple, contents.points.xyz.round(5).tolist()), strict=True))
    lines = sorted((line.facts["layer"], line.closed, line.xyz.round(5).tolist()) for line in contents.lines)
    faces = [(s.name, len(s.triangles), round(float(s.triangle_areas.sum()), 4)) for s in contents.surfaces]
    return points, lines, faces


@pytest.mark.parametrize("form", ["asc", "bin"])
@settings(max_examples=6)
@given(INSERTS)
def test_a_drawing_and_the_same_exploded_hold_the_same_things(tmp_path_factory, form, inserts):
    folder = tmp_path_factory.mktemp("blocks")
    inserted(inserts, exploded=False).saveas(folder / "blocks.dxf", fmt=form)
    inserted(inserts, exploded=True).saveas(folder / "exploded.dxf")
    one, other = (things(read(folder / name)) for name in ("blocks.dxf", "exploded.dxf"))
    assert one == other and len(one[0]) == sum(14 * count for *_, count in inserts)


def test_symbols_are_points_their_attributes_listed_and_paper_space_is_reported(tmp_path):
    document = ezdxf.new()
    mark = document.blocks.new("MARK")
    mark.add_circle((0, 0), 0.4)
    mark.add_line((-0.4, 0), (0.4, 0))
    rng = np.random.default_rng(1)
    places = rng.uniform(0, 80, (40, 2))
    for k, (x, y) in enumerate(places.tolist()):
        insert = document.modelspace().add_blockref("MARK", (x, y, 0))
        insert.add_attrib("HEIGHT", f"{41 + 0.02 * x:.3f}", (x, y))
        insert.add_attrib("NO", str(k), (x, y))
    document.layout("Layout1").add_line((0, 0), (1, 1))
    document.saveas(tmp_path / "marks.dxf")
    contents = read(tmp_path / "marks.dxf")
    assert len(contents.points) == 40 and not contents.lines
    notes = " ".join(contents.notes)
    assert "block MARK has the attributes HEIGHT" in notes and "1 entity in paper space" in notes
    made = draft([tmp_path / "marks.dxf"], tmp_path / "site.toml")
    assert 'heights = { attribute = "HEIGHT" }' in made.text
    (tmp_path / "site.toml").write_text(made.text)
    heights = Recipe.read(tmp_path / "site.toml").build().surface.vertices[:, 2]
    assert heights.min() > 41.0 and heights.max() < 42.7


def test_blocks_that_hold_far_too_much_are_refused(tmp_path):
    document = ezdxf.new()
    document.blocks.new("A").add_point((5, 5, 1))
    for one, other in (("B", "A"), ("C", "B"), ("D", "C")):
        block = {"column_count": 300, "row_count": 300, "column_spacing": 9, "row_spacing": 9}
        document.blocks.new(one).add_blockref(other, (1, 1, 0), block)
    document.modelspace().add_blockref("D", (0, 0, 0))
    document.saveas(tmp_path / "bomb.dxf")
    with pytest.raises(DataError, match="more than 1,000,000 entities"):
        read(tmp_path / "bomb.dxf")


def test_a_block_that_holds_itself_is_refused(tmp_path):
    document = ezdxf.new()
    document.blocks.new("A").add_blockref("B", (1, 0, 0))
    document.blocks.new("B").add_blockref("A", (0, 1, 0))
    document.modelspace().add_blockref("A", (0, 0, 0))
    document.saveas(tmp_path / "loop.dxf")
    with pytest.raises(DataError, match="may hold itself"):
        read(tmp_path / "loop.dxf")
