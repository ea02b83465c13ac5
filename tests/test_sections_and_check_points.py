"""Chainage, profiles with their changes and areas, sections, datums that step, points to check, check points."""

from fractions import Fraction
from itertools import pairwise

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin.analysis import Alignment, cross_sections
from evrin.analysis.along.points_on_line import points_along
from evrin.analysis.quality.check_point_fit import check_points
from evrin.base.errors import DataError
from evrin.draw import check_point_sheet, profile_sheet, section_sheets
from evrin.draw.datums import datum_stretches
from evrin.draw.sheets.profile_sheets import chosen_stations
from evrin.draw.sheets.section_sheets import save_pages
from exact import exact_height
from test_contours import random_ground
from test_pictures import texts
from zoo import SITE

RAMP = evrin.triangulate([[0, 0, 0], [100, 0, 0], [100, 100, 10], [0, 100, 10]], name="ramp")
DYKE = evrin.triangulate(
    [
        (x, y, max(0.0, 3.0 - 0.5 * abs(x - 50.0)))
        for x in np.arange(0.0, 101.0, 2.0)
        for y in np.arange(0.0, 41.0, 5.0)
    ],
    name="dyke",
)
places_of_a_line = st.lists(st.tuples(st.integers(-40, 40), st.integers(-40, 40)), min_size=2, max_size=6, unique=True)


@given(places_of_a_line, st.floats(0, 1), st.floats(-3, 3), st.floats(-1e4, 1e4))
def test_a_place_at_a_chainage_is_found_at_that_chainage(line, part, offset, start):
    road = Alignment.along(line, start)
    chainage = start + part * road.length
    (place,) = road.places(chainage)
    found, aside = road.locate([place])
    # Where the line crosses itself the earlier chainage is as good.
    (again,) = road.places(found[0])
    assert np.hypot(*(again - place)) < 1e-6 and abs(aside[0]) < 1e-6
    beside = road.places(chainage, offset)[0]
    assert np.hypot(*(beside - place)) == pytest.approx(abs(offset), abs=1e-9)
    assert abs(road.locate([beside])[1][0]) <= abs(offset) + 1e-9


def test_chainage_offset_and_bearing_have_their_signs():
    road = Alignment.along([(0, 0), (0, 10), (10, 10)], start=100.0)
    assert road.bends.tolist() == [100.0, 110.0, 120.0] and road.length == 20.0
    assert road.locate([(2, 5), (-2, 5), (5, 12), (5, 8)])[1].tolist() == [2.0, -2.0, -2.0, 2.0]
    assert road.bearings_deg([105, 110, 115]).tolist() == [0.0, 90.0, 90.0]
    assert road.stations(8.0).tolist() == [100.0, 104.0, 112.0, 120.0]
    assert road.stations(8.0, ends=False).tolist() == [104.0, 112.0, 120.0]
    beyond, away = road.locate([(13, 14)])
    assert beyond[0] == 120.0 and abs(away[0]) == 5.0
    for bad in ([(0, 0)], [(1, 1), (1, 1)], [(0, 0), (np.nan, 1)], np.zeros((2, 1))):
        with pytest.raises(DataError):
            Alignment.along(bad)
    with pytest.raises(DataError, match="interval must be above 0"):
        road.stations(0.0)


@settings(max_examples=30)
@given(st.integers(0, 200), st.floats(0.5, 60), st.floats(0.5, 60))
def test_sections_are_the_ground_at_their_offsets(seed, left, right):
    ground = random_ground(seed)
    road = Alignment.along([(20, 30), (60, 50), (70, 80)], start=40.0)
    for section in cross_sections(ground, road, 11.0, left=left, right=right, at_bends=True):
        profile = section.profiles["surface"]
        assert (profile.bends[0], profile.bends[-1]) == pytest.approx((-left, right))
        unit = np.array([np.sin(np.radians(section.bearing_deg)), np.cos(np.radians(section.bearing_deg))])
        wanted = np.array(section.centre) + profile.chainage[:, None] * unit
        assert np.abs(profile.points[:, :2] - wanted).max() < 1e-9
        known = np.isfinite(profile.heights)
        output = ground.height(*profile.points[known, :2].T)
        assert np.nanmax(np.abs(output - profile.heights[known]), initial=0.0) < 1e-6


