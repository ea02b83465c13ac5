"""Pads: closed forms on planes and slopes, daylight on ground and slope, balancing, and where the ground ends."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose

import evrin
from evrin.making import Pad, Plane, Slopes, balanced, pad_to_ground

FINE = {"chord": 1e-5}


def field(size=120.0, east=0.0, north=0.0, count=0, seed=0, noise=0.0):
    """A plane, or a rough one."""
    rng = np.random.default_rng(seed)
    corners = np.array([[0.0, 0.0], [size, 0.0], [size, size], [0.0, size]])
    xy = np.vstack((corners, rng.uniform(0.0, size, (count, 2))))
    z = 40.0 + east * (xy[:, 0] - size / 2.0) + north * (xy[:, 1] - size / 2.0) + rng.normal(0.0, 1.0, len(xy)) * noise
    return evrin.triangulate(np.column_stack((xy, z)), name="field")


def square(side, middle=60.0):
    """A square outline."""
    low, high = middle - side / 2.0, middle + side / 2.0
    return [[low, low], [high, low], [high, high], [low, high]]


@pytest.mark.parametrize("height", [-3.0, 2.0])
@pytest.mark.parametrize("corners", ["round", "sharp"])
def test_on_level_ground_a_pad_is_a_frustum(height, corners):
    """With round corners, cones' quarters at the corners; with sharp ones, pyramids' corners."""
    side, run = 20.0, 2.0
    built = pad_to_ground(field(), Pad.of(square(side), 40.0 + height, Slopes(run, run, corners, **FINE)))
    h = abs(height)
    corner = np.pi * run**2 * h**3 / 3.0 if corners == "round" else 4.0 * run**2 * h**3 / 3.0
    expected = side**2 * h + 4.0 * side * run * h**2 / 2.0 + corner
    cut, fill = (expected, 0.0) if height < 0.0 else (0.0, expected)
    assert_allclose([built.cut, built.fill], [cut, fill], rtol=1e-4, atol=1e-9)
    (line,) = built.daylight
    assert_allclose(line.points[:, 2], 40.0, atol=1e-9)
    away = np.abs(line.points[:, :2] - 60.0).max(axis=1) - side / 2.0
    assert away.max() == pytest.approx(run * h, rel=1e-9)
    assert not len(built.ends)


def test_a_berm_lies_level_at_every_so_much_height():
    """Half way up, a berm of one metre: the slope arrives that much farther out."""
    slopes = Slopes(2.0, 2.0, berm_every=1.5, berm_width=1.0, **FINE)
    built = pad_to_ground(field(), Pad.of(square(20.0), 43.0, slopes))
    east = np.array([70.0, 73.0, 74.0, 76.0, 78.0])
    assert_allclose(built.surface.height(east, np.full(5, 60.0)), [43.0, 41.5, 41.5, 40.5, 40.0], atol=1e-9)


def test_each_side_has_its_own_slope_on_a_hillside():
    """On a plane that rises eastwards the distance to daylight has a closed form on every side."""
    grade, level, half = 0.1, 40.0, 10.0
    pad = Pad.of(square(2 * half), level, Slopes(cut=[1.0, 1.5, 3.0, 2.0], fill=[1.0, 1.5, 3.0, 2.0]))
    built = pad_to_ground(field(east=grade), pad)
    outline = np.array([*pad.outline[:, :2].tolist(), pad.outline[0, :2].tolist()])
    # Sides run south, east, north, west. On the east side the ground is above: x - 70 over the run meets the plane.
    line = np.concatenate([each.points for each in built.daylight])
    middle = np.abs(line[:, 1] - 60.0) < 9.0
    east = line[middle & (line[:, 0] > 70.0), 0]
    west = line[middle & (line[:, 0] < 50.0), 0]
    assert_allclose(east, 70.0 + grade * half / (1.0 / 1.5 - grade), rtol=1e-9)
    assert_allclose(west, 50.0 - grade * half / (1.0 / 2.0 - grade), rtol=1e-9)
    assert outline.shape == (5, 2)


outlines = st.sampled_from(
    [
        square(20.0),
        [[45, 45], [75, 45], [75, 60], [60, 60], [60, 78], [45, 78]],
        [[45, 45], [75, 45], [75, 75], [68, 75], [68, 52], [52, 52], [52, 75], [45, 75]],
        [[50, 50], [70, 52], [58, 58], [52, 72]],
    ]
)


@pytest.mark.slow
@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(
    outlines,
    st.floats(37.0, 43.0),
    st.floats(0.7, 4.0),
    st.floats(0.7, 4.0),
    st.sampled_from(["round", "sharp"]),
    st.integers(0, 10**6),
    st.booleans(),
)
def test_daylight_lies_on_the_ground_and_on_the_slope(outline, level, cut, fill, corners, seed, has_berms):
    """For outlines with overhanging corners on rough ground; cut and fill are those of the finished surface."""
    ground = field(east=0.04, north=-0.02, count=150, seed=seed, noise=0.3)
    berms = {"berm_every": 0.8, "berm_width": 0.7} if has_berms else {}
    built = pad_to_ground(ground, Pad.of(outline, level, Slopes(cut, fill, corners, **berms)))
    for line in built.daylight:
        x, y, z = line.points.T
        assert_allclose(ground.height(x, y), z, rtol=0.0, atol=1e-6)
        assert_allclose(built.earthwork.height(x, y), z, rtol=0.0, atol=1e-6)
    total = built.surface.volume_above(ground, tolerance=0.0).total
    assert_allclose([total.cut, total.fill], [built.cut, built.fill], rtol=1e-5, atol=1e-5)
    assert built.surface.plan_area == pytest.approx(ground.plan_area, rel=1e-9)
    inside = np.random.default_rng(seed).uniform(45.0, 78.0, (400, 2))
    flat = inside[np.isfinite(built.earthwork.height(*inside.T))]
    # Chords of round corners are steeper than the cone by up to a hundredth.
    assert (built.earthwork.slope(*flat.T) <= 1.01 / min(cut, fill)).all()
    assert built.surface.kind == "proposed"


def test_where_the_ground_ends_first_is_told_with_its_place():
    """A pad by the edge of the ground, and one over a hole in it."""
    built = pad_to_ground(field(), Pad.of(square(20.0, 108.0), 43.0))
    assert len(built.ends) == 1
    east, north, length = built.ends[0]
    assert max(east, north) == pytest.approx(120.0)
    assert length > 20.0
    holed = field(count=200, seed=1).clip(cut=square(6.0, 72.0))
    over = pad_to_ground(holed, Pad.of(square(20.0), 41.5))
    assert len(over.ends) == 1
    assert np.hypot(*(over.ends[0, :2] - 72.0)) < 12.0


def test_the_outline_may_have_heights_of_its_own_or_lie_on_a_plane():
    """A pad on a plane of two percent."""
    plane = Plane.sloping((60.0, 60.0, 42.0), 2.0, 90.0)
    built = pad_to_ground(field(), Pad.of(square(20.0), plane))
    assert_allclose(built.surface.height([52.0, 68.0], [60.0, 60.0]), [41.84, 42.16], atol=1e-9)
    ring = np.column_stack((square(20.0), [41.0, 41.0, 42.0, 42.0]))
    own = pad_to_ground(field(), Pad.of(ring))
    assert own.surface.height(60.0, 60.0).item() == pytest.approx(41.5)


@pytest.mark.slow
@settings(max_examples=15, deadline=None)
@given(st.floats(38.0, 43.0), st.floats(0.6, 1.4), st.integers(0, 10**6))
def test_at_the_balancing_level_the_cut_fills_the_rest(level, factor, seed):
    """To a thousandth of the cut; a millimetre higher or lower it does not."""
    ground = field(east=0.06, north=0.02, count=120, seed=seed, noise=0.2)
    pad = Pad.of(square(24.0), level)
    found = balanced(ground, [pad], factor)
    assert abs(found.net) <= 1e-3 * found.cut
    for step in (-0.001, 0.001):
        beside = pad_to_ground(ground, pad.raised(found.shift + step))
        assert np.sign(beside.fill - factor * beside.cut) == np.sign(step)


def test_two_pads_balance_together():
    """One high and one low on a hillside: what one is short of the other gives."""
    hill = field(size=200.0, east=0.08)
    pads = [Pad.of(square(20.0, middle), level, name=name)
            for middle, level, name in ((60.0, 38.0, "low"), (140.0, 41.0, "high"))]  # fmt: skip
    found = balanced(hill, pads)
    assert abs(found.net) <= 1e-3 * found.cut
    assert abs(found.built[0].net) > 10.0
    apart = found.built[1].pad.outline[0, 2] - found.built[0].pad.outline[0, 2]
    assert apart == pytest.approx(3.0)
    near = [Pad.of(square(20.0, middle), 41.0, name=str(middle)) for middle in (60.0, 75.0)]
    with pytest.raises(evrin.EvrinError, match="lie upon one another"):
        balanced(hill, near)


@pytest.mark.parametrize("shape", [lambda x: 0.0 * x, lambda x: np.where(x < 20.0, 0.0, 2.0), lambda x: x / 4.0])
@pytest.mark.parametrize("level", [39.0, 40.0, 41.0, 42.0])
@pytest.mark.parametrize("corners", ["round", "sharp"])
def test_a_pad_in_line_with_a_lattice_leaves_no_slit_and_no_sliver(shape, level, corners):
    """Outline, slopes and daylight run along edges and through vertices of the ground."""
    x, y = (each.ravel() for each in np.meshgrid(np.arange(0.0, 41.0, 4.0), np.arange(0.0, 41.0, 4.0)))
    ground = evrin.triangulate(np.column_stack((x, y, 40.0 + shape(x))))
    built = pad_to_ground(ground, Pad.of(square(16.0, 20.0), level, Slopes(1.0, 2.0, corners)))
    assert not len(built.ends)
    surface = built.surface
    assert surface.triangle_areas.min() > 1e-9
    assert surface.plan_area == pytest.approx(1600.0, rel=1e-12)
    assert len(surface.rim()) == 1
    total = surface.volume_above(ground, tolerance=0.0).total
    assert_allclose([total.cut, total.fill], [built.cut, built.fill], rtol=1e-9, atol=1e-9)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: Slopes(cut=0.0), "cut slopes must run between"),
        (lambda: Slopes(fill=float("nan")), "fill slopes must run between"),
        (lambda: Slopes(fill=1e300), "fill slopes must run between"),
        (lambda: Slopes(corners="square"), "corners must be round or sharp"),
        (lambda: Slopes(berm_every=1.0), "a berm needs both"),
        (lambda: Slopes(berm_every=1e-8, berm_width=1.0), "berm_every must be at least"),
        (lambda: Slopes(berm_every=1.0, berm_width=-1.0), "a berm needs both"),
        (lambda: Slopes(chord=0.0), "chord must lie between"),
        (lambda: Pad.of(square(20.0)), "has no heights"),
        (lambda: Pad.of(square(20.0), float("inf")), "a level must be a height"),
        (lambda: Pad.of([[0, 0], [9, 9], [9, 0], [0, 9]], 1.0), "crosses itself"),
        (lambda: Pad.of(square(20.0), 41.0, Slopes(cut=[1.0, 2.0])), "2 cut slopes for 4 sides"),
        (lambda: pad_to_ground(field(), Pad.of(square(20.0, 900.0), 41.0)), "no ground in common"),
        (lambda: pad_to_ground(field(), Pad.of(square(9.0), 1e12)), "check the level and its unit"),
        (lambda: balanced(field(), []), "give at least one pad"),
        (lambda: balanced(field(), [Pad.of(square(9.0), 41.0)], factor=0.0), "factor must lie between"),
    ],
)
def test_what_cannot_be_built_is_refused(make, message):
    """With the reason."""
    with pytest.raises(evrin.EvrinError, match=message):
        make()
