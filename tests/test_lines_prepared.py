"""Lines cut, weeded, filled, levelled, moved aside and parted from flats, each judged by geometry."""

import itertools

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import DataError, Recipe, RecipeError
from evrin.survey.close_points import kept_instead
from evrin.survey.lines.contour_levels import Ladder, levels_along
from evrin.survey.lines.cutting import clipped_outside, cut_at, cut_between, nearest_on
from evrin.survey.lines.end_to_end import joined_end_to_end
from evrin.survey.lines.filling import filled
from evrin.survey.lines.offsets import drawn_in, moved_left
from evrin.survey.lines.strands import Strand
from evrin.survey.lines.weeding import Weed, weeded
from sites import grid_field, lay_out
from zoo import places, ring_of


def strand(places, closed=False, name="L"):
    xyz = np.array(places, float)
    xyz = np.column_stack((xyz, np.zeros(len(xyz)))) if xyz.shape[1] == 2 else xyz
    return Strand(name, xyz, np.arange(len(xyz)), closed)


def wavy(rng, count, lines):
    """Lines side by side, some rings, that come close to one another and never cross."""
    out = []
    along = np.sort(rng.uniform(0, 60, count))
    for k in range(lines):
        y = 2.0 * k + 0.9 * np.sin(along / 3.0 + k) + rng.uniform(-0.05, 0.05, count)
        out.append(strand(np.column_stack((along, y, 40 + np.cumsum(rng.normal(0, 0.05, count))))))
    angle = np.linspace(0, 2 * np.pi, count, endpoint=False)
    for k in range(lines):
        radius = 5.0 + 1.0 * k + 0.45 * np.sin(5 * angle + k)
        ring = np.column_stack((100 + radius * np.cos(angle), radius * np.sin(angle), np.full(count, 40.0 + k)))
        out.append(strand(ring, closed=True))
    return out


def legs_of(strands):
    legs, owner = [], []
    for k, each in enumerate(strands):
        around = each.around()[:, :2]
        legs += [shapely.LineString(pair) for pair in itertools.pairwise(around)]
        owner += [k] * (len(around) - 1)
    return np.array(legs), np.array(owner)


def crossings(strands):
    legs, _ = legs_of(strands)
    tree = shapely.STRtree(legs)
    return len(tree.query(legs, predicate="crosses")[0])


def distance_in_space(vertex, line):
    best = np.inf
    for a, b in itertools.pairwise(line):
        leg = b - a
        part = np.clip(((vertex - a) @ leg) / max(leg @ leg, 1e-300), 0, 1)
        best = min(best, float(np.linalg.norm(vertex - a - part * leg)))
    return best


@pytest.mark.slow
@given(st.integers(0, 10**6), st.sampled_from([0.01, 0.1, 0.5, 2.0]), st.booleans())
def test_weeded_lines_stay_within_the_tolerance_and_never_cross(seed, tolerance, by_bends):
    rng = np.random.default_rng(seed)
    strands = wavy(rng, 30, 3)
    assert crossings(strands) == 0
    how = Weed(tolerance=tolerance) if not by_bends else Weed(spacing=3.0 * tolerance + 0.5, deflection_deg=25.0)
    done = weeded(strands, [how] * len(strands))
    left = [each.take(np.flatnonzero(kept)) for each, kept in zip(strands, done.kept, strict=True)]
    assert crossings(left) == 0
    assert done.before == sum(map(len, strands)) and done.after == sum(map(len, left))
    for before, after, stray in zip(strands, left, done.strays, strict=True):
        assert len(after) >= (3 if before.closed else 2)
        farthest = max(distance_in_space(vertex, after.around()) for vertex in before.xyz)
        assert farthest <= stray + 1e-9
        assert by_bends or stray <= tolerance + 1e-9
        if not before.closed:
            assert (after.xyz[[0, -1]] == before.xyz[[0, -1]]).all()


def test_a_vertex_of_another_line_between_old_course_and_new_keeps_the_bend():
    bend = strand([(0, 0), (5, 2), (10, 0)])
    alone = weeded([bend], [Weed(tolerance=3.0)])
    assert alone.kept[0].tolist() == [True, False, True] and alone.strays.tolist() == [2.0]
    for other in ([(5, 1), (5, 0.5)], [(5, 2), (5, 8)], [(4, 0), (6, 0)]):
        done = weeded([bend, strand(other)], [Weed(tolerance=3.0), None])
        assert done.kept[0].all() and done.kept[1].all()
    assert not weeded([bend, strand([(5, 2.1), (5, 8)])], [Weed(tolerance=3.0), None]).kept[0].all()