def test_square_skew_and_bend_sections_run_the_right_way():
    road = [(50, 10), (50, 50), (90, 50)]
    square = cross_sections(RAMP, road, 20.0, left=5, right=10)
    assert [s.chainage for s in square] == [0, 20, 40, 60, 80] and square[0].bearing_deg == pytest.approx(90.0)
    assert square[1].profiles["ramp"].points[[0, -1], 0].tolist() == pytest.approx([45.0, 60.0])
    skew = cross_sections(RAMP, road, stations=[20.0], left=5, right=5, angle_deg=60.0)
    assert skew[0].bearing_deg == pytest.approx(60.0)
    bend = cross_sections(RAMP, road, 40.0, left=5, right=5, at_bends=True)
    assert [s.chainage for s in bend] == [0, 40, 80] and bend[1].bearing_deg == pytest.approx(135.0)
    both = cross_sections({"a": RAMP, "b": DYKE}, road, stations=[20.0], left=5, right=5)[0].table(2.5)
    assert set(both["surface"]) == {"a", "b"} and both["offset"].tolist()[:5] == [-5, -2.5, 0, 2.5, 5]
    for asked in (
        {"left": 0, "right": 0},
        {"left": -1, "right": 5},
        {"left": 5, "right": 5, "angle_deg": 0},
        {"left": 5, "right": 5, "stations": [500.0]},
        {"left": 5, "right": 5, "stations": []},
    ):
        interval = None if "stations" in asked else 10.0
        with pytest.raises(DataError):
            cross_sections(RAMP, road, interval, **asked)
    for interval, stations in ((None, None), (5.0, [1.0]), (1e-4, None), (-1.0, None)):
        with pytest.raises(DataError):
            cross_sections(RAMP, road, interval, stations=stations, left=5, right=5)


def test_section_areas_are_those_of_a_trapezium():
    section = cross_sections(DYKE, [(50, 5), (50, 35)], stations=[10.0], left=20, right=20)[0]
    own = section.profiles["dyke"]
    assert own.area(0.0) == pytest.approx(3.0 * 6.0) and own.area(-1.0) == pytest.approx(18.0 + 40.0)
    flat = evrin.triangulate([[0, 0, 1.0], [100, 0, 1.0], [100, 40, 1.0], [0, 40, 1.0]])
    other = cross_sections(flat, [(50, 5), (50, 35)], stations=[10.0], left=20, right=20)[0].profiles["surface"]
    above, below = own.area_between(other)
    # Above a level of 1: a triangle 8 wide and 2 high; below it the rest.
    assert above == pytest.approx(8.0) and above - below == pytest.approx(own.area(1.0))
    with pytest.raises(DataError, match="along one line"):
        own.area_between(RAMP.profile([(0, 5), (50, 5)]))


@settings(max_examples=30)
@given(st.integers(0, 100), st.integers(101, 200))
def test_areas_between_two_profiles_agree_with_exact_arithmetic(one, two):
    line = [(21.0, 17.0), (84.0, 77.0)]
    first, second = random_ground(one), random_ground(two)
    a, b = first.profile(line), second.profile(line)
    above, below = a.area_between(b)
    breaks = np.unique(np.concatenate((a.chainage, b.chainage)))
    total = [Fraction(0), Fraction(0)]
    for start, end in pairwise(breaks.tolist()):
        middle = (start + end) / 2.0
        place = a.points[0, :2] + middle / a.length * (a.points[-1, :2] - a.points[0, :2])
        corners = []
        for ground in (first, second):
            triangle = int(ground.triangles_at(*place))
            if triangle < 0:
                break
            corners.append(ground.vertices[ground.triangles[triangle]])
        if len(corners) < 2:
            continue
        gaps = []
        for at in (start, end):
            x, y = a.points[0, :2] + at / a.length * (a.points[-1, :2] - a.points[0, :2])
            gaps.append(exact_height(corners[0], x, y) - exact_height(corners[1], x, y))
        run = Fraction(float(end)) - Fraction(float(start))
        for k, sense in enumerate((1, -1)):
            g, h = (max(sense * gap, Fraction(0)) for gap in gaps)
            if gaps[0] * gaps[1] < 0:
                total[k] += run * max(g, h) ** 2 / (abs(gaps[0]) + abs(gaps[1])) / 2
            else:
                total[k] += run * (g + h) / 2
    assert (above, below) == pytest.approx((float(total[0]), float(total[1])), abs=1e-7)


