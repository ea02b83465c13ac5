"""Volumes between two surfaces, against rational arithmetic, closed forms and chance."""

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

import evrin
from evrin import DataError, GeometryError, Surface
from evrin.analysis import Factors, depth_bands
from evrin.making import Plane, Stripped
from evrin.making.limits.limit_cells import layer_of
from evrin.tin.overlay.meshes_between import between
from evrin.tin.overlay.overlay import COMMON_AREA, CUT, FILL

FAR = np.array([436000.25, 5412000.125])


def cut(polygon, above):
    """The part of a convex polygon where a linear function is at least nothing, all in fractions."""
    out = []
    for (here, a), (there, b) in zip(polygon, polygon[1:] + polygon[:1], strict=True):
        s, t = above(here), above(there)
        if s >= 0:
            out.append((here, a))
        if s * t < 0:
            part = s / (s - t)
            place = tuple(p + part * (q - p) for p, q in zip(here, there, strict=True))
            out.append((place, a + part * (b - a)))
    return out


def cross(a, b, c):
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


def plane_of(face):
    (a, b, c), twice = face, cross(*face)
    return lambda p: (cross(b, c, p) * a[2] + cross(c, a, p) * b[2] + cross(a, b, p) * c[2]) / twice


def integral(polygon):
    total, area = Fraction(0), Fraction(0)
    for k in range(1, len(polygon) - 1):
        (p, d), (q, e), (r, f) = polygon[0], polygon[k], polygon[k + 1]
        area += cross(p, q, r) / 2
        total += cross(p, q, r) / 2 * (d + e + f) / 3
    return total, area


def faces_of(surface):
    rows = [[tuple(map(Fraction, vertex)) for vertex in face] for face in surface.vertices[surface.triangles].tolist()]
    return [face for face in rows if cross(*face) > 0]


def exact_volumes(base, top):
    cut_volume = fill = area = Fraction(0)
    for low in faces_of(base):
        beneath = plane_of(low)
        for high in faces_of(top):
            if any(
                max(p[axis] for p in one) <= min(p[axis] for p in other)
                for axis in (0, 1)
                for one, other in ((low, high), (high, low))
            ):
                continue
            polygon = [(p[:2], Fraction(0)) for p in low]
            for a, b in zip(high, high[1:] + high[:1], strict=True):
                polygon = cut(polygon, lambda p, a=a, b=b: cross(a, b, p))
            above = plane_of(high)
            polygon = [(p, above(p) - beneath(p)) for p, _ in polygon]
            area += integral(polygon)[1]
            with_heights = [((*p, d), d) for p, d in polygon]
            fill += integral(cut(with_heights, lambda p: p[2]))[0]
            cut_volume -= integral(cut(with_heights, lambda p: -p[2]))[0]
    return cut_volume, fill, area


def random_surface(rng, kind, name):
    count = int(rng.integers(4, 14))
    if kind == "lattice":
        xy = rng.integers(0, 5, (count + 4, 2)).astype(float)
    else:
        xy = rng.uniform(0, 4, (count, 2)).round(int(rng.integers(1, 9)))
    xyz = np.column_stack((xy + (FAR if kind == "far" else 0.0), rng.integers(-3, 4, len(xy)) / 2.0))
    try:
        surface = evrin.triangulate(xyz, name=name)
    except GeometryError:
        assume(False)
    return surface


def pair_of(seed, kind):
    rng = np.random.default_rng(seed)
    one = random_surface(rng, kind, "one")
    if kind == "shared":
        moved = one.vertices + np.column_stack(
            (np.zeros((len(one.vertices), 2)), rng.integers(-1, 2, len(one.vertices)))
        )
        extra = rng.uniform(0, 4, (2, 3)).round(2)
        other = evrin.triangulate(np.vstack((moved, extra)), name="other")
    else:
        other = random_surface(rng, kind, "other")
    if rng.integers(3) == 0 and len(one.triangles) > 4:
        # A hole, and pieces that meet at a corner at most.
        one = Surface.from_arrays(
            one.vertices, np.delete(one.triangles, rng.integers(0, len(one.triangles), 2), axis=0)
        )
    return one, other