def test_height_counts_when_a_line_is_weeded():
    ramp = strand([(0, 0, 40), (1, 0, 40), (2, 0, 41), (3, 0, 41)])
    assert weeded([ramp], [Weed(tolerance=0.1)]).kept[0].all()
    even = strand([(0, 0, 40), (1, 0, 40.5), (2, 0, 41), (3, 0, 41.5)])
    assert weeded([even], [Weed(tolerance=0.1)]).kept[0].tolist() == [True, False, False, True]
    plan = strand([(0, 0, np.nan), (1, 0, np.nan), (2, 0, np.nan)])
    assert weeded([plan], [Weed(spacing=5.0, deflection_deg=1.0)]).kept[0].tolist() == [True, False, True]
    for wrong in (Weed(spacing=1.0), Weed(tolerance=-1.0)):
        with pytest.raises(DataError, match="weeding"):
            weeded([plan], [wrong])


@given(places(2, 12), st.floats(0.3, 5.0), st.booleans())
def test_filling_keeps_the_course_and_leaves_no_leg_too_long(xy, spacing, closed):
    line = strand(np.column_stack((xy - xy[0], np.arange(len(xy)))), closed=closed and len(xy) > 2)
    span = np.ptp(line.xyz[:, :2]) + 1.0
    done = filled(line, spacing * span / 10.0)
    lengths = np.hypot(*np.diff(done.around()[:, :2], axis=0).T)
    assert (lengths <= spacing * span / 10.0 * (1 + 1e-9)).all()
    assert done.xyz[done.rows >= 0].tolist() == line.xyz.tolist()
    course = shapely.LineString(line.around()[:, :2])
    assert all(course.distance(shapely.Point(place)) <= 1e-9 * span for place in done.xyz[:, :2])
    with pytest.raises(DataError, match="above 0"):
        filled(line, 0.0)


@given(st.integers(0, 10**6), st.floats(0.0, 1.0), st.floats(0.0, 1.0), st.booleans())
def test_cut_lines_add_up_to_the_whole(seed, first, last, closed):
    rng = np.random.default_rng(seed)
    line = strand(np.column_stack((ring_of(9, 10.0), rng.uniform(0, 5, 9))), closed=closed)
    course = shapely.LineString(line.around()[:, :2])
    one, other = (course.interpolate(part, normalized=True).coords[0] for part in sorted((first, last)))
    before, after = cut_at(line, one, "before"), cut_at(line, one, "after")
    total = sum(shapely.LineString(part.xyz[:, :2]).length for part in (before, after) if len(part) > 1)
    assert total == pytest.approx(course.length)
    assert nearest_on(line, one)[1] < 1e-9
    left = cut_between(line, one, other)
    removed = abs(course.project(shapely.Point(other)) - course.project(shapely.Point(one)))
    removed = min(removed, course.length - removed) if closed else removed
    assert sum(shapely.LineString(part.xyz[:, :2]).length for part in left) == pytest.approx(
        course.length - removed, abs=1e-6
    )
    kept = np.concatenate([part.rows for part in left] or [np.empty(0, int)])
    assert len(set(kept[kept >= 0].tolist())) <= 9


def test_lines_end_at_the_shore_of_a_flat_and_begin_again_behind_it():
    square = np.array([[2.0, -1], [4, -1], [4, 1], [2, 1]])
    line = strand([(0, 0, 5), (3, 0, 6), (6, 0, 7)])
    parts, removed = clipped_outside(line, [square], [4.5])
    assert [part.xyz.tolist() for part in parts] == [[[0, 0, 5], [2, 0, 4.5]], [[4, 0, 4.5], [6, 0, 7]]]
    assert removed.tolist() == [1]
    across, lost = clipped_outside(strand([(0, 0, 5), (6, 0, 7)]), [square], [4.5])
    assert len(across) == 2 and len(lost) == 0
    (same,), _ = clipped_outside(strand([(0, 3, 5), (6, 3, 7)]), [square], [4.5])
    assert len(same) == 2 and same.rows.tolist() == [0, 1]
    inside, lost = clipped_outside(strand([(2.5, 0, 5), (3.5, 0, 7)]), [square], [4.5])
    assert inside == [] and lost.tolist() == [0, 1]
    island = [square, np.array([[2.5, -0.5], [3.5, -0.5], [3.5, 0.5], [2.5, 0.5]])]
    parts, _ = clipped_outside(strand([(0, 0, 5), (3, 0, 6), (6, 0, 7)]), island, [4.5] * len(island))
    assert [part.xyz[0, 0] for part in parts] == [0.0, 2.5, 4.0]


