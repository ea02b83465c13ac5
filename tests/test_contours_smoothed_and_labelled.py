"""Smoothed contours cross nothing, labels cover nothing, depressions are output, and given contours are compared."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin.analysis import contour_fit, contour_labels
from evrin.analysis.contours.contour_labelling import around_labels
from evrin.base.errors import DataError
from evrin.draw.depressions import depression_ticks
from evrin.surface import SourceLine
from evrin.tin.query.nearest_lines import distances_to_lines
from exact import sign, turn
from test_contours import random_ground
from zoo import SITE


def bowl(depth=2.0, side=4.0):
    half = side / 2.0
    return evrin.triangulate([[0, 0, depth], [side, 0, depth], [side, side, depth], [0, side, depth], [half, half, 0]])


def ground_with_lines(seed, whole):
    """Random ground with a few breaklines through it, their heights unlike the ground's."""
    rng = np.random.default_rng(seed)
    points = np.column_stack((rng.uniform(0, 100, (90, 2)), rng.uniform(0, 5, 90)))
    if whole:
        points[:, 2] = np.round(points[:, 2])
    x = np.linspace(5.0, 95.0, 7)
    lines = [np.column_stack((x, 30.0 * k + rng.uniform(0, 20, 7), rng.uniform(0, 5, 7))) for k in range(3)]
    return evrin.triangulate(points, breaklines=lines)


def surely(a, b, c):
    """The side of a line that a place is on: by floating point where that is beyond doubt, else exactly."""
    rough = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    return sign(rough) if abs(rough) > 1e-9 else sign(turn(a, b, c))


def meet(one, other):
    """Whether two segments share a place."""
    (a, b), (c, d) = one, other
    return surely(a, b, c) * surely(a, b, d) <= 0 and surely(c, d, a) * surely(c, d, b) <= 0


def near_pairs(one, other):
    """Pairs of legs whose boxes touch."""
    tree = shapely.STRtree(shapely.linestrings(other))
    return tree.query(shapely.linestrings(one)).T.tolist()


def legs(lines):
    """All legs (k, 2, 2) of some contours, with the line and the place in the line of each."""
    ends = [np.stack((line.points[:-1], line.points[1:]), axis=1) for line in lines]
    line_of = np.repeat(np.arange(len(ends)), [len(each) for each in ends])
    return np.concatenate(ends), line_of, np.concatenate([np.arange(len(each)) for each in ends])


@pytest.mark.slow
@settings(max_examples=20)
@given(st.integers(0, 500), st.booleans(), st.sampled_from([0.3, 1.0]))
def test_no_two_smoothed_contours_cross_and_none_crosses_itself(seed, whole, smooth):
    lines = list(ground_with_lines(seed, whole).contours(0.5, smooth=smooth))
    ends, line_of, at = legs(lines)
    places = ends.tolist()
    for i, j in near_pairs(ends, ends):
        if i >= j:
            continue
        one, other = lines[line_of[i]], lines[line_of[j]]
        if line_of[i] == line_of[j]:
            last = len(one.points) - 2
            # Ground at whole heights has vertices that a contour may run through more than once.
            if at[j] - at[i] < 2 or whole or (one.is_closed and at[i] == 0 and at[j] == last):
                continue
        elif one.level == other.level and whole:
            continue
        assert not meet(places[i], places[j])


@settings(max_examples=20)
@given(st.integers(0, 500), st.booleans())
def test_smoothed_contours_meet_breaklines_where_exact_ones_do(seed, whole):
    ground = ground_with_lines(seed, whole)
    rows, sides = np.nonzero(ground.edge_lines >= 0)
    ends = ground.vertices[np.stack((ground.triangles[rows, sides], ground.triangles[rows, (sides + 1) % 3]), axis=1)]
    plan = np.ascontiguousarray(ends[:, :, :2])
    met = []
    for smooth in (0.0, 1.0):
        lines = list(ground.contours(0.5, smooth=smooth))
        own, line_of, _ = legs(lines)
        pairs = [(i, k) for i, k in near_pairs(own, plan) if meet(own[i].tolist(), plan[k].tolist())]
        met.append({(lines[line_of[i]].level, k) for i, k in pairs})
    # A contour that only touches the end of a breakline may leave it by rounding; none comes upon a new one.
    assert met[1] <= met[0]
    strictly = {(level, k) for level, k in met[0] if ends[k, :, 2].min() < level < ends[k, :, 2].max()}
    assert strictly <= met[1]


