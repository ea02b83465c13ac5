"""Small work is done by kernels as they are written: bit by bit as compiled, and only until compiling pays."""

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from evrin.demo import lay_out, works

FIELDS = """
import hashlib, sys
import numpy as np
import evrin, fields
for kind in fields.KINDS:
    for seed in range(3):
        found = hashlib.sha256()
        try:
            ground = fields.build(fields.make(kind, seed))
        except evrin.EvrinError as error:
            print(kind, seed, error)
            continue
        z = ground.vertices[:, 2]
        levels = np.linspace(z.min(), z.max(), 7)[1:-1]
        lines = [ground.contours(levels=levels, smooth=smooth).points for smooth in (0.0, 1.0)]
        middles = ground.vertices[ground.triangles].mean(axis=1)
        heights = ground.height(*middles[:, :2].T)
        for values in (ground.vertices, ground.triangles, ground.edge_lines, ground.gradients, *lines, heights):
            found.update(np.ascontiguousarray(values).tobytes())
        print(kind, seed, len(ground.triangles), found.hexdigest())
"""
COMMANDS = """
import shlex, sys
from evrin.cli.app import main
for words in open("commands.txt").read().splitlines():
    print(words, flush=True)
    sys.argv = ["evrin", *shlex.split(words)]
    try:
        main()
    except SystemExit as end:
        assert end.code in (0, 1), words
"""
WORK = """\
build raw.toml -q -o raw.xml
build clean.toml -q -o ground.json
check clean.toml --json
figures clean.toml --json
height clean.toml --at 4120,2877 --json
contours clean.toml --interval 0.25 --smooth 1 -o smooth.geojson
contours clean.toml --interval 0.25 -o exact.geojson
profile clean.toml --along "4060,2840 4160,2900" --json
water clean.toml --at 4120,2877 --json
volume clean.toml --to-level 43 --json
trust clean.toml --json
bands clean.toml --json
combine clean.toml earthworks/corner-later.xml --json
pad clean.toml --outline earthworks/lay-by.geojson --balance --json
layers clean.toml --holes earthworks/boreholes.csv --json
"""
PLACED = """
from evrin.kernels import Floats, Ints, Mutable, kernel

@kernel
def odd(rows: Mutable[Ints], total: Mutable[Floats]) -> int:
    for k in range(rows.shape[0]):
        rows[k] += 1
    total[0] = rows[0]
    return rows[0] + rows[1]

@kernel
def plain(rows: Mutable[Floats]) -> float:
    rows[0] += 1
    return rows[0]
"""
CALLS = """
import sys, time
import numpy as np
import evrin.kernels.interpreted
from evrin.base.progress import compiling_listeners as listeners
import placed
now = [0.0]
def ticking():
    now[0] += 0.05
    return now[0]
evrin.kernels.interpreted.time = type("Clock", (), {"perf_counter": staticmethod(ticking)})
listeners.append(lambda name, seconds: print("compiled"))
"""


COMPILER = '\nprint("numba" in sys.modules)'


def asked(code, folder, **variables):
    places = os.pathsep.join((str(folder), str(Path(__file__).parent)))
    done = subprocess.run(
        [sys.executable, "-W", "error", "-c", code],
        env=os.environ | {"PYTHONPATH": places, "COLUMNS": "999"} | variables,
        cwd=folder,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.thorough
def test_awkward_fields_become_the_same_surfaces_bit_by_bit(tmp_path):
    compiled, written = (
        asked(FIELDS + COMPILER, tmp_path, EVRIN_KERNELS=how).splitlines() for how in ("compiled", "as-written")
    )
    assert compiled[:-1] == written[:-1] and len(compiled) == 31
    assert (compiled[-1], written[-1]) == ("True", "False")


@pytest.mark.thorough
def test_commands_on_the_demo_answer_alike_to_the_last_digit(tmp_path):
    answers = []
    for how in ("compiled", "as-written"):
        site = tmp_path / how / "site"
        lay_out(site)
        works.lay_out_works(site / "earthworks")
        (site / "commands.txt").write_text(WORK)
        answer = re.sub(r" +([0-9.]+ s|time) ", " … ", asked(COMMANDS + COMPILER, site, EVRIN_KERNELS=how))
        assert answer.endswith(f"{how == 'compiled'}\n")
        answers.append(answer.removesuffix(f"{how == 'compiled'}\n"))
        answers.append({name: (site / name).read_bytes() for name in ("smooth.geojson", "exact.geojson")})
    assert answers[:2] == answers[2:] and len(answers[0]) > 10_000


def test_what_python_finds_odd_is_put_back_and_compiled(tmp_path):
    (tmp_path / "placed.py").write_text(PLACED)
    code = (
        CALLS
        + "rows, total = np.full(2, 2**31 - 2, np.int32), np.zeros(1)\nprint(placed.odd(rows, total), rows, total)"
    )
    output = asked(code, tmp_path, EVRIN_CACHE=str(tmp_path / "kept"))
    assert output == f"compiled\n{2**32 - 2} [{2**31 - 1} {2**31 - 1}] [2.14748365e+09]\n"


def test_a_kernel_is_compiled_once_it_has_spent_in_python_what_compiling_takes(tmp_path):
    (tmp_path / "placed.py").write_text(PLACED)
    code = CALLS + "import numba\nrows = np.zeros(3)\nprint([placed.plain(rows) for _ in range(4)])"
    runs = [asked(code, tmp_path, EVRIN_CACHE=str(tmp_path / "kept")).splitlines() for _ in range(3)]
    assert [rows[-1] for rows in runs] == ["[1.0, 2.0, 3.0, 4.0]"] * 3
    assert [rows[:-1] for rows in runs] == [[], ["compiled"], []]
    large = asked(code.replace("zeros(3)", "zeros(99_999)"), tmp_path, EVRIN_CACHE=str(tmp_path / "other"))
    assert large.splitlines()[0] == "compiled"
