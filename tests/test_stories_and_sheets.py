"""From files that a colleague sends to sheets at a scale, and what is out of date afterwards."""

import json
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import Recipe, RecipeDocument
from evrin.analysis import contour_labels
from evrin.analysis.along.profile_tables import table_together
from evrin.demo import stories
from evrin.draw import map_sheet
from evrin.draw.paper import paper
from evrin.draw.sheets.comparison_sheet import comparison_sheet
from evrin.draw.sheets.scaled_sheets import sheets_at_scale
from evrin.draw.sheets.sheet import PLAN_BOX
from evrin.recipe import draft


def drafted(folder, *names):
    path = folder / "site.toml"
    path.write_text(draft([folder / name for name in names], path).text, encoding="utf-8")
    return path


def test_bare_contours_in_pieces_become_the_hillside_and_reach_their_limit(tmp_path):
    stories.write_bare_contours(tmp_path)
    path = drafted(tmp_path, "bare-contours.dxf", "limit.geojson")
    document = RecipeDocument(path, may_be_faulty=True)
    assert "join = 0.05" in document.text
    with pytest.raises(evrin.RecipeError, match="ladder 1"):
        document.recipe()
    ladder = [{"along": [[4090, 2900], [4090, 3000]], "start": 43.5, "step": 0.5}]
    document.put("source", 1, {"ladder": ladder})
    document.put("boundary", 1, {"reach": 25.0})
    ground = document.recipe().build().surface
    assert ground.plan_area == pytest.approx(58.0 * 108.0)
    places = np.random.default_rng(3).uniform((4045, 2930), (4135, 2955), (200, 2))
    away = ground.height(*places.T) - stories.hillside(*places.T)
    assert np.abs(away).max() < 0.12 and np.sqrt(np.mean(away**2)) < 0.03


def test_a_road_an_island_and_points_at_zero_build_from_their_drafts(tmp_path):
    for write in (stories.write_road, stories.write_floor, stories.write_islands):
        write(tmp_path)
    road = Recipe.read(drafted(tmp_path, "road.csv")).build()
    assert {line.name for line in road.surface.lines} == {"KERBL1", "CHANL1", "CHANR2", "KERBR2", "BLDG9"}
    assert np.isnan(road.surface.height(4036.0, 2956.5)) and not road.open_findings
    floor = Recipe.read(drafted(tmp_path, "floor.dxf")).build().surface
    assert np.abs(floor.vertices[:, 2] - stories.hillside(*floor.vertices[:, :2].T)).max() <= 0.0051
    path = drafted(tmp_path, "shots.csv", "islands.geojson")
    document = RecipeDocument(path)
    document.switch("boundary", 1, True, "surveyed on foot")
    islands = document.recipe().build().surface
    ellipses = sum(12.0 * east * north * np.sin(np.pi / 12) for east, north in ((16, 9), (14, 12), (15, 8)))
    assert islands.plan_area == pytest.approx(ellipses, rel=1e-6) and len(islands.rim()) == 3


def test_a_surface_is_handed_back_with_its_name_lines_and_description(tmp_path):
    ground = evrin.triangulate(
        [[x, y, 40 + 0.1 * x] for x in range(6) for y in range(5)],
        breaklines=[[(1, 1, 40.1), (4, 1, 40.4)]],
        name="Weir",
    )
    evrin.write(tmp_path / "theirs.xml", replace(ground, description="as of May", colour="#336699"))
    back = Recipe.read(drafted(tmp_path, "theirs.xml")).build().surface
    assert (back.name, back.description, back.colour) == ("Weir", "as of May", "#336699")
    found = evrin.compare(evrin.read_surface(tmp_path / "theirs.xml"), back)
    assert dict(found.figures())["breaklines and contours"] == "1 and 1" and found.difference.rms == 0.0
    assert found.tally.empty and found.lines == []


@given(st.floats(50.0, 3000.0), st.floats(50.0, 3000.0), st.sampled_from([200.0, 500.0, 1000.0]), st.booleans())
def test_sheets_at_a_scale_cover_the_ground_at_that_scale(wide, high, scale, in_feet):
    unit = "ft" if in_feet else "m"
    ground = evrin.triangulate([[0, 0, 1], [wide, 0, 1], [wide, high, 2], [0, high, 2]], units=unit)
    with paper("A3", 50) as sheet:
        try:
            sheets = sheets_at_scale(ground, scale)
        except evrin.DataError as error:
            assert "at most 200" in str(error)
            return
        inches = PLAN_BOX[2] * sheet.width
    metres = inches * 0.0254 * scale
    windows = np.array(sheets.windows)
    assert np.allclose(windows[:, 2] - windows[:, 0], metres / (0.3048 if in_feet else 1.0))
    for x, y in ((0, 0), (wide, 0), (wide, high), (0, high), (wide / 2, high / 2)):
        assert ((windows[:, :2] <= (x + 1e-6, y + 1e-6)).all(1) & (windows[:, 2:] >= (x - 1e-6, y - 1e-6)).all(1)).any()


