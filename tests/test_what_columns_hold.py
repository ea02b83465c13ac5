"""Each column of a table or a report holds what its head states, by value."""

import numpy as np
import pytest

import evrin
from evrin import Recipe
from evrin.analysis import Factors, figures_by_source
from evrin.analysis.quality.statistics import surface_figures
from evrin.analysis.terrain.slopes import aspect_bands
from evrin.base.wording import signed
from evrin.making import Stripped
from evrin.report.report_tables import checked_of, results_in
from evrin.report.surface_report import report_page
from evrin.surface import Surface
from sites import BASE, grid_field, lay_out

SQUARE = np.array([[0.0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0], [4, 3, 0]])
# Above the base east of a third of its width, below it west of that.
TILTED = SQUARE + np.column_stack((np.zeros((5, 2)), 0.3 * SQUARE[:, 0] - 1.0))


def cut_and_fill(top_heights, base_heights):
    top, base = (evrin.triangulate(np.column_stack((SQUARE[:, :2], z))) for z in (top_heights, base_heights))
    total = top.volume_above(base).total
    return np.array([total.cut, total.fill, total.net])


def test_the_uncertainty_of_cut_and_of_fill_is_what_each_height_moves_of_it():
    top, base = evrin.triangulate(TILTED), evrin.triangulate(SQUARE)
    found = top.volume_above(base, spread=0.03, base_spread=0.02, shared_spread=0.01).total
    variance = np.zeros(3)
    for of_top, spread in ((True, 0.03), (False, 0.02)):
        for row in range(5):
            moved = [TILTED[:, 2].copy(), SQUARE[:, 2].copy()]
            parts = []
            for step in (1e-4, -1e-4):
                changed = [z.copy() for z in moved]
                changed[0 if of_top else 1][row] += step
                parts.append(cut_and_fill(*changed))
            variance += ((parts[0] - parts[1]) / 2e-4 * spread) ** 2
    shots = [found.cut_spread.shots, found.fill_spread.shots, found.net_spread.shots]
    assert shots == pytest.approx(np.sqrt(variance).tolist(), rel=1e-3) and shots[0] < 0.8 * shots[1]
    shared = [found.cut_spread.shared, found.fill_spread.shared, found.net_spread.shared]
    assert shared == pytest.approx([np.sqrt(2.0) * 0.01 * area for area in (100 / 3, 200 / 3, 100)])
    turned = base.volume_above(top, spread=0.02, base_spread=0.03, shared_spread=0.01).total
    assert (turned.cut_spread, turned.fill_spread) == (found.fill_spread, found.cut_spread)
    in_feet = [Surface.from_arrays(s.vertices, s.triangles, units="ft") for s in (top, base)]
    usual, feet = top.volume_above(base).total.net_spread, in_feet[0].volume_above(in_feet[1]).total.net_spread
    assert feet.shots == pytest.approx(usual.shots / 0.3048) and feet.shared == pytest.approx(usual.shared / 0.3048)


def test_factors_make_loose_needed_and_masses_of_cut_and_fill():
    found = evrin.triangulate(TILTED).volume_above(evrin.triangulate(SQUARE), factors=Factors(1.3, 1.15, 1.8))
    (row,) = found.table.to_dict("records")
    cut, fill = found.total.cut, found.total.fill
    assert (cut, fill) == pytest.approx((50 / 3, 200 / 3))
    columns = ("cut_loose", "fill_needed", "cut_mass", "fill_mass")
    assert [row[name] for name in columns] == pytest.approx([1.3 * cut, 1.15 * fill, 1.8 * cut, 1.8 * 1.15 * fill])


def test_what_is_stripped_is_taken_off_the_base_whichever_of_the_two_is_walked_first():
    for level in (50.0, 52.0):
        low, high = (evrin.triangulate(SQUARE + (0.0, 0.0, z)) for z in (level, level + 2.0))
        stripped = [Stripped("topsoil", [SQUARE[:4, :2] * 0.5 + 2.0], 0.3)]
        filled, cut = high.volume_above(low, stripped=stripped).total, low.volume_above(high, stripped=stripped).total
        assert (filled.fill, filled.cut) == pytest.approx((200.0 + 0.3 * 25.0, 0.0))
        assert (cut.fill, cut.cut) == pytest.approx((0.0, 200.0 - 0.3 * 25.0))


VOLUME = '[[volume]]\nname = "over"\nlevel = 40.1\nwithin = "ring.csv"\nallow_uncovered = true\nspread = 0.05\n'
RING = "line,x,y\nr,4003,2803\nr,4031,2803\nr,4031,2821\nr,4003,2821\nr,4003,2803\n"
CHECKED = '[[check_points]]\nfile = "c.csv"\ncolumns = "PNEZ"\ntolerance = 0.05\n'
SHOTS = "1,2805,4005,40.20\n2,2815,4011,40.02\n3,2811,4016,40.19\n4,2900,4100,40.0\n"


