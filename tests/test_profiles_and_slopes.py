"""Profiles are exact at every edge; slope bands add up."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin.base.errors import DataError
from zoo import SITE, lattice

RNG = np.random.default_rng(21)
XY = RNG.uniform(0, 100, (300, 2))
ROUGH = evrin.triangulate(np.column_stack((XY, RNG.uniform(40, 45, 300))))
coordinate = st.floats(8, 92).map(lambda v: round(v, 3))


def edges_crossed(ground, start, end):
    """How many edges of the surface a line properly crosses, one after another."""
    flat = {tuple(sorted((t[k], t[(k + 1) % 3]))) for t in ground.triangles.tolist() for k in range(3)}
    (ax, ay), (bx, by) = start, end
    count = 0
    for u, v in flat:
        (ux, uy), (vx, vy) = ground.vertices[u, :2], ground.vertices[v, :2]
        across = ((bx - ax) * (uy - ay) - (by - ay) * (ux - ax)) * ((bx - ax) * (vy - ay) - (by - ay) * (vx - ax))
        along = ((vx - ux) * (ay - uy) - (vy - uy) * (ax - ux)) * ((vx - ux) * (by - uy) - (vy - uy) * (bx - ux))
        count += across < 0 and along < 0
    return count


@given(coordinate, coordinate, coordinate, coordinate)
def test_a_profile_has_a_row_at_every_edge_and_is_right_between(x0, y0, x1, y1):
    if np.hypot(x1 - x0, y1 - y0) < 1.0:
        return
    found = ROUGH.profile([(x0, y0), (x1, y1)])
    assert len(found.chainage) == edges_crossed(ROUGH, (x0, y0), (x1, y1)) + 2
    assert (np.diff(found.chainage) > 0).all()
    asked = np.linspace(0, found.length, 57)[1:-1]
    x, y = (np.interp(asked, [0, found.length], ends) for ends in ((x0, x1), (y0, y1)))
    assert np.allclose(found.height(asked), ROUGH.height(x, y), atol=1e-9)


def test_along_the_edges_of_a_lattice_nothing_is_doubled():
    ground = evrin.triangulate(np.column_stack((SITE + lattice(6), np.arange(36) % 5.0)))
    found = ground.profile([SITE + [0, 2], SITE + [5, 2]])
    assert found.chainage.tolist() == [0.0, 1.0, 2.0, 3.0, 4.0, 5.0]
    assert np.array_equal(found.heights, ground.height(SITE[0] + np.arange(6), SITE[1] + 2))


def test_holes_and_the_rim_are_gaps():
    outer = [[0.0, 0], [100, 0], [100, 100], [0, 100]]
    hole = [[40.0, 40], [60, 40], [60, 60], [40, 60]]
    ground = evrin.triangulate(np.column_stack((XY, XY[:, 0])), boundaries=[outer, hole])
    found = ground.profile([(-20.0, 50.0), (120.0, 50.0)])
    heights = found.height([5.0, 59.0, 70.0, 79.0, 81.0, 139.0])
    assert np.isnan(heights[[0, 2, 3, 5]]).all() and np.isfinite(heights[[1, 4]]).all()
    table = found.table(10.0)
    assert table["height"].isna().sum() > 4 and len(table) == 15
    outside = ground.profile([(200.0, 0.0), (300.0, 0.0)])
    assert np.isnan(outside.heights).all() and outside.length == 100.0


def test_bends_are_rows_and_chainage_runs_through_them():
    found = ROUGH.profile([(20.0, 20.0), (50.0, 20.0), (50.0, 60.0), (50.0, 60.0), (20.0, 60.0)])
    assert found.bends.tolist() == [0.0, 30.0, 70.0, 70.0, 100.0]
    assert np.isin(found.bends, found.chainage).all()
    table = found.table(25.0)
    assert table["chainage"].tolist() == [0.0, 25.0, 30.0, 50.0, 70.0, 75.0, 100.0]
    assert table["easting"].tolist()[2] == 50.0 and table["northing"].tolist()[3] == pytest.approx(40.0)


def test_the_area_under_a_ridge_is_the_triangle_it_is():
    ridge = evrin.triangulate([[0, -5, 0], [10, -5, 0], [5, -5, 2], [0, 5, 0], [10, 5, 0], [5, 5, 2]])
    found = ridge.profile([(0.0, 0.3), (10.0, 0.3)])
    assert np.trapezoid(found.heights, found.chainage) == pytest.approx(10.0)
    grades = found.table()["grade_percent"].dropna()
    assert np.allclose(np.abs(grades), 40.0)


@pytest.mark.parametrize(
    ("line", "output"),
    [
        ([(0, 0)], "at least 2 places"),
        ([(0, 0), (0, 0)], "no length"),
        ([(0, 0), (np.nan, 0)], "must be finite"),
        ([1, 2, 3], "shape"),
    ],
)
def test_lines_that_are_none_are_refused(line, output):
    with pytest.raises(DataError, match=output):
        ROUGH.profile(line)


def test_an_interval_must_be_above_nothing():
    with pytest.raises(DataError, match="interval must be above 0"):
        ROUGH.profile([(10, 10), (20, 20)]).table(0.0)


@given(st.lists(st.floats(0.01, 3.0), min_size=1, max_size=6, unique=True))
def test_bands_of_slope_add_up_to_the_whole(limits):
    bands = ROUGH.slope_bands(sorted(limits))
    assert bands["plan_area"].sum() == pytest.approx(ROUGH.plan_area)
    assert bands["slope_area"].sum() == pytest.approx(ROUGH.slope_area)
    assert bands["triangles"].sum() == len(ROUGH.triangles)
    assert bands["share_percent"].sum() == pytest.approx(100.0)
    assert (bands["slope_area"] >= bands["plan_area"]).all()


@pytest.mark.parametrize("limits", [[], [0.2, 0.1], [0.0, 0.1], [-1.0]])
def test_limits_must_rise_from_above_nothing(limits):
    with pytest.raises(DataError, match="must rise"):
        ROUGH.slope_bands(limits)


@pytest.mark.parametrize("shift", [0.0, 1e6, 0.1])
def test_a_profile_has_the_height_where_the_surface_ends(shift):
    """A surface from 2 to 8: heights at both ends, and none beyond."""
    ground = evrin.triangulate(np.array([[2, 0, 5], [8, 0, 6.5], [8, 9, 6.5], [2, 9, 5.0]]) + [shift, shift, 0.0])
    cut = ground.profile([[shift, 4.0 + shift], [10.0 + shift, 4.0 + shift]])
    heights = cut.height(np.arange(0.0, 11.0))
    assert np.isnan(heights[[0, 1, 9, 10]]).all()
    assert heights[2:9].tolist() == pytest.approx((5.0 + 0.25 * np.arange(7.0)).tolist(), abs=1e-5)
    within = ground.profile([[3.0 + shift, 4.0 + shift], [8.0 + shift, 4.0 + shift]])
    assert within.table(1.0)["height"].notna().all()


def test_the_first_chainage_of_a_file_counts_and_jumps_are_refused(tmp_path, run):
    """An alignment in feet that begins at 1000, on a site in metres."""
    ground, line = tmp_path / "ramp.xml", tmp_path / "track.xml"
    evrin.write(ground, evrin.triangulate([[0, 0, 0], [90, 0, 9], [90, 90, 9], [0, 90, 0]], name="ramp"))
    ends = " ".join(f"<{tag}>{20 / 0.3048!r} {x / 0.3048!r}</{tag}>" for tag, x in (("Start", 10), ("End", 70)))

    def written(first="1000", equations=""):
        line.write_text(
            '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Imperial '
            f'linearUnit="foot"/></Units><Alignments><Alignment name="track" length="196.85" staStart="{first}">'
            f"<CoordGeom><Line>{ends}</Line></CoordGeom>{equations}</Alignment></Alignments></LandXML>"
        )

    asked = ("profile", str(ground), "--along", str(line), "--every", "20")

    def chainages(*more):
        return [row["chainage"] for row in json.loads(run(*asked, "--json", *more, code=0).stdout)["rows"]]

    written()
    assert chainages() == pytest.approx([304.8, 320.0, 340.0, 360.0, 364.8])
    assert chainages("--start", "0") == pytest.approx([0.0, 20.0, 40.0, 60.0])
    written(equations='<StaEquation staAhead="0" staBack="1050" staInternal="1050"/>')
    assert "the chainage of track jumps, at 1 station equations" in run(*asked, code=2).stderr
    assert chainages("--start", "100")[0] == 100.0
    written(first="nan")
    assert "staStart of track is no number: 'nan'" in run(*asked, code=2).stderr
