"""The ground filter on clouds of known truth: large buildings, trees, banks, a bridge, noise; small and narrow ones."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from evrin import Recipe
from evrin.survey.cloud.ground_filter import filter_sizes, is_ground
from sites import lay_out

SIZE = 300.0


def height(x, y):
    """Waves, a bank of 5 m at 1 in 1.3, a river 4 m deep, an embankment of 3 m with sides of 1 in 2."""
    z = 40 + 0.02 * x + 1.5 * np.sin(x / 40) + np.cos(y / 30) + np.clip((x - 180) / 1.3, 0, 5)
    z = z - np.clip((12 - np.abs(y - 220)) / 1.5, 0, 4)
    return z + np.clip((8 - np.abs(x - 60)) / 2, 0, 3) * (y < 180)


HOUSES = [(90, 90, 60, 60, 9), (20, 20, 12, 10, 5), (230, 60, 25, 18, 7), (240, 120, 60, 20, 8), (200, 20, 10, 10, 3)]


def cloud(density, seed):
    rng = np.random.default_rng(seed)
    count = int(density * SIZE**2)
    x, y = rng.uniform(0, SIZE, (2, count))
    z, truth = height(x, y) + rng.normal(0, 0.02, count), np.ones(count, bool)
    for west, south, wide, deep, top in HOUSES:
        inside = (x >= west) & (x < west + wide) & (y >= south) & (y < south + deep)
        z[inside] = height(west + wide / 2, south + deep / 2) + top
        truth[inside] = False
    bridge = (x > 130) & (x < 138) & (np.abs(y - 220) < 11.5)
    z[bridge] = np.interp(y[bridge], [208.5, 231.5], [height(134, 206), height(134, 234)])
    truth[bridge] = False
    for cx, cy, reach in zip(*rng.uniform((0, 0, 2), (SIZE, SIZE, 5), (120, 3)).T, strict=True):
        crown = (np.hypot(x - cx, y - cy) < reach) & truth & (rng.random(count) < 0.7)
        z[crown] += rng.uniform(1.5, 12, crown.sum())
        truth[crown] = False
    low = rng.choice(np.flatnonzero(truth), count // 600, replace=False)
    z[low] -= rng.uniform(0.8, 6, len(low))
    truth[low] = False
    return np.column_stack((x + 4000, y + 2800, z)), truth


@pytest.mark.slow
@pytest.mark.parametrize(("density", "seed", "most"), [(4.0, 0, 0.01), (1.0, 1, 0.01), (0.3, 2, 0.03)])
@pytest.mark.parametrize("units", ["m", "ft"])
def test_the_total_error_is_far_below_four_in_a_hundred_in_metres_and_in_feet(density, seed, most, units):
    xyz, truth = cloud(density, seed)
    found = is_ground(xyz / (0.3048 if units == "ft" else 1.0), units=units)
    assert (found != truth).mean() < most
    assert (found & ~truth).sum() / (~truth).sum() < 0.3


def test_the_window_is_chosen_from_the_widest_object_and_reported(tmp_path):
    xyz, _ = cloud(1.0, 3)
    sizes = filter_sizes(xyz)
    assert sizes.cell == 1.0 and 28 <= sizes.widest <= 31 and sizes.window == sizes.widest + 3.0
    assert filter_sizes(xyz, cell=2.0, window=18.0)[:2] == (2.0, 18.0)
    rows = "x,y,z\n" + "".join(f"{x:.2f},{y:.2f},{z:.2f}\n" for x, y, z in xyz[::6].tolist())
    base = '[[source]]\nfile = "c.csv"\nrole = "points"\nground_filter = {}\n'
    build = Recipe.read(lay_out(tmp_path, base=base, c__csv=rows)).build()
    (noted,) = [stage.did for stage in build.stages if "ground filter: cell" in stage.did]
    assert "cell and window chosen from the cloud, widest object" in noted


@given(
    st.sampled_from([(2.0, 2.0), (2.0, 200.0), (0.8, 60.0), (0.5, 0.5), (30.0, 0.01), (900.0, 900.0)]),
    st.integers(3, 3000),
    st.floats(0.0, 0.4),
    st.integers(0, 99),
)
def test_bare_ground_is_kept_however_small_narrow_or_sparse(shape, count, slope, seed):
    rng = np.random.default_rng(seed)
    xy = rng.uniform((0, 0), shape, (count, 2))
    xyz = np.column_stack((xy, 40 + slope * xy[:, 1] + rng.normal(0, 0.01, count)))
    assert is_ground(xyz).mean() > 0.99


def test_time_follows_points_and_not_empty_cells():
    rng = np.random.default_rng(4)
    wide = np.column_stack((rng.uniform(0, 900, (37_000, 2)), np.zeros(37_000)))
    sizes = filter_sizes(wide)
    assert (900 / sizes.cell) ** 2 < 2 * len(wide)