@pytest.mark.slow
@given(st.integers(0, 10**9), st.sampled_from(["lattice", "random", "shared", "far"]))
@example(0, "lattice")
def test_volumes_are_those_of_rational_arithmetic_and_turn_round_exactly(seed, kind):
    one, other = pair_of(seed, kind)
    down, up, area = exact_volumes(one, other)
    if not area:
        with pytest.raises(GeometryError):
            other.volume_above(one)
        return
    found = other.volume_above(one, tolerance=0.0).total
    size = float(down + up)
    assert abs(Fraction(found.cut) - down) <= 1e-12 * size + 1e-15
    assert abs(Fraction(found.fill) - up) <= 1e-12 * size + 1e-15
    assert found.common_area == pytest.approx(float(area), rel=1e-12)
    assert found.only_base == pytest.approx(one.plan_area - float(area), abs=1e-8)
    again, turned = other.volume_above(one, tolerance=0.0).total, one.volume_above(other, tolerance=0.0).total
    assert again == found
    assert (turned.cut, turned.fill, turned.net_spread) == (found.fill, found.cut, found.net_spread)
    layers = [layer_of(surface, np.zeros(2)) for surface in (one, other)]
    plain = between(*layers).totals
    assert (plain[CUT] + plain[FILL], plain[COMMON_AREA]) == pytest.approx((size, float(area)), rel=1e-6, abs=1e-6)


@given(st.integers(0, 10**9), st.sampled_from(["lattice", "random", "shared", "far"]))
def test_the_difference_is_a_surface_that_holds_the_same(seed, kind):
    one, other = pair_of(seed, kind)
    try:
        found = other.volume_above(one, tolerance=0.0).total
    except GeometryError:
        assume(False)
    mesh = other.less(one)
    heights = mesh.vertices[:, 2][mesh.triangles]
    assert not ((heights > 0).any(axis=1) & (heights < 0).any(axis=1)).any()
    assert mesh.plan_area == pytest.approx(found.common_area, abs=1e-7)
    assert (mesh.triangle_areas * heights.mean(axis=1)).sum() == pytest.approx(found.net, abs=1e-6)
    places = mesh.vertices[mesh.triangles, :2].mean(axis=1)[mesh.triangle_areas > 1e-6]
    assert np.allclose(mesh.height(*places.T), other.height(*places.T) - one.height(*places.T), atol=1e-6)
    bands = depth_bands(mesh, [-0.5, 0.0, 0.7])
    assert bands["volume"].iloc[:2].sum() == pytest.approx(-found.cut, abs=1e-6)
    assert bands["volume"].iloc[2:].sum() == pytest.approx(found.fill, abs=1e-6)
    assert bands["plan_area"].sum() == pytest.approx(mesh.plan_area)


@pytest.mark.parametrize("turned", [False, True])
def test_bands_have_the_ground_of_either_surface(turned):
    """A ramp of 1 in 1 below a roof of 1 in 2: by closed form, as plan areas times the roots of 2 and 1.25."""
    ramp, roof = (evrin.triangulate([[0, 0, 0], [20, 0, 20 * g], [20, 10, 20 * g], [0, 10, 0]]) for g in (1.0, 0.5))
    base, top = (roof, ramp) if turned else (ramp, roof)
    bands = depth_bands(top.less(base), [-5.0, 0.0, 5.0], base, top)
    plan, steep = bands["plan_area"].to_numpy(), np.sqrt([2.0, 1.25])
    assert plan.tolist() == pytest.approx([0.0, 0.0, 100.0, 100.0] if turned else [100.0, 100.0, 0.0, 0.0])
    assert bands["base_slope_area"].tolist() == pytest.approx((plan * steep[int(turned)]).tolist())
    assert bands["top_slope_area"].tolist() == pytest.approx((plan * steep[1 - int(turned)]).tolist())
    level = depth_bands(ramp.less(5.0), [0.0], Plane.level(5.0), ramp)
    assert level["base_slope_area"].tolist() == pytest.approx([50.0, 150.0])
    assert level["top_slope_area"].sum() == pytest.approx(ramp.slope_area)


