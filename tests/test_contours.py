"""Contours: exact, joined, high ground on the right, and sensible on flat ground."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin.analysis import levels_within
from evrin.base.errors import DataError
from zoo import lattice, ring_of


def random_ground(seed, count=120, whole=False):
    rng = np.random.default_rng(seed)
    z = rng.integers(0, 5, count).astype(float) if whole else rng.uniform(0, 5, count)
    return evrin.triangulate(np.column_stack((rng.uniform(0, 100, (count, 2)), z)))


def pieces_by_brute_force(ground, level):
    """Length of the level's line in every triangle, one after another: the boundary of ground at or above it."""
    total = 0.0
    for triangle in ground.vertices[ground.triangles]:
        ends = []
        for a, b in zip(triangle, np.roll(triangle, -1, axis=0), strict=True):
            if (a[2] >= level) != (b[2] >= level):
                ends.append(a[:2] + (level - a[2]) / (b[2] - a[2]) * (b[:2] - a[:2]))
        if len(ends) == 2:
            total += float(np.hypot(*(ends[1] - ends[0])))
    return total


@pytest.mark.slow
@given(st.integers(0, 500), st.booleans())
def test_joined_lines_hold_every_piece_once(seed, whole):
    ground = random_ground(seed, whole=whole)
    lines = ground.contours(levels=[1.0, 2.0, 3.3])
    for k, level in enumerate(lines.levels):
        length = lines.lengths[lines.level_of == k].sum()
        assert length == pytest.approx(pieces_by_brute_force(ground, level), rel=1e-9, abs=1e-9)


@given(st.integers(0, 500))
def test_lines_lie_on_the_surface_and_end_only_at_its_rim(seed):
    ground = random_ground(seed)
    (rim,) = ground.rim()
    corners = ground.vertices[rim, :2]
    for line in ground.contours(interval=0.5):
        inner = line.points if line.is_closed else line.points[1:-1]
        assert np.abs(ground.height(*inner.T) - line.level).max(initial=0.0) < 5e-9
        if not line.is_closed:
            for end in (line.points[0], line.points[-1]):
                sides = np.roll(corners, -1, axis=0) - corners
                away = end - corners
                cross = np.abs(sides[:, 0] * away[:, 1] - sides[:, 1] * away[:, 0]) / np.hypot(*sides.T)
                assert cross.min() < 1e-9


@given(st.integers(0, 500))
def test_high_ground_is_on_the_right(seed):
    ground = random_ground(seed)
    for line in ground.contours(levels=[1.7, 3.1]):
        step = np.diff(line.points, axis=0)
        long = np.hypot(*step.T) > 0.5
        middle = (line.points[1:] + line.points[:-1])[long] / 2
        right = np.column_stack((step[long, 1], -step[long, 0])) / np.hypot(*step[long].T)[:, None]
        side = ground.height(*(middle + 1e-6 * right).T) - line.level
        assert (side[np.isfinite(side)] >= -1e-9).all()


def test_a_cone_gives_one_closed_ring_a_level_of_the_right_area():
    rings = [np.column_stack((ring_of(48, radius), np.full(48, 10.0 - radius))) for radius in (2.0, 5.0, 9.0)]
    cone = evrin.triangulate(np.vstack((*rings, [[0.0, 0, 10]])))
    for line in cone.contours(levels=[2.5, 6.0, 9.25]):
        assert line.is_closed
        x, y = line.points.T
        area = 0.5 * np.sum(x[:-1] * y[1:] - x[1:] * y[:-1])
        radius = 10.0 - line.level
        exact = 24 * radius**2 * np.sin(2 * np.pi / 48)
        assert area == pytest.approx(-exact, rel=0.02)  # clockwise: the top is on the right


def test_a_flat_top_on_the_level_is_ringed_along_its_edge_and_a_flat_floor_is_not():
    xy = lattice(7)
    top = (np.abs(xy - 3.0) <= 1.0).all(axis=1)
    up = evrin.triangulate(np.column_stack((xy, np.where(top, 1.0, 0.0))))
    (ring,) = up.contours(levels=[1.0])
    assert ring.is_closed and np.abs(ring.points - 3.0).max() == 1.0
    assert up.contours(levels=[1.0]).lengths.sum() == 8.0
    down = evrin.triangulate(np.column_stack((xy, np.where(top, 1.0, 2.0))))
    assert len(down.contours(levels=[1.0])) == 0
    assert len(up.contours(levels=[0.0])) == 0


def test_vertices_on_the_level_are_passed_through_exactly():
    ground = evrin.triangulate([[0, 0, 0], [10, 0, 0], [0, 10, 2], [10, 10, 2], [4, 5, 1.0], [7, 5, 1.0]])
    (line,) = ground.contours(levels=[1.0])
    assert [4.0, 5.0] in line.points.tolist() and [7.0, 5.0] in line.points.tolist()
    assert (np.hypot(*np.diff(line.points, axis=0).T) > 0).all()


def test_index_contours_are_the_round_ones():
    ground = random_ground(3)
    assert [round(x, 9) for x in ground.contours(0.5).levels[ground.contours(0.5).is_index]] == [2.5]
    lines = ground.contours(0.5, index=1.0)
    assert lines.levels[lines.is_index].tolist() == [1.0, 2.0, 3.0, 4.0]
    assert {line.is_index for line in lines} == {True, False}


def test_levels_are_clean_multiples():
    assert levels_within(41.87, 42.5, 0.1).tolist() == [41.9, 42.0, 42.1, 42.2, 42.3, 42.4, 42.5]
    assert levels_within(-0.3, 0.3, 0.25).tolist() == [-0.25, 0.0, 0.25]


@pytest.mark.parametrize(
    ("asked", "output"),
    [
        ({}, "either interval= or levels="),
        ({"interval": 1.0, "levels": [1.0]}, "either interval= or levels="),
        ({"interval": 0.0}, "must be above 0"),
        ({"interval": float("nan")}, "must be above 0"),
        ({"interval": 1e-9}, "choose one of at least"),
        ({"levels": [1.0, np.inf]}, "levels must be finite"),
        ({"interval": 1.0, "index": -5.0}, "index interval must be above 0"),
    ],
)
def test_senseless_levels_are_refused(asked, output):
    with pytest.raises(DataError, match=output):
        random_ground(1).contours(**asked)


def test_levels_beyond_the_ground_give_no_lines():
    lines = random_ground(1).contours(levels=[-10.0, 99.0])
    assert len(lines) == 0 and lines.points.shape == (0, 2) and lines.lengths.shape == (0,)