@given(st.integers(0, 500), st.floats(0.05, 1.0))
def test_smoothing_keeps_within_its_share_of_half_an_interval(seed, smooth):
    ground = random_ground(seed)
    lines = ground.contours(0.5, smooth=smooth)
    level = np.repeat(lines.levels[lines.level_of], np.diff(lines.starts))
    off = np.abs(ground.height(*lines.points.T) - level)
    assert np.nanmax(off, initial=0.0) <= 0.25 * smooth + 1e-9
    assert lines.smoothed == smooth and lines.interval == 0.5


def test_smoothing_rounds_the_facets_of_a_cone_and_keeps_its_ends_and_order():
    angle = np.linspace(0, 2 * np.pi, 16, endpoint=False)
    rings = [[[0.0, 0.0, 10.0]]] + [
        np.column_stack((r * np.cos(angle), r * np.sin(angle), np.full(16, 10.0 - r))) for r in (3.1, 7.3, 10.0)
    ]
    cone = evrin.triangulate(np.concatenate(rings))

    def sharpest(lines):
        steps = np.diff(lines[0].points, axis=0)
        bearing = np.unwrap(np.arctan2(steps[:, 1], steps[:, 0]))
        return np.abs(np.diff(bearing)).max()

    exact, smooth = cone.contours(levels=[5.0]), cone.contours(levels=[5.0], smooth=1.0)
    assert len(exact) == len(smooth) == 1 and smooth[0].is_closed
    assert sharpest(smooth) < 0.7 * sharpest(exact)
    assert smooth.lengths[0] == pytest.approx(exact.lengths[0], rel=0.03)
    ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2], [5, 4, 1.4]])
    one, two = ramp.contours(levels=[1.0]), ramp.contours(levels=[1.0], smooth=1.0)
    assert (one[0].points[[0, -1]] == two[0].points[[0, -1]]).all() and len(two.points) > len(one.points)


def test_smoothing_works_at_real_coordinates_and_refuses_what_makes_no_sense():
    ground = random_ground(3)
    moved = evrin.triangulate(ground.vertices + [*SITE, 0.0])
    here, there = ground.contours(0.5, smooth=1.0), moved.contours(0.5, smooth=1.0)
    assert len(here) == len(there) and there.lengths.sum() == pytest.approx(here.lengths.sum(), rel=1e-6)
    for smooth in (-0.1, 1.1, float("nan")):
        with pytest.raises(DataError, match="smoothing runs from 0 to 1"):
            ground.contours(0.5, smooth=smooth)


def test_a_base_and_a_range_choose_the_levels():
    ground = bowl()
    assert ground.contours(0.5, base=0.2).levels.tolist() == [0.2, 0.7, 1.2, 1.7]
    assert ground.contours(0.5, lowest=0.6, highest=1.5).levels.tolist() == [1.0, 1.5]
    assert ground.contours(levels=[0.1, 0.9, 1.9], lowest=0.5).levels.tolist() == [0.9, 1.9]
    index = ground.contours(0.1, base=0.05, index=0.5)
    assert index.levels[index.is_index].tolist() == [0.05, 0.55, 1.05, 1.55]
    with pytest.raises(DataError, match="lies above the highest"):
        ground.contours(0.5, lowest=2.0, highest=1.0)
    assert len(ground.contours(0.5, lowest=5.0)) == 0


def test_only_rings_round_low_ground_are_depressions_and_their_ticks_point_down():
    pit, heap = bowl(), evrin.triangulate(bowl().vertices * [1, 1, -1])
    lines = pit.contours(0.5, highest=1.9)
    assert lines.is_depression.tolist() == [True] * 3 and all(line.is_depression for line in lines)
    assert not heap.contours(0.5).is_depression.any()
    assert not evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]]).contours(0.5).is_depression.any()
    moved = evrin.triangulate(pit.vertices + [*SITE, 0.0]).contours(0.5)
    assert moved.is_depression.all()
    ticks = depression_ticks(lines, 0.5, 0.2)
    foot, head = pit.height(*ticks[:, 0].T), pit.height(*ticks[:, 1].T)
    assert len(ticks) > 12 and (head < foot).all()
    assert len(depression_ticks(heap.contours(0.5), 0.5, 0.2)) == 0


