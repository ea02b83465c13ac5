"""The compiler behind the kernels. No other module names the package, or anything that it does not document.

One option is not documented: ``_nrt``. Without it, a function does not count references to the arrays that it is
given, which makes triangulating a fifth quicker. What to do when it goes is in
`tests/test_kernels_are_kept.py`.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import llvmlite
import numba
import numpy as np
from llvmlite import binding
from numba.extending import typeof_impl

from evrin.kernels.kernel import Kernel
from evrin.kernels.parameters import ArrayParameter, Parameter, TupleParameter

# Every index is checked in every kernel: for tests. Such kernels are slow and are kept apart.
CHECKS = os.environ.get("EVRIN_CHECKS") == "1"
COUNTS = "_nrt"


def machine_stamp() -> str:
    """Return what compiled code depends on besides the kernel: the compiler, the processor, and the checks."""
    host = f"{binding.get_host_cpu_name()} {binding.get_host_cpu_features().flatten()}"
    return f"{numba.__version__} {llvmlite.__version__} {host} {CHECKS}"


def own_place() -> Path | None:
    """Return the folder in which the user has the compiler keep everything, if that is so."""
    place: str = getattr(numba.config, "CACHE_DIR", "")
    return Path(place) if place else None


def compile_for(
    function: Callable[..., object], parameters: tuple[Parameter, ...], options: Mapping[str, bool], *, keep: bool
) -> Callable[..., object]:
    """Compile a function for the types that it declares, or load what was kept beside its file.

    Parameters
    ----------
    function : callable
    parameters : tuple of Parameter
    options : mapping
        Of `Kernel`.
    keep : bool
        Whether the result is kept beside the file of the function, which must not change.
    """
    asked: dict[str, Any] = {
        "cache": keep,
        "boundscheck": CHECKS,
        "nogil": options["releases"],
        "no_cfunc_wrapper": True,
        "no_cpython_wrapper": not options["entry"],
        COUNTS: options["counts"],
    }
    types = [numba.typeof(_sample(each)) for each in parameters]  # type: ignore[no-untyped-call]
    return numba.njit(tuple(types), **asked)(function)


def _sample(parameter: Parameter) -> object:
    """An argument as the parameter declares it, from which the compiler takes the type."""
    if isinstance(parameter, ArrayParameter):
        array = np.empty((0,) * parameter.dimensions, parameter.elements)
        array.flags.writeable = parameter.mutable
        return array
    if isinstance(parameter, TupleParameter):
        return parameter.of(*map(_sample, parameter.fields))
    return {"int": 0, "float": 0.0, "bool": False}[parameter.kind]


@typeof_impl.register(Kernel)
def _kernel_in_a_kernel(kernel: Any, context: object) -> object:
    return numba.typeof(kernel.ready())  # type: ignore[no-untyped-call]
