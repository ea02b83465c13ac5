"""The unit of a drawing, judged by the sizes of what is drawn in it; every drawing is written by its own package."""

import ezdxf
import numpy as np
import pytest

from evrin.formats import look
from evrin.recipe import Recipe, draft
from evrin.survey import inventory

HEADERS = {"none": 0, "in": 1, "ft": 2, "mm": 4, "cm": 5, "m": 6}
METRES = {"in": 0.0254, "ft": 0.3048, "mm": 0.001, "cm": 0.01, "m": 1.0, "none": 1.0}


def drawn(path, made_in, header, *, contours=True, texts=True, origin=0.0):
    """Draw a slope of 360 by 270 metres in a unit, with a header that states another; return its heights in metres."""
    rng, unit = np.random.default_rng(4), METRES[made_in]
    document = ezdxf.new()
    document.units = HEADERS[header]
    space, heights = document.modelspace(), []
    for level in range(252, 262) if contours else ():
        x = (level - 250.0) / 0.03
        height = level / unit if made_in != "ft" else round(level / unit)
        line = [((x + k) / unit, 30.0 * k / unit, height) for k in range(10)]
        space.add_polyline3d(line, dxfattribs={"layer": "contours"})
    for _ in range(60):
        x, y = origin + rng.uniform(0, 360), origin + rng.uniform(0, 270)
        z = 250.0 + 0.03 * x
        heights.append(z)
        space.add_point((x / unit, y / unit, z / unit), dxfattribs={"layer": "spots"})
        if texts:
            label = space.add_text(f"{z / (unit if made_in in ('m', 'ft') else 1.0):.2f}", height=1.2 / unit)
            label.set_placement(((x + 0.5) / unit, (y + 0.5) / unit))
    document.saveas(path)
    return sorted(heights)


@pytest.mark.parametrize(
    ("made_in", "header"),
    [("ft", "in"), ("ft", "ft"), ("m", "mm"), ("m", "cm"), ("mm", "mm"), ("m", "m"), ("cm", "cm"), ("m", "none")],
)
def test_a_draft_reads_a_drawing_in_the_unit_that_its_sizes_speak_for(tmp_path, made_in, header):
    heights = drawn(tmp_path / "site.dxf", made_in, header)
    made = draft([tmp_path / "site.dxf"], tmp_path / "site.toml")
    (tmp_path / "site.toml").write_text(made.text)
    build = Recipe.read(tmp_path / "site.toml").build()
    in_metres = {"m": 1.0, "ft": 0.3048}[made.site.units]
    xyz = build.surface.vertices * in_metres
    assert np.ptp(xyz[:, 0]) == pytest.approx(360.0, abs=20.0)
    assert xyz[:, 2].min() == pytest.approx(heights[0], abs=0.6)
    assert "drawing-sizes" not in {finding.code for finding in build.findings}


@pytest.mark.parametrize(("made_in", "header"), [("ft", "in"), ("m", "mm"), ("mm", "m")])
def test_inspect_and_check_report_sizes_that_nobody_draws(tmp_path, made_in, header):
    drawn(tmp_path / "site.dxf", made_in, header)
    (text,) = [text for text in inventory(look(tmp_path / "site.dxf")).looks_wrong if "the file states" in text]
    assert "likelier" in text or made_in == "mm"
    recipe = f'[site]\ndrawing_units = "{header}"\n[[source]]\nfile = "site.dxf"\nrole = "points"\n'
    (tmp_path / "site.toml").write_text(recipe + 'keep = { layers = ["spots"] }\n')
    build = Recipe.read(tmp_path / "site.toml").build()
    codes = {finding.code for finding in build.findings}
    assert ("drawing-sizes" in codes) == (header != "m")


def test_inches_that_nothing_proves_are_asked_about_with_the_width_they_would_make(tmp_path):
    drawn(tmp_path / "site.dxf", "ft", "in", contours=False, texts=False)
    assert any("27." in text and "m wide" in text for text in inventory(look(tmp_path / "site.dxf")).looks_wrong)
    (tmp_path / "site.toml").write_text(draft([tmp_path / "site.dxf"], tmp_path / "site.toml").text)
    assert "units-differ" in {finding.code for finding in Recipe.read(tmp_path / "site.toml").build().open_findings}


def test_one_key_states_the_unit_of_all_drawings_and_a_table_of_its_own_counts_more(tmp_path):
    for name in ("one.dxf", "two.dxf", "limit.dxf"):
        drawn(tmp_path / name, "ft", "in", contours=False)
    ring = ezdxf.new()
    ring.modelspace().add_lwpolyline([(300, 200), (900, 200), (900, 700), (300, 700)], close=True)
    ring.saveas(tmp_path / "limit.dxf")
    recipe = """[site]
units = "m"
drawing_units = "ft"
[[source]]
file = "one.dxf"
role = "points"
keep = { kinds = ["point"], within = "limit.dxf" }
[[source]]
file = "two.dxf"
role = "points"
units = "in"
keep = { kinds = ["point"] }
[[boundary]]
file = "limit.dxf"
effect = "keep"
"""
    (tmp_path / "site.toml").write_text(recipe)
    tables = Recipe.read(tmp_path / "site.toml").tables
    assert [source.units for source in tables.source] == ["ft", "in"] and tables.source[0].keep.within.units == "ft"
    area = 600 * 500 * 0.3048**2
    assert 0.6 * area < Recipe.read(tmp_path / "site.toml").build().surface.plan_area <= area


def test_a_drawing_in_inches_beside_points_in_feet_is_reported_with_the_factor(tmp_path):
    drawn(tmp_path / "one.dxf", "ft", "ft", contours=False, texts=False, origin=9000.0)
    source = '[[source]]\nname = "{0}"\nfile = "one.dxf"\nrole = "points"\nunits = "{0}"\n'
    recipe = '[site]\nunits = "ft"\n' + "".join(source.format(units) for units in ("ft", "in"))
    (tmp_path / "site.toml").write_text(recipe)
    found = [f for f in Recipe.read(tmp_path / "site.toml").build().findings if f.code == "sources-other-unit"]
    assert [f.message for f in found] == ["in does not overlap ft; it would with coordinates multiplied by 12"]