def corners(labels, k):
    (x, y), angle, (width, height) = labels.places[k], np.radians(labels.angles_deg[k]), labels.boxes[k]
    along, across = np.array([np.cos(angle), np.sin(angle)]), np.array([-np.sin(angle), np.cos(angle)])
    signs = ((1, 1), (1, -1), (-1, -1), (-1, 1))
    return [np.array([x, y]) + i * along * width / 2 + j * across * height / 2 for i, j in signs]


def overlap(one, other):
    """Whether two convex shapes overlap: no side of either has the whole of the other beyond it."""
    for shape, against in ((one, other), (other, one)):
        for a, b in zip(shape, shape[1:] + shape[:1], strict=True):
            if all(surely(a.tolist(), b.tolist(), p.tolist()) >= 0 for p in against):
                return False
    return True


@pytest.mark.thorough
@settings(max_examples=15)
@given(st.integers(0, 300), st.floats(10.0, 60.0), st.floats(0.5, 3.0))
def test_labels_never_overlap_read_upright_and_lie_on_their_lines(seed, spacing, height):
    lines = random_ground(seed).contours(0.5, index=0.5, smooth=1.0)
    labels = contour_labels(lines, spacing, height, window=(0, 0, 100, 100))
    shapes = [corners(labels, k) for k in range(len(labels))]
    for k, shape in enumerate(shapes):
        assert not any(overlap(shape, other) for other in shapes[k + 1 :])
        assert all(-1e-6 <= value <= 100 + 1e-6 for corner in shape for value in corner)
        line = lines[int(labels.line_of[k])]
        assert float(labels.texts[k]) == line.level
        away = distances_to_lines(labels.places[k : k + 1], line.points, np.array([0, len(line.points)]))[0]
        assert away < labels.boxes[k, 0] / 4
    assert (np.abs(labels.angles_deg) <= 90.0).all()


def test_labels_face_uphill_wherever_text_can_be_upright_at_the_same_time():
    angle = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    ring = np.column_stack((50 * np.cos(angle), 50 * np.sin(angle), np.zeros(40)))
    hill = evrin.triangulate(np.vstack((ring, [[0, 0, 20.0]])))
    lines = hill.contours(5.0, index=5.0)
    labels = contour_labels(lines, 1000.0, 2.0)
    # A text on a hill faces uphill and is upright on its southern side.
    assert len(labels) == 3 and labels.faces_uphill.all() and (labels.places[:, 1] < 0).all()
    northwards = evrin.triangulate([[0, 0, 2], [90, 0, 2], [90, 90, 0], [0, 90, 0]]).contours(levels=[1.0], index=1.0)
    (only,) = contour_labels(northwards, 200.0, 2.0).faces_uphill
    assert not only  # there the high ground is in the south, and upright comes first


def test_spacing_sets_how_many_labels_there_are():
    ramp = evrin.triangulate([[0, 0, 0], [90, 0, 0], [90, 90, 2], [0, 90, 2]]).contours(levels=[1.0], index=1.0)
    assert [len(contour_labels(ramp, spacing, 1.0)) for spacing in (200.0, 40.0, 10.0)] == [1, 2, 9]
    assert len(contour_labels(ramp, 40.0, 60.0)) == 0  # no room for such large text
    for spacing, height in ((0.0, 1.0), (5.0, 0.0), (float("nan"), 1.0)):
        with pytest.raises(DataError, match="above 0"):
            contour_labels(ramp, spacing, height)
    plain = evrin.triangulate([[0, 0, 0], [90, 0, 0], [90, 90, 2], [0, 90, 2]]).contours(levels=[1.0])
    assert len(contour_labels(plain, 40.0, 1.0)) == 0 and len(contour_labels(plain, 40.0, 1.0, index_only=False)) == 2