def test_a_line_across_areas_at_two_levels_meets_each_at_its_own(tmp_path):
    rings = [
        [(4002, 2806), (4008, 2806), (4008, 2812), (4002, 2812)],
        [(4014, 2806), (4020, 2806), (4020, 2812), (4014, 2812)],
    ]
    ponds = "line,x,y,z\n" + "".join(
        f"p{k},{x},{y},{40 + 2 * k}\n" for k, ring in enumerate(rings) for x, y in [*ring, ring[0]]
    )
    line = "line,x,y,z\nditch,4000,2809.5,41\nditch,4024,2809.5,41\n"
    tables = '[[source]]\nfile = "d.csv"\nrole = "breaklines"\n[[flat]]\nfile = "p.csv"\n'
    path = lay_out(tmp_path, tables, field=grid_field(), d__csv=line, p__csv=ponds)
    surface = Recipe.read(path).build().surface
    met = {x: z for x, y, z in surface.vertices.tolist() if y == 2809.5}
    assert {x: met[x] for x in (4002.0, 4008.0, 4014.0, 4020.0)} == {4002.0: 40, 4008.0: 40, 4014.0: 42, 4020.0: 42}
    assert float(surface.height(4017, 2809.5)) == 42.0


def test_bare_contours_take_their_levels_from_ladders_up_and_down():
    lines = [strand([(0, k), (9, k)], name=f"c{k}") for k in range(5)]
    up = levels_along(lines, [Ladder(((4.0, -1.0), (4.0, 9.0)), 42.0, 0.5)])
    assert up.levels.tolist() == [42.0, 42.5, 43.0, 43.5, 44.0] and up.clashes == []
    down = levels_along(lines, [Ladder(((4.0, 9.0), (4.0, 2.5)), 44.0, -0.5)], [((1.0, 0.2), 7.0)])
    assert np.isnan(down.levels[1:3]).all() and down.levels[[0, 3, 4]].tolist() == [7.0, 43.5, 44.0]
    back = levels_along(lines, [Ladder(((4.0, -1.0), (4.0, 0.5), (5.0, 0.5), (5.0, -1.0)), 42.0, 0.5)])
    assert [(clash.line, clash.levels) for clash in back.clashes] == [(0, (42.0, 42.5))]
    astray = levels_along(lines, [Ladder(((40.0, -1.0), (40.0, 9.0)), 42.0, 0.5)], [((4.0, 12.0), 7.0)], reach=1.0)
    assert [place for place, _ in astray.unmet] == [(40.0, -1.0), (4.0, 12.0)] and np.isnan(astray.levels).all()
    with pytest.raises(DataError, match="needs a step"):
        levels_along(lines, [Ladder(((4.0, -1.0), (4.0, 9.0)), 42.0, 0.0)])


@pytest.mark.parametrize("along", [((4.0, -1.0), (4.0, 1.0), (6.0, 4.0)), ((4.0, 0.0), (4.0, 2.0), (4.0, 4.0))])
def test_a_contour_at_a_bend_of_a_ladder_counts_once_and_so_do_those_at_its_ends(along):
    lines = [strand([(0, k), (9, k)], name=f"c{k}") for k in range(5)]
    assert levels_along(lines, [Ladder(along, 42.0, 0.5)]).levels.tolist() == [42.0, 42.5, 43.0, 43.5, 44.0]


@given(st.integers(3, 40), st.floats(0.01, 2.0))
def test_a_ring_drawn_in_lies_inside_at_that_distance(count, distance):
    ring = ring_of(count, 10.0)
    for turned in (ring, ring[::-1]):
        inner = shapely.Polygon(drawn_in(turned, distance))
        outer = shapely.Polygon(turned)
        assert outer.contains(inner) and inner.exterior.distance(outer.exterior) == pytest.approx(distance)
        assert shapely.Polygon(drawn_in(turned, -distance)).contains(outer)
    with pytest.raises(DataError, match="no room"):
        drawn_in(ring, 11.0)


