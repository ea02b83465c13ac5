"""What every kernel shares: array types, so that each compiles for one signature only, and the compiler's settings."""

from collections.abc import Callable
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from evrin.compiling import compiled

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
Indices = NDArray[np.int64]
Flags = NDArray[np.bool_]

_Kernel = TypeVar("_Kernel", bound=Callable[..., object])


def kernel(function: _Kernel) -> _Kernel:
    """Compile a function at its first call, and keep the result; other threads can run meanwhile."""
    return compiled(function, nogil=True)


def inner(function: _Kernel) -> _Kernel:
    """Compile a function that kernels alone may call: without an entry from Python that is quicker."""
    return compiled(function, no_cpython_wrapper=True, no_cfunc_wrapper=True)


@inner
def as_index(value: int) -> int:
    """Widen a number read from an array or a literal: kernels called with one width compile once."""
    return np.int64(value)  # type: ignore[return-value]