def test_changes_show_bends_grades_steps_and_where_the_ground_ends():
    profile = DYKE.profile([(-10, 20), (60, 20), (60, 60)])
    at, kinds = profile.changes()
    output = dict(zip(kinds, at.tolist(), strict=True))
    assert kinds[0] == "start" and kinds[-1] == "end" and output["bend"] == 70.0 and output["on"] == 10.0
    assert output["off"] == 90.0 and {54.0, 60.0, 66.0} <= set(at[np.array(kinds) == "grade"].round(6).tolist())
    assert len(profile.changes(60.0)[0]) < len(at)  # the dyke's sides change by 50 %
    wall = evrin.triangulate(
        [[0, 0, 0], [0, 10, 0], [10, 0, 0], [10, 10, 0], [10.0, 0, 3], [20, 0, 3], [20, 10, 3], [10.0, 10, 3]][:4]
    )
    assert wall.profile([(0, 5), (10, 5)]).changes()[1] == ["start", "end"]


def test_a_slow_curve_is_not_lost_by_a_tolerance_on_each_of_its_bits():
    x = np.arange(0.0, 101.0)
    curve = evrin.triangulate([(a, b, 0.0005 * a * a) for a in x for b in (0.0, 5.0, 10.0)])
    _, kinds = curve.profile([(0, 5), (100, 5)]).changes(1.0)
    # From level to 10 % in bits of 0.1 %, none of which is a change by itself.
    assert 4 <= kinds.count("grade") <= 12


def test_tables_have_rows_at_an_interval_at_bends_and_at_changes():
    profile = DYKE.profile([(40, 20), (70, 20)], start=1000.0)
    rows = profile.table(8.0, changes=1.0)
    assert rows["chainage"].tolist() == [1000, 1004, 1008, 1010, 1016, 1024, 1030]
    assert rows["at"].tolist() == ["start", "grade", "interval", "grade", "grade", "interval", "end"]
    assert rows["grade_percent"].iloc[1] == pytest.approx(50.0) and rows["height"].max() == 3.0
    assert profile.table()["at"].unique().tolist() == ["edge"]
    for wrong in ({"interval": 0.0}, {"changes": -1.0}):
        with pytest.raises(DataError):
            profile.table(**wrong)


def test_points_along_a_line_are_on_the_ground_and_numbered():
    found = points_along(DYKE, Alignment.along([(40, 20), (70, 20), (70, 50)], 500.0), 10.0, 2.0, first=71)
    assert found["number"].tolist() == list(range(71, 71 + len(found)))
    known = found.dropna(subset="height")
    assert DYKE.height(known["easting"], known["northing"]) == pytest.approx(known["height"], abs=1e-3)
    assert {"START", "GRADE", "BEND", "INTERVAL", "OFF", "END"} == set(found["code"])
    with pytest.raises(DataError, match="interval=, changes= or both"):
        points_along(DYKE, Alignment.along([(40, 20), (70, 20)]))


@given(st.integers(0, 100), st.floats(0.05, 40.0))
def test_every_stretch_of_a_stepping_datum_has_its_ground_on_the_sheet(seed, span):
    ground = random_ground(seed)
    profile = ground.profile([(20, 20), (80, 75)])
    parts = datum_stretches([profile], span, 0.0)
    assert parts[0].start == 0.0 and parts[-1].end == pytest.approx(profile.length)
    assert all(a.end == b.start for a, b in pairwise(parts))
    if span > 5.1:
        assert len(parts) == 1 and parts[0].datum == 0.0
    for part in parts:
        at = np.linspace(part.start, part.end, 40)[1:-1]
        heights = profile.height(at)
        # A single sample may be steeper than the sheet is high.
        if np.nanmax(heights, initial=-9e9) - np.nanmin(heights, initial=9e9) < 0.9 * span:
            assert np.nanmin(heights) >= part.datum - 0.06 * span and np.nanmax(heights) <= part.datum + 1.06 * span


