"""What a draft proposes for files as they come: each builds at once within tolerance of the truth."""

import ezdxf
import numpy as np
import pyogrio
import pytest
import shapely

import evrin
from evrin.recipe import Recipe, draft


def truth(x, y):
    return 60.0 + 0.05 * x + 4.0 * np.exp(-(((x - 150) / 60) ** 2 + ((y - 100) / 50) ** 2))


def drafted(folder):
    """Draft a recipe from the files of a folder; return what was made and what it builds to."""
    made = draft([folder / "in"], folder / "site.toml")
    (folder / "site.toml").write_text(made.text)
    return made, None if made.needs else Recipe.read(folder / "site.toml").build()


@pytest.fixture
def put(tmp_path):
    (tmp_path / "in").mkdir()
    return tmp_path / "in"


def shots(path, count=150, seed=3, code="GRASS", more=()):
    xy = np.random.default_rng(seed).uniform((0, 0), (300, 200), (count, 2))
    rows = [f"{k},{x:.3f},{y:.3f},{truth(x, y):.3f},{code}" for k, (x, y) in enumerate(xy, 1)]
    path.write_text("number,easting,northing,height,code\n" + "\n".join([*rows, *more]))
    return xy


def rings(levels=range(61, 75), step=0.5):
    """Contours of the truth as places (k, 2), by level."""
    x, y = np.meshgrid(np.linspace(0, 300, 121), np.linspace(0, 200, 81))
    grid = np.column_stack((x.ravel(), y.ravel(), truth(x, y).ravel()))
    return [(line.level, line.points) for line in evrin.triangulate(grid).contours(1.0) if len(line.points) > 8]


def off(build, places):
    found = build.surface.height(*places.T)
    return float(np.nanmax(np.abs(found - truth(*places.T))))


INSIDE = np.random.default_rng(8).uniform((30, 30), (270, 170), (80, 2))


def drawing(path, fill):
    document = ezdxf.new()
    document.units = 6
    fill(document.modelspace())
    document.saveas(path)


@pytest.mark.parametrize("layer", ["0", "A-27", "TOPO_MISC"])
def test_bare_contours_are_known_by_their_shape_whatever_their_layer_is_called(tmp_path, put, layer):
    def fill(space):
        for _, places in rings():
            space.add_lwpolyline(places.tolist(), dxfattribs={"layer": layer})
        for k in range(4):
            space.add_lwpolyline([(10 + 60 * k, 5), (40 + 60 * k, 9)], dxfattribs={"layer": "fence"})

    drawing(put / "plan.dxf", fill)
    made, _ = drafted(tmp_path)
    (guess,) = [each for each in made.guesses if each.keys.get("role") == "contours"]
    assert "ladder" in guess.keys and any("by their shape" in why for why in guess.why) and made.needs


def test_few_spots_do_not_switch_contours_off_and_a_level_attribute_gives_their_heights(tmp_path, put):
    shots(put / "spots.csv", 5)
    levels, lines = zip(*rings(), strict=True)
    pyogrio.raw.write(
        put / "c.gpkg",
        shapely.to_wkb(np.array([shapely.LineString(places) for places in lines], object)),
        field_data=[np.array(levels)],
        fields=np.array(["elev"], object),
        geometry_type="LineString",
        crs="EPSG:25832",
        driver="GPKG",
    )
    made, build = drafted(tmp_path)
    assert all(guess.is_on for guess in made.guesses if guess.table == "source")
    assert off(build, INSIDE) < 0.8


def test_lines_at_zero_through_shots_take_their_heights_from_them(tmp_path, put):
    xy = shots(put / "shots.csv")
    kerb = xy[np.argsort(xy[:, 0])[::10]]
    drawing(put / "lines.dxf", lambda space: space.add_lwpolyline(kerb.tolist(), dxfattribs={"layer": "kerb"}))
    made, build = drafted(tmp_path)
    (guess,) = [each for each in made.guesses if each.keys.get("role") == "breaklines"]
    assert guess.is_on and guess.keys["heights"] == "shots" and off(build, INSIDE) < 1.0


def test_a_ring_at_an_absurd_height_is_a_boundary_and_a_limit_is_found_among_the_lines(tmp_path, put):
    shots(put / "shots.csv")
    ring = [(5, 5, 999), (295, 5, 999), (295, 195, 999), (5, 195, 999)]
    drawing(put / "outline.dxf", lambda space: space.add_polyline3d(ring, close=True, dxfattribs={"layer": "x"}))
    made, build = drafted(tmp_path)
    (guess,) = [each for each in made.guesses if each.table == "boundary"]
    assert guess.keys["effect"] == "keep" and off(build, INSIDE) < 1.0 and build.surface.vertices[:, 2].max() < 80

    def mixed(space):
        space.add_lwpolyline([(2, 2), (298, 2), (298, 198), (2, 198)], close=True)
        for k in range(5):
            space.add_lwpolyline([(20, 20 + 30 * k), (200, 30 + 30 * k)])

    drawing(put / "outline.dxf", mixed)
    made, build = drafted(tmp_path)
    (guess,) = [each for each in made.guesses if each.table == "boundary"]
    assert len(guess.keys["keep"]["names"]) == 1 and off(build, INSIDE) < 1.0


def test_ponds_with_a_level_attribute_are_held_at_it(tmp_path, put):
    shots(put / "shots.csv", 400)
    pond = shapely.Point(80, 60).buffer(15)
    pyogrio.raw.write(
        put / "ponds.gpkg",
        shapely.to_wkb(np.array([pond], object)),
        field_data=[np.array([62.5])],
        fields=np.array(["level"], object),
        geometry_type="Polygon",
        crs="EPSG:25832",
        driver="GPKG",
    )
    made, build = drafted(tmp_path)
    (guess,) = [each for each in made.guesses if each.table == "flat"]
    assert guess.keys["attribute"] == "level" and float(build.surface.height(80.0, 60.0)) == 62.5


def test_control_is_left_out_by_its_code_and_raw_points_get_a_trim(tmp_path, put):
    # A bent strip of ground: triangles would bridge what is inside of the bend.
    rng = np.random.default_rng(2)
    along = rng.uniform(0.0, np.pi, 400)
    radius = 100.0 + rng.uniform(-12.0, 12.0, 400)
    rows = [(150 + r * np.cos(a), 40 + r * np.sin(a)) for a, r in zip(along, radius, strict=True)]
    lines = [f"{k},{x:.3f},{y:.3f},{truth(x, y):.3f},LEVEE" for k, (x, y) in enumerate(rows)]
    lines += ["S1,150.0,140.0,75.0,CTRL1", "S2,60.0,60.0,75.2,CTRL2"]
    (put / "shots.csv").write_text("number,easting,northing,height,code\n" + "\n".join(lines))
    made, build = drafted(tmp_path)
    assert 'leave_out = { codes = ["CTRL*"] }' in made.text and [g.table for g in made.guesses][-1] == "trim"
    assert np.isnan(build.surface.height(150.0, 60.0)) and build.surface.vertices[:, 2].max() < 74.0


def test_a_file_that_says_it_is_a_design_makes_a_proposed_surface(tmp_path, put):
    xy = np.random.default_rng(1).uniform((0, 0), (300, 200), (60, 2))
    evrin.write(put / "road-design.xml", evrin.triangulate(np.column_stack((xy, truth(*xy.T)))))
    made, build = drafted(tmp_path)
    assert 'kind = "proposed"' in made.text and build.surface.kind == "proposed"
