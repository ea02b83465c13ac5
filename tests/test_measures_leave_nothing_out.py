"""Areas whose corners lie on what they limit: contours of the surface, rings laid on it, its own corners, its rim."""

import numpy as np
import pytest
import shapely

import evrin

FAR = np.array([431000.0, 5412000.0])
TURNS = np.linspace(0.0, 2.0 * np.pi, 7)[:-1]


def pair_of(seed):
    """Smooth ground and scattered ground that reaches beyond it, near the origin or far away, some in millimetres."""
    rng = np.random.default_rng(seed)
    origin = FAR if seed % 2 else np.zeros(2)
    xy, wide = rng.uniform(0, 80, (60, 2)), rng.uniform(-10, 90, (60, 2))
    ground = np.column_stack((xy + origin, 10 + 3 * np.sin(xy[:, 0] / 9) + 2 * np.cos(xy[:, 1] / 7)))
    other = np.column_stack((wide + origin, rng.normal(11, 1, 60)))
    if seed % 3 == 0:
        ground, other = np.round(ground, 3), np.round(other, 3)
    return evrin.triangulate(ground, name="ground"), evrin.triangulate(other, name="other"), origin, rng


def contours_of(surface):
    found = surface.contours(0.5)
    pieces = [found.points[a:b] for a, b in zip(found.starts[:-1], found.starts[1:], strict=True)]
    return [piece[:-1] for piece in pieces if len(piece) > 4 and (piece[0] == piece[-1]).all()][:4]


def laid_on(surface, origin, rng):
    around = origin + 40.0 + 20.0 * np.column_stack((np.cos(TURNS + rng.uniform(0, 6)), np.sin(TURNS)))
    sides = zip(around, np.roll(around, -1, axis=0), strict=True)
    return np.concatenate([surface.profile([here, there]).points[:-1, :2] for here, there in sides])


def own_corners(surface, rng):
    a, b, c = surface.vertices[surface.triangles[int(rng.integers(len(surface.triangles)))], :2]
    return np.array([a, b, (b + c) / 2.0, c])


@pytest.mark.parametrize("seed", range(12))
def test_an_area_and_the_rest_are_the_whole_whatever_its_corners_lie_on(seed):
    ground, other, origin, rng = pair_of(seed)
    rim = ground.vertices[ground.rim()[0], :2]
    rings = [*contours_of(ground), laid_on(ground, origin, rng), laid_on(other, origin, rng)]
    rings += [own_corners(ground, rng), own_corners(other, rng)]
    whole, wide = ground.volume_above(other).total, [[-50, -50], [150, -50], [150, 150], [-50, 150]] + origin
    along_rim = ground.volume_above(other, {"a": rim}).total
    assert [along_rim.cut, along_rim.fill, along_rim.neither] == pytest.approx([whole.cut, whole.fill, 0.0], abs=1e-6)
    for ring in rings:
        polygon, limit = shapely.Polygon(ring - origin), shapely.Polygon(rim - origin)
        expected = polygon.intersection(limit).area if polygon.is_valid else 0.0
        if expected < 1e-3:
            continue
        level = ground.volume_above(0.0, {"a": ring}).total
        assert level.fill_area == pytest.approx(expected, rel=1e-9) and level.cut == 0.0
        inside, rest = (ground.volume_above(other, {"a": rings}).total for rings in ([ring], [wide, ring]))
        for name in ("cut", "fill", "cut_area", "fill_area", "only_top", "only_base"):
            parts = getattr(inside, name) + getattr(rest, name)
            assert parts == pytest.approx(getattr(whole, name), rel=1e-9, abs=1e-6), name


@pytest.mark.parametrize("rounding", [None, 3, 2])
def test_a_turned_lattice_has_rim_triangles_without_measurable_area_and_its_volume_is_found(rounding):
    for seed in range(20):
        rng = np.random.default_rng(seed)
        turn = rng.uniform(0, 6.28)
        axes = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
        lattice = 10.0 * np.array([[i, j] for i in range(3) for j in range(2)]) @ axes
        xy = lattice if rounding is None else np.round(lattice, rounding)
        found = evrin.triangulate(np.column_stack((xy, np.full(6, 13.0)))).volume_above(11.5).total
        assert found.fill == pytest.approx(1.5 * 200.0, rel=1e-3)
        # Each height is in the volume by its share of the plan area.
        assert 0.02 * 200.0 / np.sqrt(6.0) * 0.9 < found.net_spread.shots < 0.02 * 200.0