@pytest.mark.parametrize("exaggeration", [None, 1.0, 20.0, 400.0])
def test_a_profile_can_be_read_at_any_exaggeration(exaggeration):
    figure = profile_sheet({"dyke": DYKE.profile([(5, 20), (95, 20)])}, exaggeration=exaggeration)
    output = " ".join(texts(figure))
    assert "+50.0 %" in output or (exaggeration or 0) >= 20
    assert ("the datum steps" in output) == ((exaggeration or 0) >= 20)
    drawn = 100 if exaggeration == 400.0 else exaggeration or 10
    assert f"vertical exaggeration {drawn:g}" in output and ("instead of 400" in output) == (exaggeration == 400.0)
    low = figure.axes[0].get_ylim()[0]
    for line in figure.axes[0].get_lines():
        if line.get_label() == "dyke":
            assert np.nanmin(line.get_ydata()) >= low - 1e-9


@given(st.lists(st.floats(0.01, 300.0), min_size=1, max_size=12), st.one_of(st.none(), st.floats(0.1, 500)))
def test_labels_of_stations_never_collide(steps, interval):
    x = np.concatenate(([0.0], np.cumsum(steps)))
    ground = evrin.triangulate([(0, 0, 0), (x[-1], 0, 0), (x[-1], 10, 0), (0, 10, 0)])
    profile = ground.profile([(float(at), 5.0) for at in x], start=33.0)
    stations = chosen_stations(profile, interval)
    assert (stations[0], stations[-1]) == (profile.bends[0], profile.bends[-1])
    assert len(stations) < 3 or np.diff(stations).min() >= profile.length / 55.0 - 1e-9


@pytest.mark.slow
def test_sections_are_paged_six_to_a_sheet_and_written_whole(tmp_path):
    found = cross_sections({"ramp": RAMP, "dyke": DYKE}, [(50, 2), (50, 38)], 4.0, left=30, right=30)
    sheets = section_sheets(found, title="sections")
    assert len(found) == 10 and [len(sheet.axes) for sheet in sheets] == [6, 4]
    output = " ".join(t.get_text() for t in sheets[1].texts)
    assert "page 2 of 2" in output and "vertical exaggeration" in output
    scales = {(np.ptp(axes.get_xlim()), round(np.ptp(axes.get_ylim()), 9)) for sheet in sheets for axes in sheet.axes}
    assert len(scales) == 1  # all at one scale
    titles = [axes.get_title(loc="left") for axes in sheets[0].axes]
    assert titles[:2] == ["chainage 0.00", "chainage 4.00"]
    assert [path.name for path in save_pages(sheets, tmp_path / "s.pdf")] == ["s.pdf"]
    assert (tmp_path / "s.pdf").read_bytes().startswith(b"%PDF")
    assert [path.name for path in save_pages(sheets, tmp_path / "s.png")] == ["s-1.png", "s-2.png"]
    assert [path.name for path in save_pages(sheets[:1], tmp_path / "t.png")] == ["t.png"]
    cut = section_sheets(found[:1], exaggeration=50.0)[0].axes[0].get_title(loc="left")
    assert cut.endswith("(cut off)")
    off = cross_sections(RAMP, [(500, 2), (500, 38)], 20.0, left=3, right=3)
    with pytest.raises(DataError, match="no section has any ground"):
        section_sheets(off)
    with pytest.raises(DataError, match="no section"):
        section_sheets([])


@given(st.lists(st.integers(-400, 400), min_size=2, max_size=40), st.integers(1, 400))
def test_the_figures_of_check_points_are_those_of_their_deviations(millimetres, tolerance):
    away = np.array(millimetres) / 1000.0
    xy = SITE + np.column_stack((np.arange(len(away)) + 1.0, np.full(len(away), 5.0)))
    ground = evrin.triangulate(np.column_stack((SITE + [[0, 0], [100, 0], [100, 10], [0, 10]], [7.0] * 4)))
    checked = check_points(ground, np.column_stack((xy, 7.0 - away)), tolerance=tolerance / 1000.0 + 1e-9)
    figures = checked.figures()
    assert figures["mean"] == pytest.approx(np.mean(away), abs=1e-9)
    assert figures["standard_deviation"] == pytest.approx(np.std(away, ddof=1), abs=1e-9)
    assert figures["rmse"] ** 2 == pytest.approx(np.mean(away**2), abs=1e-9)
    assert figures["accuracy_95"] == pytest.approx(1.96 * figures["rmse"])
    assert abs(figures["largest"]) == pytest.approx(np.abs(away).max(), abs=1e-9)
    assert figures["beyond"] == sum(abs(value) > tolerance for value in millimetres)
    assert checked.passed == (figures["beyond"] == 0) and checked.table["within"].sum() == len(away) - figures["beyond"]
    assert (np.abs(away) <= figures["percentile_95"] + 1e-9).mean() >= 0.9 or len(away) < 20


