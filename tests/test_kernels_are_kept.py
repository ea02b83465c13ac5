"""Each kernel is compiled for one signature, kept under a digest of itself and of what it calls, and found again."""

import os
import subprocess
import sys
import types
from pathlib import Path
from typing import Annotated

import numba
import numpy as np
import pytest
from numpy.typing import NDArray
from packaging.version import Version

from evrin.kernels import FloatRows, Floats, Mutable, kernel
from evrin.kernels.arrays import Dimensions
from evrin.kernels.compiler import COUNTS
from evrin.kernels.parameters import ArrayParameter, parameters_of
from evrin.kernels.preparing import all_kernels

PLACED = """
from evrin.kernels import Floats, Mutable, inner, kernel
STEP = 1.0


@inner
def callee(value: float) -> float:
    \"\"\"Step.\"\"\"
    return value + STEP


@kernel
def caller(values: Mutable[Floats]) -> float:
    values[0] = callee(values[0])
    return values[0]


@kernel
def other(values: Floats) -> float:
    return values[0]
"""
CALLS = """
import os
os.environ["EVRIN_KERNELS"] = "compiled"
import numpy as np
from evrin.base.progress import compiling_listeners
import placed
compiled = []
compiling_listeners.append(lambda name, seconds: compiled.append(name.partition(".")[2]))
values = np.zeros(1)
print(placed.caller(values), placed.other(values), *compiled)
"""


def asked(folder, code=CALLS, env=None):
    own = {"PYTHONPATH": str(folder), "EVRIN_CACHE": str(folder / "kept")}
    env = os.environ | (own if env is None else env)
    done = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return done.stdout.split()


@pytest.mark.slow
@pytest.mark.parametrize(
    ("before", "after", "answer", "compiled"),
    [
        pytest.param("", "", "1.0", [], marks=pytest.mark.thorough),
        ("return value + STEP", "# a step, up\n\n    return value + STEP", "1.0", []),
        ("Step.", "Step up by a constant.", "1.0", []),
        ("STEP = 1.0", "STEP = 2.0", "2.0", ["caller"]),
        ("value + STEP", "value - STEP", "-1.0", ["caller"]),
        pytest.param(
            "    return values[0]\n\n\n",
            "    return values[0] + 0.5\n\n\n",
            "1.5",
            ["caller"],
            marks=pytest.mark.thorough,
        ),
        ("other(values: Floats)", "other(values: Mutable[Floats])", "1.0", ["other"]),
    ],
)
def test_a_change_recompiles_what_it_concerns_and_nothing_else(tmp_path, before, after, answer, compiled):
    (tmp_path / "placed.py").write_text(PLACED)
    assert asked(tmp_path) == ["1.0", "1.0", "caller", "other"]
    (tmp_path / "placed.py").write_text(PLACED.replace(before, after, 1) if before else PLACED)
    first, _, *new = asked(tmp_path)
    assert (first, new) == (answer, compiled)
    assert asked(tmp_path)[2:] == []


@pytest.mark.slow
@pytest.mark.parametrize(
    "damage", ["cut", "missing", *(pytest.param(w, marks=pytest.mark.thorough) for w in ("empty", "rubbish"))]
)
def test_what_is_kept_and_damaged_is_made_again(tmp_path, damage):
    (tmp_path / "placed.py").write_text(PLACED)
    asked(tmp_path)
    for path in (tmp_path / "kept").rglob("*.nb?"):
        data = path.read_bytes()
        path.write_bytes({"cut": data[: len(data) // 2], "rubbish": b"\x80" + data[::-1]}.get(damage, b""))
        if damage == "missing" and path.suffix == ".nbc":
            path.unlink()
    assert asked(tmp_path)[:2] == ["1.0", "1.0"]
    assert asked(tmp_path) == ["1.0", "1.0"]


def test_kernels_are_used_where_nothing_can_be_kept(tmp_path):
    (tmp_path / "placed.py").write_text(PLACED)
    full = "from evrin.kernels import kept\ndef full(*given): raise OSError(28, 'No space left on device')\n"
    assert asked(tmp_path, full + "kept._write_source = full\n" + CALLS)[:2] == ["1.0", "1.0"]
    assert not list((tmp_path / "kept").rglob("*.nbi"))


INTERRUPTED = """
import os, signal, threading, time
import numpy as np
from evrin.kernels import preparing
kernels = preparing.all_kernels()[:60]
main, over, caught, loading = threading.main_thread().ident, threading.Event(), 0, False

def interrupt():
    while not over.wait(0.002):
        signal.pthread_kill(main, signal.SIGINT)

def heard(number, frame):
    # A key pressed while this script itself is at work says nothing of kernels.
    global loading
    if loading:
        loading = False
        raise KeyboardInterrupt

signal.signal(signal.SIGINT, heard)
threading.Thread(target=interrupt).start()
for each in kernels:
    ready = False
    while not ready:
        try:
            loading = True
            ready = each.ready() is not None
            loading = False
        except KeyboardInterrupt:
            caught += 1
over.set()
print(caught > 10, len(kernels))
"""


@pytest.mark.slow
def test_ctrl_c_while_kernels_are_loaded_is_heard_and_harms_none(tmp_path):
    assert asked(tmp_path, INTERRUPTED, {}) == ["True", "60"]


@kernel
def lifted(places: FloatRows, by: float, out: Mutable[Floats]) -> None:
    for k in range(places.shape[0]):
        out[k] = places[k, 2] + by


def test_a_kernel_takes_what_it_declares_or_refuses_it():
    places, out = np.arange(12.0).reshape(4, 3), np.zeros(4)
    lifted(np.asfortranarray(places), np.float32(0.5), out)
    assert out.tolist() == [2.5, 5.5, 8.5, 11.5]
    places.flags.writeable = False
    lifted(places, 1, out)
    assert out[0] == 3.0
    for given, what in (
        ((places.astype(np.int64), 1.0, out), "places must be an array of float64, 2 dimensions; got int64"),
        ((places[0], 1.0, out), "places must be an array of float64, 2 dimensions; got float64, 1 dimensions"),
        ((places, 1.0, np.zeros(8)[::2]), "out is written to"),
        ((places, 1.0, [0.0]), "got list"),
        ((places, 1.0), "takes 3 arguments; got 2"),
    ):
        with pytest.raises(TypeError, match=what):
            lifted(*given)


def test_every_kernel_declares_its_types_and_is_kept_under_a_name_of_its_own():
    kernels = all_kernels()
    assert len(kernels) > 250 and all(each.parameters and len(each.digest) == 20 for each in kernels)
    assert len({each.name for each in kernels}) == len(kernels)


def test_the_one_undocumented_option_of_the_compiler_is_still_there():
    """If this fails with a new release: take COUNTS out of evrin.kernels.compiler, and measure the triangulation."""

    @numba.njit(**{COUNTS: False})
    def first(values):
        return values[0]

    assert first(np.ones(1)) == 1.0
    bound = next(
        line for line in (Path(__file__).parents[1] / "pyproject.toml").read_text().splitlines() if '"numba>=' in line
    )
    assert Version(numba.__version__) < Version(bound.split("<")[1].strip('",'))


def test_the_type_of_elements_is_found_at_any_depth_of_an_array_type():
    # From NumPy 2.5 on, with Python 3.12, the name of an array type holds its scalar type directly.
    for array in (NDArray[np.int32], types.GenericAlias(list, (np.int32,))):

        def count(values: Annotated[array, Dimensions(1)]) -> int: ...

        assert parameters_of(count) == (ArrayParameter("int32", 1, mutable=False),)