def test_a_line_is_moved_to_its_left_with_mitred_bends():
    assert moved_left(np.array([[0.0, 0], [4, 0], [4, 0], [4, 4]]), 1.0).tolist() == [[0, 1], [3, 1], [3, 1], [3, 4]]
    assert moved_left(np.array([[0.0, 0], [4, 0]]), -0.5).tolist() == [[0, -0.5], [4, -0.5]]
    with pytest.raises(DataError, match="without length"):
        moved_left(np.zeros((3, 2)), 1.0)


@given(st.integers(0, 10**6), st.floats(0.05, 1.5), st.sampled_from(["first", "last", "lowest", "highest", "mean"]))
def test_one_pass_leaves_no_near_duplicates(seed, within, policy):
    rng = np.random.default_rng(seed)
    xyz = np.column_stack((rng.uniform(0, 5, (40, 2)), rng.uniform(0, 1, 40)))
    firm = rng.random(40) < 0.1
    is_kept = kept_instead(xyz, within, policy, firm)
    stays = is_kept == np.arange(40)
    assert stays[firm].all() and stays[is_kept].all()
    away = np.hypot(*(xyz[:, None, :2] - xyz[None, :, :2]).transpose(2, 0, 1))
    close = (away <= within) & stays[:, None] & stays[None, :] & ~np.eye(40, dtype=bool)
    assert not (close & ~(firm[:, None] & firm[None, :])).any()
    assert (away[np.arange(40), is_kept] <= within).all()
    if policy == "highest":
        assert all(xyz[is_kept[k], 2] >= xyz[k, 2] or firm[is_kept[k]] for k in range(40))
    with pytest.raises(DataError, match="above 0"):
        kept_instead(xyz, 0.0)


def heights_at(ground, *at):
    return [round(float(h), 6) for h in ground.height(*np.array(at, float).T)]


def test_a_wall_holds_both_heights_and_spots_beside_it_stay_apart(tmp_path):
    lines = "line,x,y,z\nFOOT,4002,2812.5,40\nFOOT,4022,2812.5,40\n"
    source = '[[source]]\nfile = "w.csv"\nrole = "breaklines"\n'
    wall = '[[wall]]\nline = "FOOT"\nhigh_side = "left"\nrise = 1.5\noffset = 0.01\n'
    build = Recipe.read(lay_out(tmp_path, source + wall, field=grid_field(), w__csv=lines)).build()
    assert heights_at(build.surface, (4012, 2812.5), (4012, 2812.51)) == [40.0, 41.5]
    assert "1 wall parted" in build.stages[1].did and build.open_findings == []
    both = lines + "TOP,4002,2812.5,41.2\nTOP,4022,2812.5,41.2\n"
    pair = '[[wall]]\nline = "TOP"\nhigh_side = "right"\n'
    ground = Recipe.read(lay_out(tmp_path, source + pair, field=grid_field(), w__csv=both)).build().surface
    assert heights_at(ground, (4012, 2812.5), (4012, 2812.49)) == [40.0, 41.2]
    removed = Recipe.read(
        lay_out(tmp_path, source + pair.replace("TOP", "X*"), field=grid_field(), w__csv=both)
    ).build()
    assert {f.code for f in removed.open_findings} == {"cut-does-not-fit", "unlike-heights"}
    coded = (
        grid_field()
        + "90,2812.5,4003,40,FOOT1\n91,2812.5,4021,40,FOOT1\n92,2812.5,4003,41,TOP1\n93,2812.5,4021,41,TOP1\n"
    )
    codes = '[field_codes]\ncode = [{ match = "FOOT", means = "line" }, { match = "TOP", means = "line" }]\n'
    output = Recipe.read(
        lay_out(tmp_path, codes + '[[wall]]\nline = "TOP1"\nhigh_side = "left"\n', field=coded)
    ).build()
    assert heights_at(output.surface, (4012, 2812.5), (4012, 2812.51)) == [40.0, 41.0] and output.open_findings == []
    assert output.tally["used"].iloc[-1] == 40