@pytest.mark.slow
@given(st.integers(0, 10**9), st.booleans())
def test_splitting_the_limit_splits_the_volume(seed, is_far):
    rng = np.random.default_rng(seed)
    shift = FAR * is_far
    surfaces = []
    for name in ("one", "other"):
        xy = np.vstack((rng.uniform(0, 10, (40, 2)), [[0, 0], [10, 0], [10, 10], [0, 10]])) + shift
        surfaces.append(evrin.triangulate(np.column_stack((xy, rng.uniform(0, 2, len(xy)))), name=name))
    one, other = surfaces
    x = float(rng.uniform(2, 8))
    left = np.array([[1, 1], [x, 1], [x, 9], [1, 9]]) + shift
    right = np.array([[x, 1], [9, 1], [9, 9], [x, 9]]) + shift
    hole = np.array([[4, 4], [4, 6], [6, 6], [6, 4]]) + shift
    whole = other.volume_above(one, {"all": [left, right]}).total
    parts = other.volume_above(one, {"left": left, "right": right})
    assert sum(row.fill for row in parts.rows) == pytest.approx(whole.fill, rel=1e-11)
    assert (parts.total.cut, parts.overlap) == (pytest.approx(whole.cut, rel=1e-11), 0.0)
    ring = np.array([[1, 1], [9, 1], [9, 9], [1, 9]]) + shift
    without, inside = (other.volume_above(one, {"a": rings}).total for rings in ([ring, hole], [hole]))
    assert without.net + inside.net == pytest.approx(whole.net, abs=1e-7)
    assert other.clip(ring).volume_above(one).total.fill == pytest.approx(whole.fill, rel=1e-7)
    depth = other.volume_above(one, {"a": ring}, stripped=[Stripped("topsoil", [hole], 0.3)]).total
    assert depth.net - whole.net == pytest.approx(0.3 * 4.0, abs=1e-7)
    apart = {"a": [[1, 1], [7, 1], [7, 9], [1, 9]] + shift, "b": [[3, 1], [9, 1], [9, 9], [3, 9]] + shift}
    united = other.less(one, apart)
    assert united.plan_area == pytest.approx(64.0, rel=1e-6)
    assert other.level_volumes(apart).area == pytest.approx(64.0, rel=1e-6)
    twice = other.volume_above(one, {"a": ring, "b": hole})
    assert (twice.overlap, twice.total.fill) == (pytest.approx(4.0), pytest.approx(whole.fill, rel=1e-9))


def regular(n, radius, height):
    turn = np.linspace(0, 2 * np.pi, n, endpoint=False)
    return np.column_stack((radius * np.cos(turn), radius * np.sin(turn), np.full(n, float(height))))


def area_of(n, radius):
    return n / 2 * np.sin(2 * np.pi / n) * radius**2


@given(st.integers(0, 10**6), st.booleans())
def test_a_surface_cut_along_a_ring_holds_nothing_against_itself(seed, is_far):
    """Its new vertices lie on the edges except for rounding, so edges of both run almost along one another."""
    rng = np.random.default_rng(seed)
    base = FAR if is_far else np.zeros(2)
    xy = rng.uniform(0.0, 90.0, (70, 2)) + base
    whole = evrin.triangulate(np.column_stack((xy, rng.normal(40.0, 2.0, 70))))
    angle = np.sort(rng.uniform(0.0, 2.0 * np.pi, 9))
    ring = np.column_stack((np.cos(angle), np.sin(angle))) * rng.uniform(10.0, 35.0, (9, 1)) + 45.0 + base
    part = whole.clip(cut=ring)
    for one, other in ((part, whole), (whole, part)):
        found = one.volume_above(other, tolerance=0.0).total
        assert max(found.cut, found.fill) < (1e-4 if is_far else 1e-8)
        assert found.common_area == pytest.approx(part.plan_area, rel=1e-9)