@pytest.mark.slow
def test_a_plan_at_a_scale_is_written_sheet_by_sheet_with_an_overview(run, tmp_path, demo):
    run("map", "clean.toml", "-o", tmp_path / "plan.png", "--scale", "500", "--size", "A4", "--no-triangles")
    assert sorted(path.name for path in tmp_path.iterdir()) == [
        *(f"plan-{k}.png" for k in range(1, 5)),
        "plan-overview.png",
    ]
    run("map", "clean.toml", "-o", tmp_path / "plan.pdf", "--scale", "500", "--no-triangles")
    assert (tmp_path / "plan.pdf").read_bytes().startswith(b"%PDF")
    for scale in ("0", "-1", "1e-8", "1e300", "nan"):
        assert "scale" in run("map", "clean.toml", "-o", tmp_path / "x.png", f"--scale={scale}", code=2).stderr or scale
        assert not (tmp_path / "x.png").exists()


def test_status_names_what_is_out_of_date_and_builds_nothing(run, tmp_path):
    stories.write_islands(tmp_path)
    path = drafted(tmp_path, "shots.csv")
    first = json.loads(run("status", path, "--json", code=1, folder=tmp_path).stdout)
    assert first["rows"] == [{"what": "site.toml", "state": "never built here"}] and not first["up_to_date"]
    run("build", path, "-o", "a.xml", "-o", "b.obj", folder=tmp_path)
    assert json.loads(run("status", path, "--json", folder=tmp_path).stdout)["up_to_date"]
    (tmp_path / "b.obj").unlink()
    (tmp_path / "shots.csv").write_text((tmp_path / "shots.csv").read_text() + "900,2750,4100,41.0,GRAVEL\n")
    shown = run("status", path, folder=tmp_path, code=1).stdout
    for row in ("site.toml  changed since", "shots.csv  changed since", "a.xml      out of date", "b.obj      missing"):
        assert row in shown
    (tmp_path / "a.xml").write_text("mine")
    assert "not as written" in run("status", path, folder=tmp_path, code=1).stdout


def test_labels_are_as_high_and_as_far_apart_as_asked_and_fill_where_no_index_contour_is():
    ground = evrin.triangulate([[x, y, 40 + 0.02 * x] for x in range(0, 101, 10) for y in range(0, 101, 10)])
    lines = ground.contours(0.25, index=5.0)
    assert len(contour_labels(lines, 30.0, 1.0)) == 0 or lines.is_index.any()
    labels = contour_labels(lines, 30.0, 1.0, between=True)
    apart = np.hypot(*(labels.places[:, None] - labels.places[None]).transpose(2, 0, 1))
    between = ~lines.is_index[lines.level_of[labels.line_of]]
    assert between.any() and (apart + 1e9 * np.eye(len(apart)))[between].min() >= 30.0


def test_the_heights_of_several_surfaces_are_in_one_table_at_the_places_of_all():
    flat = evrin.triangulate([[0, 0, 1], [10, 0, 1], [10, 10, 1], [0, 10, 1]], name="flat")
    roof = evrin.triangulate([[0, 0, 1], [4, 0, 3], [4, 10, 3], [0, 10, 1], [10, 0, 0], [10, 10, 0]], name="roof")
    line = [(0, 5), (10, 5)]
    table = table_together({"flat": flat.profile(line), "roof": roof.profile(line)}, changes=1.0)
    assert table["chainage"].tolist() == [0.0, 4.0, 10.0]
    assert table["roof above flat"].round(9).tolist() == [0.0, 2.0, -1.0]


def test_what_differs_is_written_above_the_title_block_however_much_it_is():
    ground = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    found = evrin.compare(ground, ground)
    sides = [(ground, [], "before"), (ground, [], "after")]
    lines = [f"+line {k}" for k in range(60)]
    figure = comparison_sheet(sides, found.difference, found.figures(), lines, name="field")
    written = [text for text in figure.texts if text.get_text().startswith(("+line", "… and"))]
    assert len(written) > 5 and min(text.get_position()[1] for text in written) > 0.11


@pytest.mark.slow
def test_a_title_block_holds_any_number_of_facts_beside_the_name():
    ground = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="a long name " * 9)
    for count in range(14):
        figure = map_sheet(ground, facts=[f"fact {k} of the survey" for k in range(count)])
        shown = "\n".join(text.get_text() for text in figure.texts)
        assert all(f"fact {k} of" in shown for k in range(count))
