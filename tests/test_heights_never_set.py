"""Heights at zero, at no-data values, or at one value far from the rest are found whatever their share."""

import ezdxf
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import Recipe
from evrin.base.tolerances import METRES
from evrin.formats import look
from evrin.survey import heights_from_shots, inventory
from evrin.survey.doubts.height_busts import find_busts
from evrin.survey.unset_heights import find_unset_heights, is_no_data
from sites import lay_out

BASE = '[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PENZD"\n'
CODES = {"zero": "zero-height", "no-data": "no-data-height", "repeated": "repeated-height"}
VALUES = st.sampled_from(
    [(0.0, "zero"), (-9999.0, "no-data"), (-32768.0, "no-data"), (99999.0, "no-data"), (150.0, "repeated")]
)


def ground(count, seed):
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, 100, (count, 2))
    return np.column_stack((xy, 40 + 0.03 * xy[:, 0] + np.sin(xy[:, 1] / 9.0)))


def as_text(xyz):
    return "".join(f"{k},{x:.3f},{y:.3f},{z:.3f},G\n" for k, (x, y, z) in enumerate(xyz.tolist(), 1))


@given(VALUES, st.integers(2, 180), st.integers(0, 99), st.booleans(), st.sampled_from(["m", "ft", "ftUS"]))
def test_heights_that_were_never_set_are_found_whatever_their_share(value, share, seed, together, units):
    height, kind = value
    xyz = ground(200, seed)
    rows = np.argsort(xyz[:, 0])[:share] if together else np.random.default_rng(seed).permutation(200)[:share]
    z = xyz[:, 2] / METRES[units]
    z[rows] = height if kind != "repeated" else height / METRES[units]
    (found,) = find_unset_heights(z, units)
    assert found.kind == kind and sorted(rows.tolist()) == found.rows.tolist()


@given(st.integers(0, 99), st.floats(-50, 3000), st.floats(0.0, 40.0), st.integers(0, 3))
def test_ground_that_was_measured_is_never_taken_for_unset(seed, base, relief, digits):
    rng = np.random.default_rng(seed)
    z = (base + relief * np.linspace(0, 1, 300) + rng.normal(0, 0.05, 300)).round(digits)
    assert not [each for each in find_unset_heights(z) if each.kind == "repeated"]
    if base > 5 or base + relief < -5 or abs(base) < relief:
        assert all(each.kind == "zero" and relief < 5 for each in find_unset_heights(z))


def test_no_data_values_in_whatever_unit_they_were_converted_from():
    values = np.array([-9999.0, -9999 * 0.3048, 32767 * 1200 / 3937, 1e38, -1e6, 41.2, 999.5, 0.0])
    assert is_no_data(values).tolist() == [True, True, True, True, True, False, False, False]


@pytest.mark.parametrize(
    ("share", "height", "code"),
    [(3, 0.0, "zero-height"), (2, -9999.0, "no-data-height"), (4, 100.0, "repeated-height")],
)
def test_a_build_with_unset_heights_is_open_and_judges_no_other_shot_by_them(tmp_path, share, height, code):
    xyz = ground(200, 1)
    xyz[::share, 2] = height
    xyz[5, 2] = 52.0 if share != 5 else xyz[5, 2]
    found = Recipe.read(lay_out(tmp_path, base=BASE, field=as_text(xyz))).build().open_findings
    wrong = [each for each in found if each.code in CODES.values()]
    assert {each.code for each in wrong} == {code} and f"{len(xyz[::share])} shots" in wrong[0].message
    spikes = [each for each in found if each.code == "height-spike"]
    assert [each.shots[0].number for each in spikes] == (["6"] if 5 % share else [])
    cleaned = Recipe.read(lay_out(tmp_path, base=BASE + "[busts]\n", field=as_text(xyz))).build()
    assert cleaned.surface.vertices[:, 2].min() > 38 and cleaned.surface.vertices[:, 2].max() < 45


def test_ground_at_zero_throughout_is_asked_about(tmp_path):
    xyz = ground(40, 2) * (1, 1, 0)
    (found,) = Recipe.read(lay_out(tmp_path, base=BASE, field=as_text(xyz))).build().open_findings
    assert found.code == "zero-height" and "all 40 heights are exactly 0" in found.message


