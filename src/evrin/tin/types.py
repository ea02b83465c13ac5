"""What every kernel shares: array types, so that each compiles for one signature only, and the compiler's settings."""

from collections.abc import Callable
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from evrin.compiling import compiled

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
Indices = NDArray[np.int64]
Flags = NDArray[np.bool_]


class MeshArrays(NamedTuple):
    """The arrays of a mesh, as kernels take them.

    Attributes
    ----------
    xy : (v, 2) float64
    z : (v,) float64
        NaN where a vertex has no height.
    corner : (6 v,) int32
        Vertex at the tail of each half-edge, three to a triangle; OUTSIDE for the one at infinity.
    mate : (6 v,) int32
        Half-edge on the other side.
    fixed : (6 v,) int32
        Line that each half-edge transforms, with the bits of `flips.SIDES`; 0 for a free edge.
    spoke : (v,) int32
        A half-edge that leaves each vertex.
    alive : (2 v,) bool
        Triangles that are part of the surface.
    """

    xy: Floats
    z: Floats
    corner: Ints
    mate: Ints
    fixed: Ints
    spoke: Ints
    alive: Flags


_Kernel = TypeVar("_Kernel", bound=Callable[..., object])


def kernel(function: _Kernel) -> _Kernel:
    """Compile a function at its first call, and keep the result; other threads can run meanwhile."""
    return compiled(function, nogil=True)


def inner(function: _Kernel) -> _Kernel:
    """Compile a function that kernels alone may call: without an entry from Python that is quicker."""
    return compiled(function, no_cpython_wrapper=True, no_cfunc_wrapper=True)


def lean(function: _Kernel) -> _Kernel:
    """Compile a function for kernels alone that allocates nothing: quicker, as nobody counts who holds an array."""
    return compiled(function, no_cpython_wrapper=True, no_cfunc_wrapper=True, _nrt=False)


def lean_kernel(function: _Kernel) -> _Kernel:
    """Compile a kernel that allocates nothing and calls only lean functions often."""
    return compiled(function, nogil=True, _nrt=False)


@inner
def as_index(value: int) -> int:
    """Widen a number read from an array or a literal: kernels called with one width compile once."""
    return np.int64(value)  # type: ignore[return-value]
