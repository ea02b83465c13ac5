"""Lines that take their heights from shots: each shot to its own line, whatever is close to it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from evrin.recipe import Recipe
from evrin.survey.lines.shots_of_lines import PlanLine, shots_of_lines

UNITS = {"m": 1.0, "ft": 0.3048, "ftUS": 1200 / 3937}
SITE = '[site]\nunits = "{units}"\n[[source]]\nfile = "shots.csv"\nrole = "points"\n'
LINES = '[[source]]\nfile = "lines.csv"\nrole = "breaklines"\nheights = "shots"\n'


def kerb(
    folder, rng, *, gap=0.03, drawn=0.006, upstand=0.125, units="m", codes=("", ""), lines=("foot", "top"), more=""
):
    """Write shots of the foot and the top of a kerb, and lines drawn through them; return the recipe."""
    metre, along = 1.0 / UNITS[units], np.linspace(0.0, 200.0, 41)
    bend = 0.002 * along**2
    normal = np.column_stack((-0.004 * along, np.ones_like(along)))
    normal /= np.hypot(*normal.T)[:, None]
    foot = np.column_stack((1000 + along, 2000 + bend, 50 - 0.01 * along))
    top = np.column_stack((foot[:, :2] + gap * normal, foot[:, 2] + upstand))
    corners = [(950, 1950, 50), (1250, 1950, 50), (1250, 2150, 50), (950, 2150, 50)]
    rows = [(*p, codes[0]) for p in foot] + [(*p, codes[1]) for p in top] + [(*p, "") for p in corners]
    shots = [f"{k},{x * metre:.4f},{y * metre:.4f},{z * metre:.4f},{code}" for k, (x, y, z, code) in enumerate(rows)]
    (folder / "shots.csv").write_text("\n".join(["number,easting,northing,height,code", *shots]))
    text = ["line,easting,northing"]
    for name, edge in zip(lines, (foot, top), strict=False):
        places = (edge[:, :2] + rng.uniform(-drawn, drawn, (len(edge), 2)) / 2.0) * metre
        text += [f"{name},{x:.5f},{y:.5f}" for x, y in places]
    (folder / "lines.csv").write_text("\n".join(text))
    (folder / "site.toml").write_text(SITE.format(units=units) + LINES + more)
    return Recipe.read(folder / "site.toml")


def worst(build, name, upstand, units):
    """How far off the truth a line is in height, in metres, and how many vertices it has."""
    (line,) = [line for line in build.surface.lines if line.name == name]
    x, z = line.points[:, 0] * UNITS[units], line.points[:, 2] * UNITS[units]
    return np.abs(z - (50 - 0.01 * (x - 1000) + upstand)).max(), len(z)


def codes_of(build):
    return {finding.code for finding in build.findings}


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize("gap", [0.012, 0.03, 0.09, 0.3])
def test_the_foot_and_the_top_of_a_kerb_keep_their_own_shots(tmp_path, units, gap):
    build = kerb(tmp_path, np.random.default_rng(1), gap=gap, units=units).build()
    for name, upstand in (("foot", 0.0), ("top", 0.125)):
        assert worst(build, name, upstand, units) == (pytest.approx(0.0, abs=3e-3), 41)
    assert not codes_of(build) & {"shots-of-two-lines", "zigzag-line", "shots-beside-line"}


def test_codes_tell_edges_apart_that_are_drawn_no_better_than_their_distance(tmp_path):
    rng = np.random.default_rng(2)
    build = kerb(tmp_path, rng, gap=0.006, drawn=0.008, codes=("KF", "KT"), lines=("KF", "KT")).build()
    assert worst(build, "KF", 0.0, "m")[0] < 1e-3 and worst(build, "KT", 0.125, "m")[0] < 1e-3
    unclear = kerb(tmp_path, rng, gap=0.006, drawn=0.008).build()
    assert {"shots-of-two-lines", "zigzag-line"} <= codes_of(unclear)


def test_shots_of_an_edge_that_is_not_drawn_stay_beside_the_line(tmp_path):
    recipe = kerb(tmp_path, np.random.default_rng(3), lines=("foot",))
    build = recipe.build()
    assert worst(build, "foot", 0.0, "m")[0] < 1e-3 and "shots-beside-line" in codes_of(build)
    stated = kerb(tmp_path, np.random.default_rng(3), lines=("foot",), more="reach = 0.05\n").build()
    assert worst(stated, "foot", 0.0, "m")[0] > 0.1 and "zigzag-line" in codes_of(stated)


@given(st.integers(0, 10**6), st.floats(0.0, 0.02), st.floats(-1e6, 1e6), st.floats(0.0, 6.28))
@settings(max_examples=60, deadline=None)
def test_lines_that_meet_share_the_shot_and_rough_ground_is_no_zigzag(seed, drawn, far, turn):
    rng = np.random.default_rng(seed)
    along = np.arange(0.0, 60.0, 4.0)
    spoke = np.column_stack((along, np.zeros_like(along)))
    turned = [np.column_stack((spoke[:, 0] * np.cos(a), spoke[:, 0] * np.sin(a))) + far for a in (turn, turn + 2.0)]
    heights = rng.normal(0.0, 0.05, len(along))
    shots = np.vstack([np.column_stack((turned[0], heights)), np.column_stack((turned[1], heights))[1:]])
    lines = [PlanLine(xy + rng.uniform(-drawn, drawn, xy.shape) / 2.0, False) for xy in turned]
    own = shots_of_lines(lines, shots, [""] * len(shots), reach=0.1, metre=1.0)
    assert [sorted(rows.tolist()) for rows in own.of_line] == [
        list(range(len(along))),
        [0, *range(len(along), len(shots))],
    ]
    assert own.shared == [] and own.beside == []
