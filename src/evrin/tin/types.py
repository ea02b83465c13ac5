"""What every kernel shares: array types, so that each compiles for one signature only, and the compiler's settings."""

import os
from collections.abc import Callable
from typing import Any, TypeVar, cast

import numpy as np
from numba import njit
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
Indices = NDArray[np.int64]
Flags = NDArray[np.bool_]

# Every index is checked in every kernel, which are then compiled anew in each process: for tests.
CHECKS = os.environ.get("EVRIN_CHECKS") == "1"
_OPTIONS: dict[str, Any] = {"cache": not CHECKS, "boundscheck": CHECKS}
_Kernel = TypeVar("_Kernel", bound=Callable[..., object])


def kernel(function: _Kernel) -> _Kernel:
    """Compile a function at its first call, and keep the result beside its source; others can run meanwhile."""
    return cast(_Kernel, njit(**{"nogil": True, **_OPTIONS})(function))


def inner(function: _Kernel) -> _Kernel:
    """Compile a function that kernels alone may call: without an entry from Python that is quicker."""
    options: dict[str, Any] = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True, **_OPTIONS}
    return cast(_Kernel, njit(**options)(function))


@inner
def as_index(value: int) -> int:
    """Widen a number read from an array or a literal: kernels called with one width compile once."""
    return np.int64(value)  # type: ignore[return-value]
