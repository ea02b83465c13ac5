"""Boundaries nested and touching, ground extrapolated to them, rims, outlines, shores, alignments, busts."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import DataError, Recipe
from evrin.demo import true_height
from evrin.demo.laying_out import lay_out as lay_out_demo
from evrin.making.limits.extrapolation import heights_beyond, rim_edges
from evrin.making.limits.outlines import as_lines, outline, outline_round
from evrin.making.triangulation import Triangulation
from evrin.surface import SourceLine
from evrin.survey.doubts.height_busts import find_busts
from sites import grid_field, lay_out
from zoo import lattice, ring_of


def square(low, high):
    return np.array([[low, low], [high, low], [high, high], [low, high]], float)


def flat_field(side=21):
    return np.column_stack((lattice(side), np.zeros(side * side)))


@given(st.integers(1, 8), st.booleans())
def test_rings_within_rings_alternate_as_deep_as_they_are_drawn(depth, crisp):
    rings = [square(0.3 + k, 19.7 - k) for k in range(depth)]
    ground = evrin.triangulate(flat_field(), boundaries=rings, crisp=crisp)
    area = sum((-1) ** k * (19.4 - 2 * k) ** 2 for k in range(depth))
    if crisp:
        assert ground.plan_area == pytest.approx(area)
    for k in range(depth + 1):
        assert np.isfinite(ground.height(10.0, k - 0.2 + 0.01)) == (k % 2 == 1)


def test_rings_that_touch_at_a_corner_or_along_a_side_are_cut_as_drawn():
    corner = [square(2, 8), np.array([[8, 8], [14, 8], [14, 14], [8, 14]], float)]
    assert evrin.triangulate(flat_field(), boundaries=corner).plan_area == pytest.approx(72.0)
    side = [square(2, 8), np.array([[8, 2], [14, 2], [14, 8], [8, 8]], float)]
    assert evrin.triangulate(flat_field(), boundaries=side).plan_area == pytest.approx(72.0)
    hole = [square(2, 14), np.array([[2, 5], [6, 5], [6, 9], [2, 9]], float)]
    assert evrin.triangulate(flat_field(), boundaries=hole).plan_area == pytest.approx(144.0 - 16.0)
    point = [square(2, 14), np.array([[2, 8], [8, 5], [8, 11]], float)]
    assert evrin.triangulate(flat_field(), boundaries=point).plan_area == pytest.approx(144.0 - 18.0)


def test_breaklines_run_on_to_the_boundary_and_no_farther():
    line = [[-5.0, 10.5, 3], [25.0, 10.5, 3]]
    ground = evrin.triangulate(flat_field(), [line], [square(3.5, 15.5)])
    rows, sides = np.nonzero(ground.edge_lines >= 0)
    x = ground.vertices[ground.triangles[rows, sides], 0]
    assert x.min() == 3.5 and ground.plan_area == pytest.approx(144.0)
    assert ground.height(9.0, 10.5) == pytest.approx(3.0)


def test_extrapolated_ground_keeps_its_slope_and_lies_nearer_the_truth_than_the_nearest_height(tmp_path):
    lay_out_demo(tmp_path)
    known = Recipe.read(tmp_path / "clean.toml").build().surface.vertices
    fields = known[(known[:, 0] < 4070) & (known[:, 1] > 2850)]
    ground = evrin.triangulate(fields)
    ring = ground.vertices[ground.rim()[0], :2]
    legs = np.roll(ring, -1, axis=0) - ring
    out = np.column_stack((legs[:, 1], -legs[:, 0])) / np.hypot(*legs.T)[:, None]
    for distance in (1.0, 2.0, 5.0, 10.0):
        places = (ring + np.roll(ring, -1, axis=0)) / 2.0 + distance * out
        truth = true_height(*places.T)
        carried = heights_beyond(ground.vertices, rim_edges(ground), places) - truth
        nearest = ground.vertices[
            np.hypot(*(places[:, None] - ground.vertices[None, :, :2]).transpose(2, 0, 1)).argmin(1), 2
        ]
        assert np.sqrt(np.mean(carried**2)) < 0.6 * np.sqrt(np.mean((nearest - truth) ** 2))
        assert np.abs(carried).max() < 0.1


@given(st.floats(-0.4, 0.4), st.floats(-0.4, 0.4), st.floats(1.0, 12.0))
def test_a_plane_is_extrapolated_as_a_plane_to_every_side(east, north, distance):
    points = flat_field(7)
    points[:, 2] = 40 + east * points[:, 0] + north * points[:, 1]
    work = Triangulation(points)
    ring, made = work.reach(
        SourceLine("limit", np.column_stack((square(-distance, 6 + distance), np.zeros(4))), True, "keep")
    )
    work.mesh.trim(1.5)
    work.carve([[ring]])
    ground = work.surface()[0]
    assert made == len(ring.points) and ground.plan_area == pytest.approx((6 + 2 * distance) ** 2)
    assert np.allclose(
        ground.vertices[:, 2], 40 + east * ground.vertices[:, 0] + north * ground.vertices[:, 1], atol=1e-6
    )


def test_a_boundary_beyond_the_data_is_reached_and_reported(tmp_path):
    ring = "line,x,y\nr,3990,2790\nr,4036,2790\nr,4036,2836\nr,3990,2836\nr,3990,2790\n"
    table = '[[boundary]]\nname = "limit"\nfile = "r.csv"\neffect = "keep"\nreach = true\n'
    build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), r__csv=ring)).build()
    assert build.surface.plan_area == pytest.approx(46.0**2)
    assert [finding.code for finding in build.open_findings] == ["extrapolated-ground"]
    output = {build.surface.provenance.describe(v) for v in range(len(build.surface.vertices))}
    assert "extrapolated to boundary limit" in output
    plain = Recipe.read(lay_out(tmp_path, table.replace("reach = true", ""), field=grid_field(), r__csv=ring)).build()
    assert plain.surface.plan_area < 26.0**2
    with pytest.raises(evrin.RecipeError, match="reach is allowed only for effect"):
        Recipe.read(lay_out(tmp_path, table.replace("keep", "cut"), r__csv=ring))


def smallest_angles(ground):
    a, b, c = (ground.vertices[ground.triangles[:, k], :2] for k in range(3))
    sides = [np.hypot(*(q - p).T) for p, q in ((a, b), (b, c), (c, a))]
    shortest = np.sort(sides, axis=0)
    return np.degrees(np.arcsin(np.clip(2 * ground.triangle_areas / (shortest[1] * shortest[2]), 0, 1)))


@given(st.integers(0, 10**6), st.floats(1.0, 25.0))
def test_thin_triangles_go_from_the_rim_inwards_and_inside_only_when_asked(seed, smallest):
    rng = np.random.default_rng(seed)
    points = np.column_stack((rng.uniform(0, 30, (60, 2)).round(2), np.zeros(60)))
    work = Triangulation(points)
    before = work.surface()[0]
    removed = work.mesh.trim(smallest_deg=smallest)
    if work.mesh.alive[: work.mesh.triangle_count].any():
        after = work.surface()[0]
        on_rim = (after.mates.reshape(-1, 3) < 0).any(axis=1)
        assert (smallest_angles(after)[on_rim] >= smallest - 1e-6).all()
        assert removed == len(before.triangles) - len(after.triangles)
    inside = Triangulation(points)
    inside.mesh.trim(smallest_deg=smallest, inside=True)
    if inside.mesh.alive[: inside.mesh.triangle_count].any():
        assert (smallest_angles(inside.surface()[0]) >= smallest - 1e-6).all()


def test_trimming_inside_opens_holes_and_the_findings_know(tmp_path):
    rows = grid_field(8).splitlines(keepends=True)
    hollow = "".join(r for k, r in enumerate(rows) if not (2 <= k % 8 <= 5 and 2 <= k // 8 <= 5))
    table = "[trim]\nlongest_edge = 8.0\ninside = true\n"
    build = Recipe.read(lay_out(tmp_path, table, field=hollow)).build()
    assert len(build.surface.rim()) == 2 and build.open_findings == []
    with pytest.raises(evrin.RecipeError, match="give a longest_edge, a smallest_angle_deg, or both"):
        Recipe.read(lay_out(tmp_path, "[trim]\ninside = true\n"))


def test_the_outline_of_a_surface_is_its_edge_in_space():
    ground = evrin.triangulate(flat_field(6), boundaries=[square(0.5, 4.5), square(2, 3)])
    rings = outline(ground)
    areas = sorted(shapely.LinearRing(ring[:, :2]).is_ccw * 2 - 1 for ring in rings)
    assert areas == [-1, 1] and sum(shapely.Polygon(ring[:, :2]).area for ring in rings) == pytest.approx(17.0)
    assert [line.name for line in as_lines(rings, "edge")] == ["edge 1", "edge 2"]


@pytest.mark.slow
@given(st.integers(0, 10**6))
def test_a_tight_outline_holds_every_point_and_crosses_no_line(seed):
    rng = np.random.default_rng(seed)
    angle = rng.uniform(0.3, 2 * np.pi - 0.3, 250)
    radius = rng.uniform(8, 10, 250)
    points = np.column_stack((radius * np.cos(angle), radius * np.sin(angle), np.zeros(250)))
    line = points[np.argsort(angle)[[3, 40]]]
    ring = shapely.Polygon(outline_round(points)[0][:, :2])
    assert all(ring.buffer(1e-9).covers(shapely.Point(place)) for place in points[:, :2])
    assert ring.area < 0.8 * shapely.MultiPoint(points[:, :2]).convex_hull.area
    kept = outline_round(points, [line], longest_edge=4.0)
    leg = shapely.LineString(line[:, :2])
    assert not any(shapely.LinearRing(each[:, :2]).crosses(leg) for each in kept)
    with pytest.raises(DataError, match="leaves nothing"):
        outline_round(points, longest_edge=1e-6)


POND = "line,x,y\np,4007,2807\np,4018,2808\np,4017,2818\np,4006,2817\np,4007,2807\n"


def test_water_lies_level_inside_its_shore_and_its_bed_below(tmp_path):
    table = '[[flat]]\nfile = "p.csv"\nname = "pond"\nlevel = 39.5\n'
    build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), p__csv=POND)).build()
    assert build.surface.height([10 + 4000, 4015], [2812.0, 2815]).tolist() == [39.5, 39.5]
    assert build.tally["flattened"].iloc[-1] == 4 and build.open_findings == []
    deep = Recipe.read(lay_out(tmp_path, table + "depth = 1.25\nbank = 0.5\n", field=grid_field(), p__csv=POND)).build()
    assert deep.surface.height(4012.0, 2812.0) == 38.25
    shore = build.surface.lines[0]
    assert shore.effect == "flat" and shore.closed and (shore.points[:, 2] == 39.5).all()
    line = "line,x,y,z\nW,4001,2812,40.2\nW,4024,2812,40.2\n"
    source = '[[source]]\nfile = "w.csv"\nrole = "breaklines"\n'
    cut = Recipe.read(lay_out(tmp_path, source + table, field=grid_field(), p__csv=POND, w__csv=line)).build()
    assert cut.surface.height([4003.0, 4012.0, 4022.0], [2812.0] * 3)[1] == 39.5 and cut.open_findings == []
    assert [len(line.points) for line in cut.surface.lines if line.name == "W"] == [2, 2]


@pytest.mark.parametrize(
    ("keys", "output"),
    [
        ("", "has no single height. State its level"),
        ('attribute = "wl"\n', r"has no attribute 'wl'\. Known here"),
        ("level = 39.5\ndepth = 1.0\nbank = 9.0\n", "no room to be drawn in by 9"),
        ('level = 39.5\nkeep = { names = ["q"] }\n', "no line is selected for a flat"),
    ],
)
def test_flats_that_cannot_be_laid_give_the_reason(tmp_path, keys, output):
    table = f'[[flat]]\nfile = "p.csv"\n{keys}'
    with pytest.raises(DataError, match=output):
        Recipe.read(lay_out(tmp_path, table, field=grid_field(), p__csv=POND)).build()


def test_edges_near_an_alignment_are_flipped_to_run_across_it():
    rng = np.random.default_rng(4)
    bend = np.column_stack((np.linspace(0, 100, 40), 12 * np.sin(np.linspace(0, 3, 40))))
    points = np.column_stack((rng.uniform(0, 100, 500), rng.uniform(-10, 25, 500), rng.uniform(0, 1, 500)))
    fixed = SourceLine("string", np.column_stack((bend[::6] + [0.0, 3.0], np.zeros(7))))

    def askew(work):
        ground = work.surface()[0]
        ends = ground.vertices[ground.edges]
        middle = ends[:, :, :2].mean(axis=1)
        near = np.hypot(*(middle[:, None] - bend[None]).transpose(2, 0, 1)).min(axis=1) < 4.0
        along = np.gradient(bend, axis=0)[np.hypot(*(middle[:, None] - bend[None]).transpose(2, 0, 1)).argmin(axis=1)]
        leg = ends[:, 1, :2] - ends[:, 0, :2]
        cosine = np.abs((leg * along).sum(axis=1)) / np.hypot(*leg.T) / np.hypot(*along.T)
        return float(np.degrees(np.arcsin(cosine[near])).mean()), ground

    work = Triangulation(points, [fixed])
    before, plain = askew(work)
    turned = work.turn_along(bend, 6.0, 4.0)
    after, ground = askew(work)
    assert turned > 30 and after < before - 5.0
    assert ground.plan_area == pytest.approx(plain.plan_area) and np.array_equal(ground.vertices, plain.vertices)
    assert (ground.edge_lines >= 0).sum() == (plain.edge_lines >= 0).sum()
    assert work.turn_along(bend, 6.0, 4.0) == 0


@given(st.integers(0, 10**6), st.sampled_from([0.0, 0.3, 1.0]))
def test_busts_are_found_on_steep_ground_and_walls_are_spared(seed, steep):
    rng = np.random.default_rng(seed)
    xy = lattice(14) * 4.0 + rng.uniform(-0.8, 0.8, (196, 2))
    xy = xy[np.abs(xy[:, 1] - 27.3) > 1.5]
    z = 40 + steep * xy[:, 0] + 0.5 * np.sin(xy[:, 1] / 9.0) + rng.normal(0, 0.02, len(xy))
    inner = np.flatnonzero(((xy > 6) & (xy < 46)).all(axis=1))
    bad = rng.choice(inner, 2, replace=False)
    if np.hypot(*(xy[bad[0]] - xy[bad[1]])) < 14.0:
        bad = bad[:1]
    z[bad] += rng.choice([-1.0, 1.0], len(bad)) * rng.uniform(3.0, 9.0, len(bad))
    wall = np.column_stack((np.linspace(10, 44, 9), np.full(9, 27.3), np.linspace(10, 44, 9) * steep + 43.0))
    ground = evrin.triangulate(np.vstack((np.column_stack((xy, z)), wall)), [wall])
    found = {tuple(place) for place in ground.vertices[find_busts(ground).vertices, :2].tolist()}
    assert found <= {tuple(place) for place in xy[bad].tolist()}
    clear = [b for b in bad if abs(xy[b, 1] - 27.3) > 10.0]
    assert {tuple(place) for place in xy[clear].tolist()} <= found


def face_with_a_bust(seed, slope, bust):
    """A quarry face of 12 m with crest and toe as lines; the place of the bust in it, and those that are found."""
    rng = np.random.default_rng(seed)
    width = 12.0 / slope
    xy = lattice(26) * (4.0, 2.0) + rng.uniform(-0.8, 0.8, (676, 2))
    off = xy[:, 1] - 20.0 - 2.0 * np.sin(xy[:, 0] / 17.0)
    z = np.clip(off * slope, 0.0, 12.0) + rng.normal(0.0, 0.02, len(xy))
    face = (off > 0.2 * width) & (off < 0.8 * width) & (np.abs(xy[:, 0] - 50.0) < 40.0)
    bad = rng.choice(np.flatnonzero(face))
    z[bad] += bust
    x = np.linspace(0.0, 100.0, 41)
    toe = np.column_stack((x, 20.0 + 2.0 * np.sin(x / 17.0), np.zeros(41)))
    ground = evrin.triangulate(np.column_stack((xy, z)), [toe, toe + (0.0, width, 12.0)])
    return xy[bad].tolist(), ground.vertices[find_busts(ground).vertices, :2].tolist()


@pytest.mark.parametrize("slope", [1.0, 2.0, 3.0])
def test_busts_in_a_quarry_face_are_found_between_its_crest_and_its_toe(slope):
    trials = [face_with_a_bust(seed, slope, bust) for seed in range(12) for bust in (-1.5, 1.5)]
    assert all(found in ([], [place]) for place, found in trials)
    assert sum(found == [place] for place, found in trials) >= 22


def test_busts_are_left_out_only_when_the_recipe_asks(tmp_path):
    rows = grid_field(8).splitlines(keepends=True)
    rows[27] = rows[27].replace(",40.", ",47.")
    rows[36] = ",".join([*rows[36].split(",")[:3], "0.0,GRASS\n"])
    field = "".join(rows)
    plain = Recipe.read(lay_out(tmp_path, field=field)).build()
    assert sorted(f.code for f in plain.open_findings) == ["height-spike", "zero-height"]
    clean = Recipe.read(lay_out(tmp_path, "[busts]\n", field=field)).build()
    assert clean.open_findings == [] and clean.tally["left_out"].iloc[-1] == 2
    assert [f.shots[0].split(",")[0] for f in clean.findings if f.code == "bust-left-out"] == ["shot 28", "shot 37"]
    floor = Recipe.read(lay_out(tmp_path, '[busts]\nleave_out = ["zero"]\n', field=field)).build()
    assert [f.code for f in floor.open_findings] == ["height-spike"]
    ring = ring_of(12, 9.0)
    assert len(ring) == 12
