"""Kernels: loops over arrays, compiled when that pays, kept for later commands, and interpreted until then."""

from evrin.kernels.arrays import (
    ByteRows,
    Bytes,
    FlagRows,
    Flags,
    FloatRows,
    Floats,
    FloatStacks,
    IndexRows,
    IndexStacks,
    Indices,
    IntRows,
    Ints,
    Mutable,
)
from evrin.kernels.decorators import as_index, inner, kernel, lean, lean_kernel

__all__ = [
    "ByteRows",
    "Bytes",
    "FlagRows",
    "Flags",
    "FloatRows",
    "FloatStacks",
    "Floats",
    "IndexRows",
    "IndexStacks",
    "Indices",
    "IntRows",
    "Ints",
    "Mutable",
    "as_index",
    "inner",
    "kernel",
    "lean",
    "lean_kernel",
]
