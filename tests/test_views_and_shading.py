"""What is seen from a direction, how ground is coloured, and what maps of checks show."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from matplotlib.collections import LineCollection, PolyCollection

import evrin
from evrin.analysis import contour_fit, too_large, trust
from evrin.analysis.terrain.banding import areas_of
from evrin.analysis.terrain.drainage import hollows, summits, water_paths
from evrin.base.errors import DataError
from evrin.base.wording import compass_point
from evrin.draw import Shades, contour_fit_sheet, drainage_sheet, draw_shading, flow_arrows, map_sheet, trust_sheet
from evrin.draw.projection import Viewpoint, see, usual_exaggeration
from evrin.draw.shading import shade, slope_text
from evrin.draw.sheets.plan_sheets import band_names
from evrin.draw.sheets.sheet import window_of_most
from evrin.draw.sheets.view_sheet import view_of
from evrin.surface import SourceLine
from test_contours import random_ground
from test_pictures import GROUND, texts
from zoo import SITE


@given(st.floats(0, 360), st.floats(1, 90), st.floats(0.1, 10))
def test_a_view_keeps_lengths_across_it_and_turns_with_the_eye(bearing, above, stretch):
    eye = Viewpoint(bearing, above, stretch)
    toward = np.array([np.sin(np.radians(bearing)), np.cos(np.radians(bearing))])
    near, far, right, up = eye.project(
        np.array([[*toward, 0], [*-toward, 0], [-toward[1], toward[0], 0.0], [0, 0, 1.0]])
    )
    assert near[2] < far[2] + 1e-9 and near[1] <= far[1] + 1e-9  # what is nearer to the eye is lower in the picture
    assert right[0] == pytest.approx(1.0) and abs(right[1]) < 1e-9
    assert up[0] == pytest.approx(0.0, abs=1e-9) and up[1] >= -1e-9
    assert (up**2).sum() == pytest.approx(stretch**2)


@pytest.mark.parametrize(
    "wrong", [{"above_deg": 0.0}, {"above_deg": 91.0}, {"exaggeration": 0.0}, {"exaggeration": np.inf}]
)
def test_an_eye_below_the_horizon_is_refused(wrong):
    with pytest.raises(DataError, match="must be above"):
        Viewpoint(**wrong)


@settings(max_examples=20)
@given(st.integers(0, 200))
def test_seen_from_straight_above_every_sample_shows_its_own_triangle(seed):
    ground = random_ground(seed)
    view = see(ground, Viewpoint(180.0, 90.0), 160, 120)
    left, right, bottom, top = view.extent
    rows, columns = view.triangle.shape
    origin = ground.vertices[:, :2].mean(axis=0)
    x, y = np.meshgrid(np.linspace(left, right, columns), np.linspace(bottom, top, rows))
    heights = ground.height(x + origin[0], y + origin[1])
    seen = (view.triangle >= 0) & (view.triangle < len(ground.triangles)) & np.isfinite(heights)
    assert seen.mean() > 0.3 and np.abs(heights - view.height)[seen].max() < 1e-6
    assert (np.isfinite(heights) == seen).mean() > 0.99


def test_a_wall_hides_what_is_behind_it_and_lines_on_it():
    x, y = (each.ravel() for each in np.meshgrid(np.arange(0.0, 21.0), np.arange(0.0, 21.0)))
    ridge = evrin.triangulate(np.column_stack((x, y, np.where(np.abs(y - 10.0) < 0.5, 12.0, 0.0))))
    behind, before = np.array([[2.0, 15, 0.0], [18, 15, 0.0]]), np.array([[2.0, 4, 0.0], [18, 4, 0.0]])
    view = see(ridge, Viewpoint(180.0, 20.0), 300, 200, [([behind], 2.0), ([before], 2.0)])
    assert (view.line == 1).sum() > 100 and (view.line == 0).sum() == 0
    seen = set(view.triangle.ravel().tolist())
    middles = ridge.vertices[ridge.triangles, 1].mean(axis=1)
    assert not any(13.0 < middles[t] < 17.0 for t in seen if 0 <= t < len(ridge.triangles))
    assert {t for t in seen if 0 <= t < len(ridge.triangles) and middles[t] < 6.0}
    from_north = see(ridge, Viewpoint(0.0, 20.0), 300, 200, [([behind], 2.0), ([before], 2.0)])
    assert (from_north.line == 0).sum() > 100 and (from_north.line == 1).sum() == 0
    assert view.base < 0.0 and len(ridge.triangles) in seen  # the cut round the edge


def test_the_view_at_real_coordinates_is_that_at_local_ones():
    moved = evrin.triangulate(random_ground(5).vertices + [*SITE, 200.0])
    here, there = (see(g, Viewpoint(225.0, 30.0, 2.0), 200, 150) for g in (random_ground(5), moved))
    assert ((here.triangle >= 0) == (there.triangle >= 0)).mean() > 0.99
    assert usual_exaggeration(moved) == usual_exaggeration(random_ground(5)) == 2.0


@pytest.mark.slow
def test_a_view_sheet_shows_direction_stretch_and_what_is_drawn():
    asked = {"from_deg": 200.0, "above_deg": 35.0, "exaggeration": 2.0}
    figure = view_of(GROUND, **asked, contours=GROUND.contours(1.0), triangles=True)
    output = " ".join(texts(figure))
    assert "seen from the south (200°), 35° above the horizon" in output and "heights stretched 2 times" in output
    labels = [entry.get_text() for entry in figure.legends[0].get_texts()]
    assert labels == ["triangle edge", "contour", "breakline", "edge of the surface"]
    picture = figure.axes[0].images[0].get_array()
    assert picture.shape[2] == 3 and len(np.unique(np.round(picture.reshape(-1, 3), 2), axis=0)) > 200
    plain = view_of(GROUND, exaggeration=1.0, shading="slope")
    assert "heights true to scale" in " ".join(texts(plain))
    assert [axes.get_xlabel() for axes in plain.axes if axes.get_xlabel()] == ["slope (%)"]
    assert [compass_point(bearing) for bearing in (0, 44, 359, 200)] == ["north", "north-east", "north", "south"]


@pytest.mark.parametrize(
    "wrong",
    [
        {"by": "height", "limits": (3.0, 1.0)},
        {"by": "slope", "limits": (5.0, 20.0), "unit": "one_in"},
        {"by": "aspect", "limits": (1.0,)},
        {"by": "relief", "within": (1.0, 2.0)},
        {"by": "height", "within": (2.0, 2.0)},
        {"by": "slope", "limits": tuple(range(1, 60))},
    ],
)
def test_shading_that_cannot_be_is_refused(wrong):
    with pytest.raises(DataError):
        Shades(**wrong)


def test_only_the_chosen_range_is_coloured():
    steep = GROUND.triangle_slopes
    axes = draw_axes()
    draw_shading(GROUND, Shades("slope", within=(5.0, 10.0)), axes)
    (drawn,) = [item for item in axes.collections if isinstance(item, PolyCollection)]
    assert len(drawn.get_paths()) == ((steep >= 0.05) & (steep <= 0.10)).sum()
    axes = draw_axes()
    draw_shading(GROUND, Shades("height", within=(60.0, 70.0)), axes)
    assert not axes.collections
    one_in = Shades("slope", (20.0, 5.0), unit="one_in", within=(4.0, 10.0))
    assert one_in.band_limits.tolist() == [0.05, 0.2] and one_in.chosen(np.array([0.05, 0.2, 0.3])).tolist() == [
        0,
        1,
        0,
    ]


def draw_axes():
    from matplotlib.figure import Figure

    axes = Figure().add_subplot()
    axes.set_xlim(0, 110)
    axes.set_ylim(0, 110)
    return axes


def test_bands_of_height_are_coloured_to_their_exact_limits():
    axes = draw_axes()
    mappable = shade(GROUND, Shades("height", (40.0, 42.0)), axes)
    fill = axes.collections[0]
    areas = [sum(abs(area(part)) for part in path.to_polygons()) for path in fill.get_paths()]
    # Polygons of one band may be cut out of each other; the exact areas come from the bands themselves.
    wanted = areas_of(GROUND, "height", (40.0, 42.0))["plan_area"].to_numpy()
    assert len(areas) == 3 and areas[-1] == pytest.approx(wanted[-1], rel=0.02)
    assert mappable.norm.boundaries.tolist() == [40.0, 42.0]


def area(ring):
    x, y = np.asarray(ring).T
    return 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


def test_a_banded_map_shows_the_areas_and_the_legend_its_unit():
    bands = areas_of(GROUND, "slope", (20, 10, 5), "one_in")
    shades = Shades("slope", (20.0, 10.0, 5.0), unit="one_in")
    arrows = flow_arrows(GROUND, 8.0)
    figure = map_sheet(GROUND, shading=shades, bands=bands, arrows=arrows, arrow_length=5.0, triangles=False)
    output = texts(figure)
    assert "flatter than 1:20" in output and "1:20 – 1:10" in output and "1:5 and steeper" in output and "all" in output
    assert f"{bands['plan_area'].sum():,.0f}" in output
    assert [axes.get_xlabel() for axes in figure.axes if axes.get_xlabel() not in ("", "easting")] == ["slope (1 in n)"]
    assert "falls this way" in [entry.get_text() for entry in figure.legends[0].get_texts()]
    assert band_names(areas_of(GROUND, "aspect"), Shades("aspect"))[0] == "N"
    assert slope_text(12.345, "percent") == "12.3" and slope_text(20.0, "one_in") == "1:20"
    whole = map_sheet(GROUND, shading=Shades("aspect"), bands=areas_of(GROUND, "aspect"))
    ticks = [t.get_text() for axes in whole.axes for t in axes.get_xticklabels()]
    assert {"N", "SE", "W"} <= set(ticks)


def test_control_far_away_does_not_shrink_the_map_of_the_site():
    xyz = np.vstack((GROUND.vertices, [[9000.0, 8000.0, 50.0]]))
    window = window_of_most(evrin.triangulate(xyz))
    assert window[2] < 120 and window[3] < 120
    assert window_of_most(evrin.triangulate([[0, 0, 1], [9, 0, 1], [0, 500, 1]])) == (0, 0, 9, 500)


def test_given_contours_are_drawn_over_the_surfaces_own():
    x = np.linspace(10.0, 100.0, 30)
    old = [
        SourceLine("a", np.column_stack((x, x * 0 + 50.0, x * 0 + 41.0))),
        SourceLine("b", np.column_stack((x, x, x * 0 + 90))),
    ]
    figure = contour_fit_sheet(GROUND, contour_fit(GROUND, old))
    output = " ".join(texts(figure))
    assert "Distance by level" in output and "41" in output and "all levels: mean" in output
    labels = [entry.get_text() for entry in figure.legends[0].get_texts()]
    assert labels[-1] == "given, but not in the surface"


def test_the_map_of_water_numbers_hollows_and_shows_how_paths_end():
    paths = water_paths(GROUND, GROUND.vertices[::9, :2])
    pits, peaks = hollows(GROUND, 0.2), summits(GROUND, 0.2)
    figure = drainage_sheet(GROUND, paths, pits, peaks)
    output = " ".join(texts(figure))
    assert "Hollows, the deepest first" in output and f"{pits['depth'].iloc[0]:.2f}" in output
    drawn = [c for c in figure.axes[0].collections if isinstance(c, LineCollection)]
    assert any(len(c.get_segments()) == len(paths) for c in drawn)
    ends = [entry.get_text() for entry in figure.legends[0].get_texts()]
    assert sum(int(text.split("(")[1][:-1]) for text in ends if "(" in text) == len(paths)
    empty = drainage_sheet(GROUND, [], pits[:0], peaks[:0])
    assert texts(empty).count("none") == 2


def test_the_trust_map_shows_distances_and_outlines_what_is_too_large():
    large = too_large(GROUND)
    large[:5] = True
    figure = trust_sheet(GROUND, trust(GROUND, 2000), large)
    output = " ".join(texts(figure))
    assert "usual distance between shots" in output and f"{int(large.sum()):,}" in output
    outlined = [c for c in figure.axes[0].collections if isinstance(c, PolyCollection)]
    assert len(outlined[0].get_paths()) == large.sum()


@pytest.mark.slow
def test_maps_views_bands_water_and_trust_at_the_command_line(run, tmp_path):
    words = ("--shading", "slope", "--unit", "degrees", "--bands", "2,5,10", "--arrows", "--no-triangles")
    run("map", "clean.toml", "-o", tmp_path / "m.png", *words, "--window", "4080,2840,4160,2900")
    run("map", "ground.xml", "-o", tmp_path / "a.png", "--shading", "aspect", "--interval", "0.5", "--smooth", "0.7")
    run(
        "view",
        "ground.xml",
        "-o",
        tmp_path / "v.png",
        "--from",
        "45",
        "--above",
        "50",
        "--triangles",
        "--interval",
        "1",
    )
    run("contours", "ground.xml", "-o", tmp_path / "c.png", "--interval", "0.5", "--base", "0.1", "--smooth", "1")
    done = run("contours", "clean.toml", "-o", tmp_path / "c.geojson", "--interval", "0.25", "--smooth", "1")
    assert "round depressions" in done.stderr
    over = run("contours", "clean.toml", "--over", tmp_path / "c.geojson", "-o", tmp_path / "o.png", "--json")
    assert '"largest"' in over.stdout and "all levels: mean" in over.stderr
    run("contours", "clean.toml", "--over", tmp_path / "c.geojson", "--tolerance", "0.0001", code=1)
    for name in "mavco":
        assert (tmp_path / f"{name}.png").read_bytes().startswith(b"\x89PNG")
    assert "slope area" in run("bands", "clean.toml").stdout
    assert '"falls": "NE"' in run("bands", "clean.toml", "--of", "aspect", "--json").stdout
    run("bands", "clean.toml", "--of", "height", "--bands", "41,42", "-o", tmp_path / "b.csv")
    assert (tmp_path / "b.csv").read_text().count("\n") == 4
    output = run("water", "clean.toml", "--at", "4100,2898", "-o", tmp_path / "w.png").stdout
    assert "Hollows" in output and "Summits" in output and "Level ground: 2 parts" in output and "pit" in output
    assert '"rows": []' in run("water", "ground.xml", "--json").stdout
    output = run("trust", "clean.toml", "-o", tmp_path / "t.png").stdout
    assert "farthest from any shot" in output and '"spacing"' in run("trust", "ground.xml", "--json").stdout
    assert "breakline edges" in run("figures", "clean.toml").stdout
    assert '"share_percent"' in run("figures", "ground.xml", "--json").stdout
