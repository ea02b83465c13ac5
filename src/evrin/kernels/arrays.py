"""The array types that kernels take. Each has one element type and one number of dimensions, rows one after another.

A kernel only reads the arrays it takes, except those that its signature calls `Mutable`.
"""

from __future__ import annotations

from typing import Annotated, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray


class Dimensions(NamedTuple):
    """How many dimensions an array has."""

    number: int


class Filled(NamedTuple):
    """Marks an array that a kernel writes to."""


_Array = TypeVar("_Array")

AnyArray = NDArray[np.generic]

Floats = Annotated[NDArray[np.float64], Dimensions(1)]
FloatRows = Annotated[NDArray[np.float64], Dimensions(2)]
FloatStacks = Annotated[NDArray[np.float64], Dimensions(3)]
Ints = Annotated[NDArray[np.int32], Dimensions(1)]
IntRows = Annotated[NDArray[np.int32], Dimensions(2)]
Indices = Annotated[NDArray[np.int64], Dimensions(1)]
IndexRows = Annotated[NDArray[np.int64], Dimensions(2)]
IndexStacks = Annotated[NDArray[np.int64], Dimensions(3)]
Flags = Annotated[NDArray[np.bool_], Dimensions(1)]
FlagRows = Annotated[NDArray[np.bool_], Dimensions(2)]
Bytes = Annotated[NDArray[np.uint8], Dimensions(1)]
ByteRows = Annotated[NDArray[np.uint8], Dimensions(2)]
Mutable = Annotated[_Array, Filled()]