@pytest.mark.slow
@settings(max_examples=20)
@given(st.integers(0, 300))
def test_what_is_seen_and_what_is_hidden_make_up_the_lines(seed):
    lines = random_ground(seed).contours(0.5, index=1.0)
    labels = contour_labels(lines, 30.0, 2.0)
    points, starts, line_of = around_labels(lines, labels)
    shapes = [corners(labels, k) for k in range(len(labels))]
    middles = (points[:-1] + points[1:]) / 2.0
    inside_piece = np.ones(len(middles), bool)
    inside_piece[starts[1:-1] - 1] = False
    for shape in shapes:
        # Corners run clockwise: a place inside is on the right of every side.
        sides = [(b - a, a) for a, b in zip(shape, shape[1:] + shape[:1], strict=True)]
        depth = [(d[0] * (middles[:, 1] - a[1]) - d[1] * (middles[:, 0] - a[0])) / np.hypot(*d) for d, a in sides]
        assert not (np.array(depth)[:, inside_piece] < -1e-6).all(axis=0).any()
    steps = np.hypot(*np.diff(points, axis=0).T)[inside_piece].sum()
    hidden = lines.lengths.sum() - steps
    assert hidden >= -1e-9 and (len(labels) == 0) == (hidden < 1e-9)
    assert set(line_of.tolist()) <= set(range(len(lines)))


def given_line(level, x, y):
    return SourceLine(f"old {level:g}", np.column_stack((x, y, np.full(len(x), level))), effect="contour")


def test_given_contours_are_compared_level_by_level():
    ramp = evrin.triangulate([[0, 0, 0], [100, 0, 0], [100, 100, 10], [0, 100, 10]])
    x = np.linspace(5.0, 95.0, 31)
    fit = contour_fit(ramp, [given_line(2.0, x, 20.0 + 0.0 * x), given_line(5.0, x, 50.0 + x / 50.0)])
    assert fit.table["level"].tolist() == [2.0, 5.0]
    assert fit.table["largest"].tolist() == pytest.approx([0.0, 1.9], abs=1e-9)
    assert fit.table["mean"].iloc[1] == pytest.approx(1.0, abs=0.02)
    assert fit.table[["easting", "northing"]].iloc[1].tolist() == pytest.approx([95.0, 51.9])
    assert fit.largest == pytest.approx(1.9) and fit.mean == pytest.approx(0.5, abs=0.03)
    beyond = contour_fit(ramp, [given_line(5.0, x + 400.0, 50.0 + 0.0 * x), given_line(40.0, x, 50.0 + 0.0 * x)])
    assert np.isnan(beyond.mean) and beyond.table["places"].tolist()[0] == 0 and np.isnan(beyond.largest)
    sloping = SourceLine("no contour", np.array([[0.0, 0, 1], [9, 9, 2]]))
    with pytest.raises(DataError, match="has one height of its own"):
        contour_fit(ramp, [sloping])
    with pytest.raises(DataError, match="must be above 0"):
        contour_fit(ramp, [given_line(5.0, x, x)], spacing=0.0)


def test_a_surface_made_from_contours_has_them_where_they_were():
    angle = np.linspace(0.0, 2.0 * np.pi, 60)
    old = [given_line(9.0 - r, r * np.cos(angle), r * np.sin(angle)) for r in (2.0, 4.0, 6.0, 8.0)]
    again = evrin.triangulate(np.array([[0.0, 0.0, 9.5]]), breaklines=[line.points for line in old])
    fit = contour_fit(again, old)
    assert fit.table["lines"].tolist() == [1] * 4 and fit.table["largest"].max() == 0.0
    # Between the ends of an open loop the ground is level, and the surface's own contour runs elsewhere.
    hairpin = np.array([[0.0, 0], [60, 0], [60, 4], [0, 4]])
    level = evrin.triangulate(np.array([[-20.0, 2, 0], [80, 2, 9]]), breaklines=[np.column_stack((hairpin, [5.0] * 4))])
    assert contour_fit(level, [given_line(5.0, *hairpin.T)]).largest == 0.0


@given(st.integers(0, 200), st.integers(1, 120))
def test_the_distance_to_the_nearest_line_is_that_of_a_search_one_by_one(seed, count):
    rng = np.random.default_rng(seed)
    points, places = rng.uniform(0, 50, (count + 1, 2)), rng.uniform(-10, 60, (20, 2))
    found = distances_to_lines(places, points, np.array([0, count + 1]))
    for place, distance in zip(places, found, strict=True):
        a, d = points[:-1], np.diff(points, axis=0)
        part = np.clip(((place - a) * d).sum(axis=1) / np.maximum((d * d).sum(axis=1), 1e-300), 0, 1)
        assert distance == pytest.approx(np.hypot(*(place - a - part[:, None] * d).T).min(), abs=1e-9)
    assert np.isinf(distances_to_lines(places, np.empty((0, 2)), np.array([0]))).all()