def test_solids_with_closed_forms():
    cone = evrin.triangulate(np.vstack((regular(90, 5, 0), [[0, 0, 4]])))
    assert cone.volume_above(0.0).total.fill == pytest.approx(area_of(90, 5) * 4 / 3, rel=1e-13)
    frustum = evrin.triangulate(np.vstack((regular(60, 6, 1), regular(60, 3, 4))))
    low, high = area_of(60, 6), area_of(60, 3)
    expected = 3 / 3 * (low + high + np.sqrt(low * high))
    assert frustum.volume_above(1.0).total.fill == pytest.approx(expected, rel=1e-12)
    curve = frustum.level_volumes()
    levels = np.array([1.5, 2.2, 3.9])
    assert curve.area_below(levels + 1e-6) - curve.area_below(levels) == pytest.approx(1e-6 * 2 * area_of(60, 1) * (
        6 - (levels - 1)), rel=1e-4)  # fmt: skip
    slope = (curve.volume_below(levels + 1e-5) - curve.volume_below(levels - 1e-5)) / 2e-5
    assert slope == pytest.approx(curve.area_below(levels), rel=1e-8)
    assert curve.volume_above(levels) == pytest.approx([frustum.volume_above(level).total.fill for level in levels])
    ramp = evrin.triangulate([[0, 0, 0], [10, 0, 3], [10, 4, 3], [0, 4, 0]])
    assert ramp.volume_above(Plane.through([[0, 0, 0], [1, 0, 0], [0, 1, 0]])).total.fill == pytest.approx(60.0)
    assert ramp.volume_above(Plane.sloping((0, 0, 0), 30.0, 90.0)).total.no_change_area == pytest.approx(40.0)
    pyramid = evrin.triangulate([[2, 0, 0.6], [6, 0, 1.8], [6, 4, 1.8], [2, 4, 0.6], [4, 2, 1.2 + 3.0]])
    on_slope = pyramid.volume_above(ramp).total
    assert (on_slope.fill, on_slope.cut) == (pytest.approx(16.0, rel=1e-12), pytest.approx(0.0, abs=1e-12))
    assert on_slope.only_base == pytest.approx(24.0)


@given(st.lists(st.floats(-2, 8, allow_nan=False), min_size=1, max_size=9), st.integers(0, 10**6))
def test_volumes_to_levels_are_those_of_the_table_at_any_level(levels, seed):
    rng = np.random.default_rng(seed)
    ground = evrin.triangulate(np.column_stack((rng.uniform(0, 9, (20, 2)), rng.integers(0, 7, 20))))
    curve = ground.level_volumes()
    for level, above, below in zip(levels, curve.volume_above(levels), curve.volume_below(levels), strict=True):
        found = ground.volume_above(level).total
        assert (above, below) == (pytest.approx(found.fill, abs=1e-9), pytest.approx(found.cut, abs=1e-9))
    table = curve.table(0.5)
    assert (table["area_below"].iloc[0], table["volume_above"].iloc[-1]) == (0.0, 0.0)
    assert curve.area_below([1e9])[0] == pytest.approx(ground.plan_area)


