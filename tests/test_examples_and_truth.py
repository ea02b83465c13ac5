"""The examples run, and the demo's ground is what it says it is."""

import runpy
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from evrin.demo import ground, true_height

EXAMPLES = Path(__file__).parent.parent / "examples"


@pytest.mark.slow
@pytest.mark.parametrize("name", sorted(path.name for path in EXAMPLES.glob("*.py")))
def test_each_example_runs_and_prints(name):
    told = subprocess.run([sys.executable, EXAMPLES / name], capture_output=True, text=True, check=True)
    assert "<Surface" in told.stdout and told.stderr == ""


def test_the_recipe_example_reads_back_what_it_wrote(tmp_path, capsys):
    runpy.run_path(str(EXAMPLES / "recipe_to_surface.py"))["main"](tmp_path)
    told = capsys.readouterr().out
    assert "clean: " in told and "0 open findings" in told
    assert told.count("1,377 vertices, 2,459 triangles") == 2


def test_the_true_ground_is_known_where_it_is_plain():
    assert float(true_height(4150.0, 2805.0)) == ground.RIVER_BELOW
    assert float(true_height(4060.0, 2805.0)) == ground.RIVER_ABOVE
    assert float(true_height(*ground.POND)) == pytest.approx(ground.POND_LEVEL - ground.POND_DEPTH)
    ridge = ground.HEAP_RIDGE.mean(axis=0)
    field = float(ground.field(*ridge[:, None])[0])
    assert float(true_height(*ridge)) == pytest.approx(field + ground.HEAP_HEIGHT)
    chainage, offset = ground.chainage_and_offset(ground.centre_line("leat"), np.array([4168.0]), np.array([2864.0]))
    assert abs(offset[0]) < ground.LEAT_TOE
    assert float(true_height(4168.0, 2864.0)) == pytest.approx(float(ground.leat_bed(chainage)[0]))


def test_the_true_ground_has_no_holes():
    east, north = np.meshgrid(np.linspace(4000, 4250, 60), np.linspace(2790, 2930, 50))
    z = true_height(east, north)
    assert z.shape == east.shape and np.isfinite(z).all()
    assert z.min() > 39.0 and z.max() < 48.0
