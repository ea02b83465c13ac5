"""Heaps of any shape, on slopes, against walls and touching: found from any place on them, and true to their ±."""

import itertools
import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import DataError, GeometryError
from evrin.analysis import find_toe
from sites import lay_out


def away_from(line, x, y):
    """How far places are from a line of straight pieces."""
    best = np.full(np.shape(x), np.inf)
    for (ax, ay), (bx, by) in itertools.pairwise(line):
        length = (bx - ax) ** 2 + (by - ay) ** 2
        part = np.clip(((x - ax) * (bx - ax) + (y - ay) * (by - ay)) / max(length, 1e-12), 0.0, 1.0)
        best = np.minimum(best, np.hypot(x - ax - part * (bx - ax), y - ay - part * (by - ay)))
    return best


SHAPES = {
    "cone": [(0, 0), (0, 0)],
    "ridge": [(-12, 0), (12, 0)],
    "bent": [(-12, 0), (0, 0), (0, 14)],
    "U": [(12, 9), (-12, 9), (-12, -9), (12, -9)],
    "crescent": [(14 * np.cos(t) - 14, 14 * np.sin(t)) for t in np.linspace(-1.2, 1.2, 9)],
}


def heap_of(shape, height, slope, x, y, top=np.inf):
    return np.minimum(np.maximum(height - slope * away_from(SHAPES[shape], x, y), 0.0), top)


def truth_of(above, half=40.0):
    nodes = np.linspace(-half, half, 1601)
    x, y = np.meshgrid(nodes, nodes)
    return float(above(x, y).sum()) * (nodes[1] - nodes[0]) ** 2