def test_points_off_the_surface_are_reported_separately_and_wrong_ones_refused():
    checked = check_points(RAMP, [[50, 50, 5.02], [500, 5, 0], [10, 10, 0.9]], ["a", "b", "c"])
    assert checked.off_surface == 1 and checked.passed is None and checked.figures()["largest_at"] == "c"
    assert checked.table["deviation"].round(3).tolist()[::2] == [-0.02, 0.1]
    alone = check_points(RAMP, [[500, 5, 0]], tolerance=0.1)
    assert alone.passed is None and np.isnan(alone.figures()["rmse"]) and alone.table["within"].tolist() == [None]
    for wrong in ([], [[1, 2]], [[1, 2, np.nan]]):
        with pytest.raises(DataError):
            check_points(RAMP, wrong)
    with pytest.raises(DataError, match="must not be below 0"):
        check_points(RAMP, [[1, 2, 3]], tolerance=-1.0)


def test_the_map_of_deviations_marks_what_fails():
    xyz = np.array([(x, y, 0.1 * y + 0.01 * ((x + y) % 3 - 1)) for x in (10.0, 50, 90) for y in (10.0, 50, 90)])
    xyz[4, 2] += 0.5
    figure = check_point_sheet(RAMP, check_points(RAMP, np.vstack((xyz, [[500, 0, 0]])), tolerance=0.05))
    output = " ".join(texts(figure))
    assert "failed: 1 beyond" in output and "off the surface" in output and "RMSE" in output and "5  -5" in output
    labels = [entry.get_text() for entry in figure.legends[0].get_texts()]
    assert labels[1:] == ["beyond the tolerance", "off the surface"]
    assert any(axes.get_title(loc="left").startswith("histogram") for axes in figure.axes)


def test_profiles_sections_points_and_check_points_at_the_command_line(demo, run, tmp_path):
    along = "field/track-centre.csv"
    words = ("profile", "clean.toml", "--along", along, "--start", "1000", "--changes", "0.5")
    run(*words, "-o", tmp_path / "p.csv", code=1)
    rows = pd.read_csv(tmp_path / "p.csv")
    assert rows["chainage"].iloc[0] == 1000.0 and {"grade", "on", "bend"} <= set(rows["at"])
    words = ("--along", "4128,2883 4120,2857", "--every", "10", "--left", "8", "--right", "8")
    done = run("sections", "clean.toml", "raw.toml", *words, "-o", tmp_path / "s.pdf", "-o", tmp_path / "s.csv")
    assert done.stdout == "" and done.stderr.count("wrote") == 2
    sections = pd.read_csv(tmp_path / "s.csv")
    assert sections["chainage"].unique().tolist()[:3] == [0.0, 10.0, 20.0] and sections["offset"].min() == -8.0
    done = run("points", "clean.toml", "--along", "4128,2883 4120,2857", "--every", "5", "-o", tmp_path / "n.csv")
    assert "7 points" in done.stderr
    # What was set out on the surface lies on it.
    done = run("height", "clean.toml", "--points", tmp_path / "n.csv", "--tolerance", "0.001", "--json")
    record = run("height", "clean.toml", "--points", tmp_path / "n.csv", "--tolerance", "0.001", "--json").stdout
    assert '"passed": true' in record and '"count": 7' in record and done.stdout == record
    words = ("height", "raw.toml", "--points", "field/check.csv", "--columns", "PNEZD")
    failed = run(*words, "--tolerance", "0.06", "-o", tmp_path / "c.png", "-o", tmp_path / "c.csv", code=1)
    assert "7026" in failed.stdout and (tmp_path / "c.png").stat().st_size > 30_000
    assert pd.read_csv(tmp_path / "c.csv")["within"].sum() == 26
    assert "95 %: 1.96 RMSE" in run(*words).stdout