CROSS = "line,x,y,z\nA,4003,2803,40.5\nA,4021,2821,40.5\nB,4003,2821,38.5\nB,4021,2803,38.5\n"


@pytest.mark.parametrize(
    ("policy", "height", "output"),
    [
        ("mean", 39.5, "the mean is used"),
        ("first", 40.5, "first in the recipe"),
        ("higher", 40.5, "the higher is used"),
        ("lower", 38.5, "the lower is used"),
    ],
)
def test_lines_that_cross_at_unlike_heights_follow_the_policy_and_are_reported(tmp_path, policy, height, output):
    extra = f'[[source]]\nfile = "x.csv"\nrole = "breaklines"\n[crossings]\npolicy = "{policy}"\n'
    build = Recipe.read(lay_out(tmp_path, extra, field=grid_field(), x__csv=CROSS)).build()
    assert heights_at(build.surface, (4012, 2812)) == [height]
    (found,) = [f for f in build.findings if f.code == "crossing-breaklines"]
    assert "2.000 m apart" in found.message and output in found.message


def test_refuse_stops_the_build_and_names_every_place(tmp_path):
    extra = '[[source]]\nfile = "x.csv"\nrole = "breaklines"\n[crossings]\npolicy = "refuse"\n'
    with pytest.raises(
        DataError, match=r"heights differ at 1 place.*\n  2.000 m apart: A and B cross at \(4012.000, 2812"
    ):
        Recipe.read(lay_out(tmp_path, extra, field=grid_field(), x__csv=CROSS)).build()
    again = grid_field() + "99,2800.000,4000.000,41.0,GRASS\n"
    with pytest.raises(DataError, match=r"1\.000 m apart: shot 1, code GRASS.* and shot 99"):
        Recipe.read(lay_out(tmp_path, '[duplicates]\npolicy = "refuse"\n', field=again)).build()
    both = '[duplicates]\npolicy = "refuse"\nwithin = 0.1\n'
    with pytest.raises(RecipeError, match="leave one of the two out"):
        Recipe.read(lay_out(tmp_path, both, field=again))
    agreed = CROSS.replace("38.5", "40.505")
    Recipe.read(lay_out(tmp_path, extra, field=grid_field(), x__csv=agreed)).build()


@pytest.mark.parametrize(
    ("policy", "height"), [("mean", 40.5), ("first", 40.0), ("last", 41.0), ("lowest", 40.0), ("highest", 41.0)]
)
def test_unlike_heights_at_one_place_follow_the_policy(tmp_path, policy, height):
    again = grid_field() + "99,2800.000,4000.000,41.0,GRASS\n"
    build = Recipe.read(lay_out(tmp_path, f'[duplicates]\npolicy = "{policy}"\n', field=again)).build()
    assert heights_at(build.surface, (4000, 2800)) == [height]
    assert [f.code for f in build.open_findings] == ["unlike-heights"]


def test_near_duplicates_merge_are_counted_and_reported_where_their_heights_differ(tmp_path):
    near = grid_field() + "99,2800.010,4000.000,40.3,GRASS\n98,2805.000,4000.010,40.0,GRASS\n"
    build = Recipe.read(lay_out(tmp_path, '[duplicates]\npolicy = "highest"\nwithin = 0.02\n', field=near)).build()
    assert build.tally["merged"].iloc[-1] == 2 and heights_at(build.surface, (4000, 2800.01)) == [40.3]
    assert [(f.code, f.is_open) for f in build.findings] == [("near-duplicates", True), ("near-duplicates", False)]
    assert "0.010 m apart in plan, 0.300 m in height" in build.findings[0].message
    mean = Recipe.read(lay_out(tmp_path, "[duplicates]\nwithin = 0.02\n", field=near)).build()
    assert heights_at(mean.surface, (4000, 2800)) == [40.15]


def test_lines_that_pass_a_shot_at_another_height_are_reported_and_the_shot_is_kept(tmp_path):
    lines = "line,x,y,z\nA,4000,2802,41\nA,4000,2818,41\nZ,4011,2811,40\nZ,4011,2811,40\n"
    extra = '[[source]]\nfile = "x.csv"\nrole = "breaklines"\n'
    build = Recipe.read(lay_out(tmp_path, extra, field=grid_field(height=lambda x, y: 40.0), x__csv=lines)).build()
    misses = [f for f in build.findings if f.code == "line-off-shot"]
    assert [f.place for f in misses] == [(4000.0, 2805.0 + 5 * k) for k in range(3)] or len(misses) >= 1
    assert all("at 41.000 over a shot or vertex at 40.000" in f.message for f in misses)
    assert [f.message for f in build.findings if f.code == "lone-line-shot"] == [
        "line Z has 2 vertices at one place, so it joins nothing"
    ]


