"""Types that every kernel shares, so that each is compiled for one signature only."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
Indices = NDArray[np.int64]
Flags = NDArray[np.bool_]


@njit(cache=True)
def as_index(value: int) -> int:
    """Widen a number read from an array or a literal: kernels called with one width compile once."""
    return np.int64(value)  # type: ignore[return-value]