@pytest.fixture(scope="module")
def build(tmp_path_factory):
    base = BASE.replace('"Test field"', "\"<b>Test</b> & 'field'\"")
    field = grid_field() + "99,2808.2,4008.3,49.9,<i>X</i>\n"
    folder = tmp_path_factory.mktemp("columns")
    return Recipe.read(lay_out(folder, VOLUME + CHECKED, field=field, base=base, ring__csv=RING, c__csv=SHOTS)).build()


def test_the_reports_table_of_volumes_holds_each_figure_under_its_head(build):
    (table,) = results_in("volumes", build)
    (cells,) = [dict(zip(table.heads, row, strict=True)) for row in table.rows]
    (row,) = build.volumes[0].rows
    uncovered = row["only_base"] + row["only_top"] + row["neither"]
    expected = {
        "cut": row["cut"],
        "fill": row["fill"],
        "net": row["net"],
        "± 95 %": row["net_95"],
        "by shots": row["net_sd_shots"],
        "shared": row["net_sd_shared"],
        "no change m²": row["no_change_area"],
        "uncovered m²": uncovered,
    }
    assert {head: cells[head] for head in expected} == {head: f"{value:,.3f}" for head, value in expected.items()}
    assert len({cells[head] for head in expected}) == len(expected) and "over" in table.title
    # The ring reaches beyond the last shots, at 4025.
    assert uncovered == pytest.approx(6 * 18, rel=0.05)


def test_the_reports_table_of_check_points_holds_each_figure_under_its_head(build):
    ((_, summary, table),) = checked_of(build)
    cells = dict(summary.rows)
    away = np.array([float(build.surface.height(x, y)) for x, y in ((4005, 2805), (4011, 2815), (4016, 2811))])
    away -= (40.20, 40.02, 40.19)
    rmse = float(np.sqrt((away**2).mean()))
    assert cells["mean"] == signed(away.mean()) and cells["largest"].endswith(" at 1")
    assert cells["standard deviation"] == f"{away.std(ddof=1):.3f}" and cells["RMSE"] == f"{rmse:.3f}"
    assert cells["95 %: 1.96 RMSE"] == f"{1.96 * rmse:.3f}" and cells["off the surface"] == "1"
    beyond = int((np.abs(away) > 0.05).sum())
    assert cells["tolerance 0.05"] == f"failed: {beyond} beyond" and beyond >= 2
    assert {"easting", "northing", "deviation"} <= set(table.heads)


@pytest.mark.slow
def test_what_files_and_recipes_call_things_is_text_in_the_report_never_markup(build):
    assert any("<i>X</i>" in shot for finding in build.findings for shot in finding.shots)
    page = report_page(build)
    assert "<b>Test</b>" not in page and "<i>X</i>" not in page
    assert "&lt;b&gt;Test&lt;/b&gt; &amp; " in page and "&lt;i&gt;X&lt;/i&gt;" in page


@pytest.mark.parametrize("eighth", range(8))
@pytest.mark.parametrize("off", [-22.0, 0.0, 22.0])
def test_ground_falls_to_the_eighth_of_the_compass_in_which_it_falls(eighth, off):
    bearing = np.radians(45.0 * eighth + off)
    heights = -0.5 * (SQUARE[:, 0] * np.sin(bearing) + SQUARE[:, 1] * np.cos(bearing))
    bands = aspect_bands(evrin.triangulate(np.column_stack((SQUARE[:, :2], heights)))).set_index("falls")
    name = ("N", "NE", "E", "SE", "S", "SW", "W", "NW")[eighth]
    assert bands["plan_area"][name] == pytest.approx(100.0) and bands["plan_area"].sum() == pytest.approx(100.0)
    assert bands["slope_area"][name] == pytest.approx(100.0 * np.sqrt(1.25))


def test_the_figures_of_a_surface_are_those_of_its_ground_not_of_its_triangles():
    places = np.array([[0.0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1], [1, 1, 4]])
    surface = evrin.triangulate(places)
    figures = surface_figures(surface)
    assert figures["mean_height"] == pytest.approx(surface.volume_above(0.0).total.net / 64.0)
    assert figures["rim_length"] == pytest.approx(32.0) and figures["highest"] == 4.0
    (row,) = figures_by_source(surface).to_dict("records")
    assert row["plan_area"] == pytest.approx(64.0) and row["share_percent"] == pytest.approx(100.0)


def test_a_profile_names_where_it_leaves_the_surface_and_comes_upon_it():
    surface = evrin.triangulate(SQUARE, boundaries=[SQUARE[:4, :2], [(3, 3), (7, 3), (7, 7), (3, 7)]])
    along = surface.profile([(0, 5), (10, 5)])
    chainages, kinds = along.changes()
    assert dict(zip(chainages.tolist(), kinds, strict=True)) == {0.0: "start", 3.0: "off", 7.0: "on", 10.0: "end"}
    assert np.isnan(along.height([-0.5, 5.0, 10.5])).all() and along.height([1.0, 9.0]).tolist() == [0.0, 0.0]