def test_lines_that_lie_on_one_another_are_both_edges_and_their_heights_are_reported(tmp_path):
    lines = "line,x,y,z\nA,4002,2802.5,40\nA,4022,2802.5,42\nB,4007,2802.5,40.5\nB,4012,2802.5,41.4\nB,4012,2818,41\n"
    extra = '[[source]]\nfile = "x.csv"\nrole = "breaklines"\n'
    build = Recipe.read(lay_out(tmp_path, extra, field=grid_field(), x__csv=lines)).build()
    assert heights_at(build.surface, (4007, 2802.5), (4012, 2802.5), (4017, 2802.5)) == [40.5, 41.4, 41.7]
    (found,) = [f for f in build.findings if f.code == "line-off-shot"]
    assert found.place == (4012.0, 2802.5) and "A passes at 41.000 over a shot or vertex at 41.400" in found.message
    rows, sides = np.nonzero(build.surface.edge_lines >= 0)
    assert {build.surface.lines[k].name for k in build.surface.edge_lines[rows, sides]} == {"A", "B"}


@given(st.integers(0, 10**6), st.integers(1, 8), st.floats(0.0, 0.04), st.booleans())
def test_pieces_in_any_order_and_direction_become_the_lines_they_were(seed, pieces, gap, is_ring):
    rng = np.random.default_rng(seed)
    wholes, parts = [], []
    for level in (40.0, 41.0, 42.0):
        turn = np.linspace(0.0, 2.0 * np.pi if is_ring else 5.0, 60)
        place = np.column_stack((np.cos(turn), np.sin(turn))) * (level - 30.0)
        wholes.append(place)
        cuts = np.concatenate(([0], np.sort(rng.choice(np.arange(3, 57, 3), pieces - 1, replace=False)), [59]))
        with_level = rng.integers(pieces)
        for k, (start, end) in enumerate(itertools.pairwise(cuts)):
            xy = place[start : end + 1] + rng.uniform(-gap / 2, gap / 2, 2)
            z = np.full(len(xy), level if k == with_level else np.nan)
            xyz = np.column_stack((xy, z))
            parts.append(Strand.made(f"{level}", xyz[:: rng.choice([-1, 1])], where="c"))
    order = rng.permutation(len(parts))
    joined = joined_end_to_end([parts[k] for k in order], 0.06)
    assert len(joined) == 3 and all(line.closed == is_ring for line in joined)
    for line in joined:
        assert np.unique(line.xyz[:, 2]).tolist() == [float(line.name)]
        assert len(line) == 60 + pieces - 1
        steps = np.hypot(*np.diff(line.xyz[:, :2], axis=0).T)
        assert steps.max() < 2.0


def test_bare_pieces_joined_get_one_level_and_pieces_at_unlike_levels_stay_apart(tmp_path):
    rows = ["line,x,y"]
    for k in range(3):
        rows += [f"{k}a,{x},{10 * k}" for x in (0, 10, 20)] + [f"{k}b,{x},{10 * k}.02" for x in (40, 30, 20)]
    (tmp_path / "c.csv").write_text("\n".join(rows))
    table = '[[source]]\nfile = "c.csv"\nrole = "contours"\nheights = "levels"\n'
    table += "ladder = [{ along = [[5, -5], [5, 30]], start = 40, step = 0.5 }]\n"
    (tmp_path / "c.toml").write_text(table)
    apart = evrin.Recipe.read(tmp_path / "c.toml").build()
    assert len([f for f in apart.findings if f.code == "contour-without-level"]) == 3
    (tmp_path / "c.toml").write_text(table + "join = 0.05\n")
    build = evrin.Recipe.read(tmp_path / "c.toml").build()
    assert float(build.surface.height(39.0, 5.0)) == pytest.approx(40.25, abs=0.01) and not build.open_findings
    assert build.tally["used"].iloc[-1] + build.tally["merged"].iloc[-1] == build.tally["read"].iloc[-1] == 18
