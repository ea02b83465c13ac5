"""Layers from boreholes: held in order everywhere, ended half way, and volumes that add up to the whole."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose

import evrin
from evrin.formats import read_boreholes
from evrin.making import Borehole, Boreholes, layers_under
from evrin.surface.frame import Frame

MATERIALS = ("made ground", "clay", "sand", "gravel")


def rough(seed, size=60.0):
    """Ground of a square and what is in it."""
    rng = np.random.default_rng(seed)
    xy = np.vstack(([[0, 0], [size, 0], [size, size], [0, size]], rng.uniform(0.0, size, (60, 2))))
    return evrin.triangulate(np.column_stack((xy, 40.0 + rng.normal(0.0, 0.4, len(xy)))), name="yard")


def holes_in(ground, seed, count):
    """Holes with one to four of the materials, some of which end early."""
    rng = np.random.default_rng(seed)
    out = []
    for number in range(count):
        x, y = rng.uniform(5.0, 55.0, 2)
        z = float(ground.height(x, y))
        there = [name for name in MATERIALS if rng.random() < 0.7] or ["clay"]
        depths = np.concatenate(([0.0], np.cumsum(rng.uniform(0.3, 2.5, len(there) - 1))))
        kept = len(there) if rng.random() < 0.7 else int(rng.integers(1, len(there) + 1))
        tops = tuple((name, z - float(depth)) for name, depth in zip(there, depths, strict=True))[:kept]
        out.append(Borehole(f"BH{number}", float(x), float(y), z, tops, tops[-1][1] - 0.5))
    return out


@pytest.mark.slow
@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.integers(0, 10**6), st.integers(1, 9), st.sampled_from([0.25, 0.5, 1.0]))
def test_no_layer_is_above_its_roof_and_materials_add_up(seed, count, pinch):
    """At vertices of both and between; sums of materials are the whole, by the level and by the pit."""
    ground = rough(seed)
    layers = layers_under(ground, Boreholes.of(holes_in(ground, seed, count), MATERIALS), pinch=pinch)
    rng = np.random.default_rng(seed)
    places = [rng.uniform(0.0, 60.0, (3000, 2)), *(top.vertices[:, :2] for top in layers.tops)]
    for x, y in (each.T for each in places):
        heights = np.array([top.height(x, y) for top in layers.tops])
        assert not (np.diff(heights, axis=0) > 1e-9).any()
    inner = rng.uniform(0.0, 60.0, (3000, 2)).T
    assert len({np.isnan(top.height(*inner)).tobytes() for top in layers.tops}) == 1
    names = layers.materials
    for hole in layers.boreholes.holes:
        laid = [float(top.height(hole.easting, hole.northing)) for top in layers.tops]
        at = dict(zip(names, laid, strict=True))
        for name, top in hole.tops:
            assert at[name] == pytest.approx(top, abs=1e-6)
        deeper = names[names.index(hole.tops[-1][0]) + 1 :]
        assert all(at[name] <= hole.end + 1e-6 for name in deeper)
    whole = ground.volume_above(36.0).total.fill
    table = layers.volumes(36.0)
    assert_allclose(table["volume"].iloc[:-1].sum(), whole, rtol=1e-9)
    assert (table["volume"] >= -1e-9 * whole).all()
    parts = [layers.volumes(low, high)["volume"].to_numpy() for low, high in ((36.0, 38.5), (38.5, None))]
    assert_allclose(sum(parts), table["volume"], rtol=1e-7, atol=1e-7)


@pytest.mark.parametrize("seed", range(8))
def test_between_holes_a_top_is_the_triangulation_of_the_holes_alone(seed):
    """To the very rim of their field, where the ground beyond goes on at the height of the nearest."""
    rng = np.random.default_rng(seed)
    level = evrin.triangulate([[0, 0, 50], [100, 0, 50], [100, 60, 50], [0, 60, 50]])
    places = np.column_stack((rng.uniform(10, 90, 9), rng.uniform(10, 50, 9), rng.uniform(30, 48, 9)))
    holes = [Borehole(f"BH{k}", x, y, 50.0, (("clay", 50.0), ("sand", z)), 20.0) for k, (x, y, z) in enumerate(places)]
    top = layers_under(level, Boreholes.of(holes)).tops[1]
    x, y = rng.uniform(0.0, 100.0, (2, 4000))
    alone = evrin.triangulate(places).height(x, y)
    assert_allclose(top.height(x, y)[np.isfinite(alone)], alone[np.isfinite(alone)], atol=1e-9)


@pytest.mark.parametrize("between", ["triangles", "inverse-distance", "natural-neighbours"])
def test_topsoil_follows_the_ground(between):
    """Seven pits of 0.30 in rough ground: that much everywhere; carried as heights it is not."""
    ground = rough(3)
    rng = np.random.default_rng(3)
    holes = []
    for k, (x, y) in enumerate(rng.uniform(5.0, 55.0, (7, 2))):
        z = float(ground.height(x, y))
        holes.append(Borehole(f"P{k}", x, y, z, (("topsoil", z), ("clay", z - 0.3), ("rock", 36.0)), 35.0))
    layers = layers_under(ground, Boreholes.of(holes), between=between)
    table = layers.volumes(34.0)
    assert table["volume"][0] == pytest.approx(0.3 * ground.plan_area, rel=1e-9)
    assert table["volume_95"][0] == pytest.approx(0.0, abs=1e-6)
    assert table["below_holes"].tolist() == pytest.approx([0.0, 0.0, ground.plan_area, ground.plan_area], abs=1e-6)
    assert layers.table["carried"].tolist() == ["thickness", "height", ""]
    assert layers.table["left_out"].iloc[1:].tolist() == pytest.approx([0.0, 0.0], abs=1e-9)
    assert layers.notes[0].startswith("thickness of topsoil; height of clay; between holes by ")
    level = layers_under(ground, Boreholes.of(holes), carry={"topsoil": "height"}, between=between).volumes(34.0)
    assert abs(level["volume"][0] / table["volume"][0] - 1.0) > 0.03


def test_how_far_off_a_hole_that_is_left_out_is():
    """By hand: three on a line, 1, 2 and 3 thick; the ends are one off and the middle is right."""
    level = evrin.triangulate([[0, 0, 5.0], [40, 0, 5.0], [40, 20, 5.0], [0, 20, 5.0]])
    holes = [Borehole(f"H{k}", 10.0 * k, 10.0, 5.0, (("clay", 5.0), ("sand", 5.0 - k)), 0.0) for k in (1, 2, 3)]
    layers = layers_under(level, Boreholes.of(holes))
    assert layers.table["left_out"][1] == pytest.approx(np.sqrt(2.0 / 3.0))
    assert np.isnan(layers_under(level, Boreholes.of(holes[:1])).table["left_out"][1])
    assert layers_under(level, Boreholes.of(holes[:2])).volumes(0.0)["volume_95"].isna().all()


@pytest.mark.slow
@pytest.mark.parametrize("between", ["triangles", "inverse-distance"])
def test_most_true_volumes_are_within_what_is_stated(between):
    """Soil and clay of waves under a level ground; 24 volumes of each method."""
    level = evrin.triangulate([[0, 0, 50.0], [100, 0, 50.0], [100, 100, 50.0], [0, 100, 50.0]])
    middles = np.stack(np.meshgrid(*[np.arange(0.5, 100.0)] * 2), axis=-1).reshape(-1, 2)
    within = 0
    for seed in range(12):
        rng = np.random.default_rng(seed)
        waves = [(rng.normal(0.0, 0.06, (4, 2)), rng.uniform(0.0, 6.28, 4), rng.normal(0.0, a, 4)) for a in (0.1, 0.6)]

        def bottoms(places, waves=waves):
            soil, clay = ((np.sin(places @ w.T + p) @ a) for w, p, a in waves)
            soil = 50.0 - np.maximum(0.8 + soil, 0.1)
            return soil, np.minimum(46.0 + clay, soil - 0.1)

        holes = []
        for k, place in enumerate(rng.uniform(5.0, 95.0, (int(rng.integers(5, 12)), 2))):
            soil, clay = (float(each[0]) for each in bottoms(place[None]))
            tops = (("soil", 50.0), ("clay", soil), ("rock", clay))
            holes.append(Borehole(f"B{k}", *place.tolist(), 50.0, tops, clay - 3.0))
        table = layers_under(level, Boreholes.of(holes), between=between).volumes(40.0)
        soil, clay = bottoms(middles)
        for truth, row in zip((50.0 - soil, soil - clay), table.itertuples(), strict=False):
            within += abs(row.volume - truth.sum()) <= row.volume_95 < 0.6 * row.volume
    assert within >= 20


def two_holes(pinch):
    """A bed of sand in the one, and none in the other twenty metres away."""
    level = evrin.triangulate([[0, 0, 5.0], [40, 0, 5.0], [40, 20, 5.0], [0, 20, 5.0]])
    one = Borehole("A", 10.0, 10.0, 5.0, (("clay", 5.0), ("sand", 4.0), ("gravel", 2.0)))
    other = Borehole("B", 30.0, 10.0, 5.0, (("clay", 5.0), ("gravel", 2.0)))
    return layers_under(level, Boreholes.of([one, other]), pinch=pinch)


@pytest.mark.parametrize("pinch", [0.25, 0.5, 1.0])
def test_a_material_ends_where_the_rule_says(pinch):
    """Between the two holes its thickness falls evenly to nothing at that part of the way."""
    layers = two_holes(pinch)
    x = np.linspace(10.0, 30.0, 21)
    thick = layers.tops[1].height(x, np.full(21, 10.0)) - layers.tops[2].height(x, np.full(21, 10.0))
    assert_allclose(thick, np.clip(2.0 * (1.0 - (x - 10.0) / (20.0 * pinch)), 0.0, None), atol=1e-9)


def test_volumes_of_level_beds_are_those_of_boxes():
    """In a pit with upright sides, by material."""
    level = evrin.triangulate([[0, 0, 5.0], [40, 0, 5.0], [40, 20, 5.0], [0, 20, 5.0]])
    hole = Borehole("A", 12.0, 7.0, 5.0, (("clay", 5.0), ("sand", 4.0), ("gravel", 2.5)), 0.0)
    layers = layers_under(level, Boreholes.of([hole]))
    pit = [[4.0, 4.0], [14.0, 4.0], [14.0, 12.0], [4.0, 12.0]]
    assert_allclose(layers.volumes(2.0, within=pit)["volume"], [80.0, 120.0, 40.0, 240.0])
    assert_allclose(layers.volumes(3.0, 4.5, within=pit)["volume"], [40.0, 80.0, 0.0, 120.0])
    assert_allclose(layers.volumes(6.0, within=pit)["volume"], 0.0)
    assert layers.table["mean_thickness"].iloc[:2].tolist() == pytest.approx([1.0, 1.5])


def test_a_hole_that_ends_early_holds_the_top_below_its_end():
    """And a note states it; without the end nothing is known."""
    level = evrin.triangulate([[0, 0, 5.0], [40, 0, 5.0], [40, 20, 5.0], [0, 20, 5.0]])
    deep = [
        Borehole(name, x, 10.0, 5.0, (("clay", 5.0), ("gravel", 4.0)), 1.0) for name, x in (("A", 5.0), ("B", 35.0))
    ]
    short = Borehole("C", 20.0, 10.0, 5.0, (("clay", 5.0),), 3.0)
    layers = layers_under(level, Boreholes.of([*deep, short]))
    assert layers.tops[1].height(20.0, 10.0).item() == pytest.approx(3.0)
    assert "hole C ends at 3.000 and has not met gravel" in layers.notes[-1]
    endless = Borehole("C", 20.0, 10.0, 5.0, (("clay", 5.0),))
    assert layers_under(level, Boreholes.of([*deep, endless])).tops[1].height(20.0, 10.0).item() == pytest.approx(4.0)


def test_made_ground_that_ends_half_way_brings_what_is_under_it_to_the_surface():
    """The first material is at the ground, so the next reaches the ground where it ends."""
    ground = rough(4)
    z = [float(ground.height(x, 30.0)) for x in (10.0, 50.0)]
    holes = [Borehole("A", 10.0, 30.0, z[0], (("made ground", z[0]), ("clay", z[0] - 2.0))),
             Borehole("B", 50.0, 30.0, z[1], (("clay", z[1]),))]  # fmt: skip
    top = layers_under(ground, Boreholes.of(holes)).tops[1]
    assert top.height(30.0, 30.0).item() == pytest.approx(ground.height(30.0, 30.0).item(), abs=1e-9)
    assert top.height(20.0, 30.0).item() < ground.height(20.0, 30.0).item() - 0.5


def written(folder, rows, head="hole,easting,northing,ground,material,depth"):
    """A table of boreholes."""
    file = folder / "holes.csv"
    file.write_text("\n".join([head, *rows]) + "\n")
    return file


def test_boreholes_are_read_by_depth_or_by_height_in_any_order_and_unit(tmp_path):
    """And materials are put in order from what lies over what."""
    rows = ["B,30,10,50,gravel,2.5", "B,30,10,50,clay,0", "A,10,10,40,sand,3", "A,10,10,40,clay,0", "A,10,10,40,end,8"]
    found, _ = read_boreholes(written(tmp_path, [*rows, "C,9,1,40,sand,0", "C,9,1,40,gravel,1"]))
    assert found.materials == ("clay", "sand", "gravel")
    assert found.holes[0].tops == (("clay", 50.0), ("gravel", 47.5))
    assert found.holes[1].end == 32.0
    feet, _ = read_boreholes(
        written(tmp_path, ["A,10,10,40,clay,40"], "hole,E (ft),N (ft),ground,material,top"), Frame("m")
    )
    assert feet.holes[0].easting == pytest.approx(3.048)


@pytest.mark.parametrize(
    ("rows", "message"),
    [
        (["A,1,1,40,clay,0", "A,1,1,40,sand,1", "B,2,2,40,sand,0", "B,2,2,40,clay,1"], "contradict one another"),
        (["A,1,1,40,clay,0", "A,1,2,40,sand,1"], "line 3: hole A is at another place"),
        (["A,1,1,40,clay,0.5"], "begins at 39.500, and the ground is at 40.000"),
        (["A,1,1,40,clay,x"], "line 2: depth is 'x'; it must be a number"),
        (["A,1,1,nan,clay,0"], "ground is"),
        (["A,1,1,40,clay,0", "A,1,1,40,clay,2"], "clay is there twice"),
        (["A,1,1,40,clay,0", "B,1,1,40,clay,0"], "is at the place of hole A"),
        (["A,1,1,40,clay,0", "A,1,1,40,end,3", "A,1,1,40,end,4"], "ends twice"),
        (["A,1,1,40,clay,0", "A,1,1,40,sand,4", "A,1,1,40,end,3"], "tops must go down"),
        ([",1,1,40,clay,0"], "line 2: the hole has no name"),
        ([], "no row below it"),
    ],
)
def test_boreholes_that_cannot_be_are_refused(tmp_path, rows, message):
    """With the line."""
    with pytest.raises(evrin.EvrinError, match=message):
        read_boreholes(written(tmp_path, rows))


@pytest.mark.parametrize("pinch", [0.0, -1.0, 1.5, float("nan")])
def test_a_part_of_the_way_lies_on_the_way(pinch):
    """Otherwise it is refused."""
    with pytest.raises(evrin.EvrinError, match="pinch is a part of the way"):
        two_holes(pinch)


@pytest.mark.parametrize(
    ("asked", "message"),
    [
        ({"carry": "depth"}, "carry is thickness or height; for clay it is 'depth'"),
        ({"carry": {"peat": "height"}}, "carry: peat is not among the materials: clay, gravel"),
        ({"between": "kriging"}, "between holes is one of triangles, inverse-distance, natural-neighbours"),
    ],
)
def test_what_cannot_be_carried_is_refused(asked, message):
    level = evrin.triangulate([[0, 0, 5.0], [40, 0, 5.0], [40, 20, 5.0], [0, 20, 5.0]])
    holes = Boreholes.of([Borehole("A", 10.0, 10.0, 5.0, (("clay", 5.0), ("gravel", 4.0)))])
    with pytest.raises(evrin.DataError, match=message):
        layers_under(level, holes, **asked)
