"""Spots that were drawn line by line: crosses, ticks, circles and squares are points at their centres."""

import ezdxf
import numpy as np
import pytest

from evrin.formats import look
from evrin.recipe import Recipe, draft

UNITS = {"m": (6, 1.0), "ft": (2, 0.3048), "mm": (4, 0.001)}


def strokes(*pairs):
    return lambda space, at, z, unit: [
        space.add_line((*(at + np.array(one)) / unit, z / unit), (*(at + np.array(other)) / unit, z / unit))
        for one, other in pairs
    ]


def square(space, at, z, unit):
    corners = [
        (*(at + np.array(corner)) / unit, z / unit) for corner in ((-0.3, -0.3), (0.3, -0.3), (0.3, 0.3), (-0.3, 0.3))
    ]
    space.add_polyline3d(corners, close=True)


SHAPES = {
    "cross": strokes(((-0.5, 0), (0.5, 0)), ((0, -0.5), (0, 0.5))),
    "diagonal cross": strokes(((-0.4, -0.4), (0.4, 0.4)), ((-0.4, 0.4), (0.4, -0.4))),
    "tick": strokes(((-0.4, -0.4), (0.4, 0.4))),
    "circle": lambda space, at, z, unit: space.add_circle((*at / unit, z / unit), 0.4 / unit),
    "square": square,
}


def ground(x, y):
    return 40.0 + 0.02 * x + 0.01 * y


def drawing(path, shape, units, *, numbers=True, at_height=True, count=60):
    """Draw spots with numbers beside, and a wall; return where the spots are, in metres."""
    code, unit = UNITS[units]
    document = ezdxf.new()
    document.units = code
    space = document.modelspace()
    places = np.random.default_rng(5).uniform(0.0, 300.0, (count, 2))
    for at in places:
        z = ground(*at)
        SHAPES[shape](space, at, z if at_height else 0.0, unit)
        if numbers:
            label = space.add_text(f"{z:.2f}", height=1.0 / unit)
            label.set_placement(tuple((at + (0.6, 0.3)) / unit))
    for k in range(20):
        ends = [(3.0 * k, 310.0), (3.0 * k + 3.0, 310.0)]
        space.add_line(*[(x / unit, y / unit, ground(x, y) / unit) for x, y in ends], dxfattribs={"layer": "wall"})
    document.saveas(path)
    return places


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize("shape", SHAPES)
def test_a_symbol_is_a_point_at_its_centre_and_at_its_height(tmp_path, shape, units):
    unit = UNITS[units][1]
    places = drawing(tmp_path / "plan.dxf", shape, units)
    contents = look(tmp_path / "plan.dxf")
    symbols = contents.points.take(contents.points.column("kind") == "symbol")
    found = symbols.xyz * unit
    assert len(found) == len(places) and len(contents.lines) == 20
    order, other = np.lexsort(found[:, 1::-1].T), np.lexsort(places[:, ::-1].T)
    assert np.abs(found[order, :2] - places[other]).max() < 2e-3
    assert np.abs(found[:, 2] - ground(*found[:, :2].T)).max() < 1e-3


@pytest.mark.parametrize("at_height", [True, False])
def test_a_draft_of_such_a_drawing_builds_the_ground(tmp_path, at_height):
    drawing(tmp_path / "plan.dxf", "cross", "m", at_height=at_height)
    (tmp_path / "site.toml").write_text(draft([tmp_path / "plan.dxf"], tmp_path / "site.toml").text)
    surface = Recipe.read(tmp_path / "site.toml").build().surface
    x, y, z = surface.vertices.T
    assert np.abs(z - ground(x, y)).max() < 0.006 and len(surface.vertices) >= 60
    assert not any(line.effect == "contour" for line in surface.lines)


def test_dashes_trees_letters_and_pieces_of_lines_stay_lines(tmp_path):
    document = ezdxf.new()
    document.units = 6
    space = document.modelspace()
    for k in range(60):
        space.add_line((2.0 * k, 0, 41), (2.0 * k + 1.2, 0, 41))
        bend = [np.sin((k + step) / 9.0) for step in (0, 1)]
        space.add_line((k, 10 + bend[0], 42), (k + 1, 10 + bend[1], 42))
    for k in range(30):
        space.add_circle((9.0 * k, 50, 0), 1.5)
        for column in range(5):
            x = 30.0 * k + 0.8 * column
            space.add_line((x, 70, 41), (x, 71, 41))
            space.add_line((x, 71, 41), (x + 0.4, 71, 41))
    document.saveas(tmp_path / "plan.dxf")
    contents = look(tmp_path / "plan.dxf")
    assert len(contents.points) == 0 and len(contents.lines) == 60 + 60 + 30 + 300


def test_few_of_a_kind_are_no_symbols(tmp_path):
    drawing(tmp_path / "plan.dxf", "cross", "m", count=4, numbers=False)
    assert len(look(tmp_path / "plan.dxf").lines) == 20 + 8
