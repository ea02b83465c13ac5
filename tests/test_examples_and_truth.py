"""The examples run, and the demo's ground is as stated."""

import runpy
import subprocess
import sys
from hashlib import blake2b
from pathlib import Path

import numpy as np
import pytest

import evrin
from evrin.demo import ground, true_height

EXAMPLES = Path(__file__).parent.parent / "examples"


@pytest.mark.thorough
@pytest.mark.parametrize("name", sorted(path.name for path in EXAMPLES.glob("*.py")))
def test_each_example_runs_and_prints(name):
    output = subprocess.run([sys.executable, EXAMPLES / name], capture_output=True, text=True, check=True)
    assert "<Surface" in output.stdout and output.stderr == ""


def _digest(values):
    return blake2b(repr(values).encode(), digest_size=12).hexdigest()


@pytest.mark.parametrize(
    ("name", "surface", "tally", "findings"),
    [
        ("raw", "4d1141415289364cbffb9815", "5461846618e78b944ea9bb56", "33ff605b9dafa512cd51c2d7"),
        ("clean", "3c874b6963378ee1df37f467", "8e565c6205b4dd2d83ba5b69", "4af6f654af72fbaedc0ddcb5"),
    ],
)
def test_the_demo_gives_the_surfaces_tallies_and_findings_that_it_gave(demo, name, surface, tally, findings):
    build = evrin.Recipe.read(demo[0] / f"{name}.toml").build()
    shape = np.round(build.surface.vertices * 1e5).astype(int).tolist(), build.surface.triangles.tolist()
    assert _digest((*shape, build.surface.edge_lines.tolist())) == surface
    assert _digest(build.tally.to_csv(index=False)) == tally
    places = [each.place and tuple(round(float(axis), 3) for axis in each.place) for each in build.findings]
    seen = [(each.code, each.severity, each.is_open, len(each.shots)) for each in build.findings]
    assert _digest(list(zip(places, seen, strict=True))) == findings


def test_the_recipe_example_reads_back_what_it_wrote(tmp_path, capsys):
    runpy.run_path(str(EXAMPLES / "recipe_to_surface.py"))["main"](tmp_path)
    output = capsys.readouterr().out
    assert "clean: " in output and "0 open findings" in output
    assert output.count("1,377 vertices, 2,459 triangles") == 2


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