def surveyed(above, seed=0, count=6000, half=32.0, lean=(0.0, 0.0), noise=0.0, unit=1.0, keep=None):
    """Shots at random on a heap and the ground round it; in another unit by its size in metres."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(-half, half, (2, count))
    if keep is not None:
        x, y = x[keep(x, y)], y[keep(x, y)]
    z = 50.0 + lean[0] * x + lean[1] * y + above(x, y) + rng.normal(0.0, noise, len(x))
    return evrin.triangulate(np.column_stack((x, y, z)) / unit, units={1.0: "m", 0.3048: "ft"}[unit], name="heap")


@pytest.mark.parametrize("unit", [1.0, 0.3048])
@pytest.mark.parametrize("shape", SHAPES)
def test_a_heap_of_any_shape_is_measured_from_any_place_on_it(shape, unit):
    def above(x, y):
        return heap_of(shape, 4.0, 1 / 1.5, x, y)

    truth = truth_of(above) / unit**3
    ground = surveyed(above, lean=(0.06, -0.04), noise=0.02, unit=unit)
    line = np.array(SHAPES[shape])
    for place in (line[0] + 0.5, line[-1] - 0.5, line.mean(axis=0) if shape in ("cone", "ridge") else line[1]):
        found = ground.heap_volume(place / unit)
        assert abs(found.volume - truth) <= found.within_95 < 0.12 * truth
        assert found.doubts == []
        off = away_from(SHAPES[shape], *(found.toe[:, :2].T * unit)) - 6.0
        assert -0.5 < off.min() < off.mean() < 1.0


@given(st.integers(0, 10**6), st.sampled_from([0.4, 0.55, 0.8]), st.sampled_from([0.0, 0.1, 0.2]), st.floats(0.0, 6.28))
def test_a_flat_topped_heap_on_a_slope_is_within_its_doubt(seed, slope, lean, turn):
    def above(x, y):
        return heap_of("ridge", 5.0, slope, x, y, top=3.0)

    ground = surveyed(above, seed, count=3000, lean=(lean * np.cos(turn), lean * np.sin(turn)), noise=0.01)
    truth = truth_of(above)
    found = ground.heap_volume((-8.0, 1.0))
    assert abs(found.volume - truth) <= found.within_95 < 0.2 * truth


def test_heaps_that_touch_are_said_and_measured_together_or_apart():
    def cones(x, y):
        return np.maximum(4.0 - 0.6 * np.minimum(np.hypot(x - 5.5, y), np.hypot(x + 5.5, y)), 0.0)

    ground = surveyed(cones)
    whole, east = ground.heap_volume((6.0, 0.0)), ground.heap_volume((6.0, 0.0), apart=True)
    truth = truth_of(cones)
    assert [doubt.kind for doubt in whole.doubts] == ["touching"] and not whole.is_apart and east.is_apart
    assert abs(whole.volume - truth) <= whole.within_95 and abs(east.volume - truth / 2) <= east.within_95
    assert sum(part.volume for part in whole.parts) == pytest.approx(whole.volume, rel=0.01)
    assert east.outline[:, 0].min() > -0.6 and east.volume == pytest.approx(east.parts[0].volume)
    with pytest.raises(DataError, match="told apart from a place"):
        ground.heap_volume(whole.toe, apart=True)


@pytest.mark.parametrize("is_edge", [True, False])
def test_a_heap_against_a_wall_ends_there_and_its_ground_goes_on_below_it(is_edge):
    """The wall is where the survey ends, or the foot of a terrace half a metre above the heap."""

    def above(x, y):
        return np.where(x < 2.0, heap_of("cone", 4.0, 0.5, x, y), 0.0)

    along = np.arange(-32.0, 32.5, 1.0)
    foot = np.column_stack((np.full(65, 1.99), along, 50.0 + above(np.full(65, 1.99), along)))
    rng = np.random.default_rng(3)
    x, y = rng.uniform(-32, 32, (2, 6000))
    stays = (x < 1.9) if is_edge else (np.abs(x - 2.0) > 0.1)
    shots = np.column_stack((x, y, 50.0 + np.where(x < 2.0, above(x, y), 4.5)))[stays]
    top = np.column_stack((np.full(65, 2.01), along, np.full(65, 54.5)))
    ground = evrin.triangulate(np.vstack((shots, foot)) if is_edge else shots, [foot] if is_edge else [foot, top])
    found = ground.heap_volume((0.5, 0.0))
    truth = truth_of(above)
    assert abs(found.volume - truth) <= found.within_95 < 0.12 * truth
    assert found.toe[:, 0].max() < 2.02 and [doubt.kind for doubt in found.doubts] == ["edge"]


def test_a_heap_beside_another_is_measured_alone():
    def above(x, y):
        other = np.maximum(3.0 - 0.5 * np.hypot(x - 16.0, y), 0.0)
        return np.maximum(heap_of("cone", 4.0, 0.5, x, y), other)

    found = surveyed(above).heap_volume((1.0, -2.0))
    truth = np.pi * 8.0**2 * 4.0 / 3.0
    assert abs(found.volume - truth) <= found.within_95 and found.toe[:, 0].max() < 10.2


def test_what_is_no_heap_is_refused_and_a_gentle_one_is_said():
    rng = np.random.default_rng(5)
    rough = surveyed(lambda x, y: 0.3 * np.sin(x / 3.0) * np.cos(y / 4.0))
    with pytest.raises(GeometryError, match=r"no toe was found|no heap"):
        rough.heap_volume((20.0, 20.0))
    bell = surveyed(lambda x, y: 5.0 * np.exp(-(x * x + y * y) / 40.0), noise=0.03)
    found = bell.heap_volume(rng.uniform(-1, 1, 2))
    truth = 5.0 * 40.0 * np.pi
    assert abs(found.volume - truth) <= found.within_95 and "other toe" in [doubt.kind for doubt in found.doubts]
    with pytest.raises(GeometryError, match="within 3"):
        surveyed(lambda x, y: heap_of("cone", 4.0, 0.5, x, y)).heap_volume((0.0, 0.0), reach=3.0)


def test_a_toe_drawn_on_the_flank_is_a_finding():
    ground = surveyed(lambda x, y: heap_of("cone", 4.0, 0.5, x, y))
    turn = np.linspace(0.0, 2.0 * np.pi, 40, endpoint=False)
    circle = np.column_stack((np.cos(turn), np.sin(turn)))
    (doubt,) = ground.heap_volume(5.0 * circle).doubts
    assert doubt.kind == "drawn" and ground.heap_volume(8.4 * circle).doubts == []
    assert len(find_toe(ground, (1.0, 1.0))) > 12


def test_a_heap_of_a_recipe_and_of_the_command_have_one_figure_and_its_findings(tmp_path, run):
    def cones(x, y):
        return np.maximum(4.0 - 0.6 * np.minimum(np.hypot(x - 5.5, y), np.hypot(x + 5.5, y)), 0.0)

    shots = surveyed(cones, count=2500).vertices + (100.0, 100.0, 0.0)
    field = "".join(f"{n},{y:.4f},{x:.4f},{z:.4f},S\n" for n, (x, y, z) in enumerate(shots, 1))
    path = lay_out(tmp_path, '[[volume]]\nname = "silt"\nheap = [105.0, 100.0]\napart = true\n', field=field)
    build = evrin.Recipe.read(path).build()
    ((row,),) = (volume.rows for volume in build.volumes)
    assert [finding.message[:24] for finding in build.findings if finding.code == "heaps-touch"] == [
        "silt: 2 heaps touch, of "
    ]
    answer = json.loads(run("volume", str(path), "--heap", "105,100", "--apart", "--json").stdout)
    assert answer["rows"][0]["net"] == row["net"] and len(answer["touching"]) == 2
    assert [doubt["kind"] for doubt in answer["doubts"]] == ["touching"]
    assert row["net_95"] >= row["toe_spread"] and abs(row["net"] - truth_of(cones) / 2) <= row["net_95"]
    again = evrin.Recipe.read(path).build()
    assert [finding.code for finding in again.findings] == [finding.code for finding in build.findings]