def test_busts_are_judged_without_the_vertices_known_to_be_wrong():
    xyz = ground(300, 3)
    xyz[::3, 2] = 0.0
    xyz[7, 2] += 6.0
    surface = evrin.triangulate(xyz)
    found = find_busts(surface, ignored=surface.vertices[:, 2] == 0.0)
    assert surface.vertices[found.vertices, :2].tolist() == [xyz[7, :2].tolist()] and found.heights[0] == pytest.approx(
        6.0, abs=0.6
    )


def test_texts_that_give_heights_are_pointed_out_by_build_and_inspect(tmp_path):
    document = ezdxf.new()
    for x, y, z in ground(30, 4).tolist():
        document.modelspace().add_point((x, y, 0.0))
        document.modelspace().add_text(f"{z:.2f}").set_placement((x + 0.3, y))
    document.saveas(tmp_path / "plan.dxf")
    seen = " ".join(inventory(look(tmp_path / "plan.dxf")).looks_wrong)
    assert "30 items are without height" in seen and 'heights = "text nearby"' in seen
    base = '[[source]]\nfile = "plan.dxf"\nrole = "points"\n'
    codes = {f.code for f in Recipe.read(lay_out(tmp_path, base=base)).build().open_findings}
    assert "texts-give-heights" in codes
    taken = Recipe.read(lay_out(tmp_path, base=base + 'heights = "text nearby"\n')).build()
    assert not taken.open_findings and taken.surface.vertices[:, 2].min() > 38


def test_a_bend_between_two_shots_lies_on_the_line_between_them_and_is_not_judged_by_zero(tmp_path):
    drawn = np.array([[10.0, 50, 0], [40, 52, 0], [70, 50, 0], [90, 55, 0]])
    shots = np.array([[10.0, 50, 41.0], [70, 50, 44.0]])
    fitted = heights_from_shots(drawn, False, shots, 0.1)
    along = np.hypot(30, 2)
    assert fitted.xyz[:3, 2].tolist() == pytest.approx([41.0, 41 + 3 * along / (along + np.hypot(30, 2)), 44.0])
    assert np.isnan(fitted.xyz[3, 2])
    line = "line,x,y,z\n" + "".join(f"top,{x},{y},{z}\n" for x, y, z in drawn.tolist())
    table = '[[source]]\nfile = "top.csv"\nrole = "breaklines"\nheights = "shots"\n'
    field = as_text(np.vstack((ground(150, 7), shots)))
    build = Recipe.read(lay_out(tmp_path, base=BASE + table, field=field, top__csv=line)).build()
    assert not [f for f in build.findings if f.code == "zero-height"]
    assert float(build.surface.height(40, 52)) == pytest.approx(fitted.xyz[1, 2], abs=1e-9)


def test_ground_extrapolated_far_beyond_what_was_measured_is_a_finding_of_its_step_not_a_spike(tmp_path):
    xyz = np.array([(x, y, 10 + 0.4 * x) for x in range(0, 21, 5) for y in range(0, 21, 5)], float)
    ring = "line,x,y\n" + "".join(f"r,{x},{y}\n" for x, y in [(-50, -5), (25, -5), (25, 25), (-50, 25), (-50, -5)])
    table = '[[boundary]]\nfile = "r.csv"\neffect = "keep"\nreach = true\n'
    build = Recipe.read(lay_out(tmp_path, base=BASE + table, field=as_text(xyz), r__csv=ring)).build()
    codes = [f.code for f in build.open_findings]
    assert "extrapolated-far" in codes and "height-spike" not in codes


def test_the_summit_of_contours_and_a_flat_stay_although_their_heights_repeat(tmp_path):
    rows = ["line,easting,northing,height"]
    # A hill of contours every 2 m up to 748 m, and a summit far above them, drawn as one small contour.
    for level, radius in [(740.5 + 2 * k, 60.0 - 10.0 * k) for k in range(5)] + [(810.5, 4.0)]:
        turn = np.linspace(0.0, 2 * np.pi, 25)
        rows += [f"{level},{500 + radius * np.cos(a):.3f},{500 + radius * np.sin(a):.3f},{level}" for a in turn]
    (tmp_path / "hill.csv").write_text("\n".join(rows))
    recipe = '[site]\n[[source]]\nfile = "hill.csv"\nrole = "contours"\n'
    for more in ("", '[busts]\nleave_out = ["repeated"]\n'):
        (tmp_path / "site.toml").write_text(recipe + more)
        build = Recipe.read(tmp_path / "site.toml").build()
        assert build.surface.vertices[:, 2].max() == 810.5
        assert "repeated-height" not in {finding.code for finding in build.findings}