@pytest.mark.thorough
def test_the_standard_deviation_is_that_of_chance():
    rng = np.random.default_rng(4)
    low = evrin.triangulate(np.column_stack((rng.uniform(0, 20, (60, 2)), rng.uniform(0, 1, 60))), name="low")
    high = evrin.triangulate(np.column_stack((rng.uniform(0, 20, (50, 2)), rng.uniform(0, 1, 50) + 0.4)), name="high")
    ring = np.array([[5, 5], [15, 5], [15, 15], [5, 15]], float)
    given_sd = {"spread": 0.03, "base_spread": 0.05, "shared_spread": 0.02}
    found = high.volume_above(low, {"yard": ring}, **given_sd)
    drawn = []
    for _ in range(1500):
        moved = [
            Surface.from_arrays(
                surface.vertices
                + np.column_stack((np.zeros((len(surface.vertices), 2)), rng.normal(0, sd, len(surface.vertices)))),
                surface.triangles,
            )
            for surface, sd in ((low, 0.05), (high, 0.03))
        ]
        drawn.append(
            [getattr(moved[1].volume_above(moved[0], {"yard": ring}).total, name) for name in ("cut", "fill", "net")]
        )
    spread = np.std(drawn, axis=0)
    row = found.total
    assert spread == pytest.approx([row.cut_spread.shots, row.fill_spread.shots, row.net_spread.shots], rel=0.07)
    assert row.net_spread.shared == pytest.approx(0.02 * np.sqrt(2) * 100)
    assert row.fill_spread.shared + row.cut_spread.shared == pytest.approx(row.net_spread.shared)


def test_what_only_one_covers_factors_and_what_does_not_fit():
    low = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], name="low")
    high = evrin.triangulate([[4, 0, 2], [12, 0, 2], [12, 8, 2], [4, 8, 2]], name="high")
    found = high.volume_above(low, factors=Factors(1.2, 1.1, 1.8))
    row = found.total
    assert (row.common_area, row.only_base, row.only_top, row.uncovered) == (32.0, 32.0, 32.0, 64.0)
    table = found.table.iloc[0]
    assert (table["fill"], table["fill_needed"], table["fill_mass"]) == pytest.approx((32.0, 35.2, 63.36))
    inside = high.volume_above(low, {"a": [[2, 2], [14, 2], [14, 4], [2, 4]]}).total
    assert (inside.only_base, inside.only_top, inside.neither) == pytest.approx((4.0, 8.0, 4.0))
    wall = Surface.from_arrays(
        [[0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 0], [4, 0, 3], [4, 4, 3], [8, 0, 3], [8, 4, 3]],
        [[0, 1, 2], [0, 2, 3], [1, 4, 5], [1, 5, 2], [4, 6, 7], [4, 7, 5]],
    )
    stepped = low.volume_above(wall).total
    assert (stepped.fill, stepped.cut) == pytest.approx((16.0, 32.0))
    difference = low.less(wall)
    assert sorted(set(difference.vertices[:, 2].tolist())) == [-2.0, 1.0]
    with pytest.raises(GeometryError, match="no ground in common"):
        low.volume_above(evrin.triangulate([[90, 0, 1], [98, 0, 1], [98, 8, 1]]))
    with pytest.raises(DataError, match="cannot be compared"):
        low.volume_above(high.renamed(units="ft"))
    folded = Surface.from_arrays(low.vertices, np.vstack((low.triangles, low.triangles)))
    with pytest.raises(GeometryError, match="more than once"):
        folded.volume_above(low)
    for bad in (np.nan, np.inf, -1.0, 1e300):
        with pytest.raises(DataError):
            high.volume_above(low, tolerance=bad)
        with pytest.raises(DataError):
            high.volume_above(low, spread=bad)
        with pytest.raises(DataError):
            Factors(bulking=bad)


@pytest.mark.parametrize("frames", [(("m", "local"), ("ft", "local")), (("m", "EPSG:25832"), ("m", "EPSG:25833"))])
def test_surfaces_of_one_name_in_other_frames_are_not_compared_number_by_number(frames):
    corners = [[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]]
    base, top = (evrin.triangulate(corners, units=units, crs=crs, name="site") for units, crs in frames)
    for compare in (lambda: top.volume_above(base), lambda: top.less(base), lambda: top.difference(base)):
        with pytest.raises(evrin.DataError, match="They cannot be compared number by number"):
            compare()
