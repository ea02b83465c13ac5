"""Small work is done by kernels as they are written, in Python, until compiling them would have paid.

Compiling a kernel with all that it calls takes up to half a minute, once on a machine; what it does for a small survey
takes Python less. So a kernel is compiled when it has spent as long in Python as compiling takes, or when the work is
large. Both give the same numbers, bit by bit, as kernels are made of nothing but arithmetic, square roots and what the
mathematics library rounds alike. What Python finds odd in a kernel, an overflow or an error, counts for nothing: every
array is put back, and the compiled kernel does the work.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import sys
import time
from collections import defaultdict
from collections.abc import Iterator
from functools import cache, lru_cache
from pathlib import Path
from types import FunctionType
from typing import Any, NamedTuple

import numpy as np

from evrin.compiling import Kernel, keeper

# Bytes of all arrays that a kernel is given, up to which its work counts as small.
_MOST_BYTES = 400_000
# Seconds that loading the compiler takes, and compiling one function.
_LOADING, _COMPILING = 0.3, 0.3
_WORTH_NOTING = 0.01
_ALWAYS = os.environ.get("EVRIN_KERNELS") == "as-written"


class Answer(NamedTuple):
    """What a kernel returned."""

    value: Any


_here: defaultdict[str, float] = defaultdict(float)
_as_written: dict[Kernel, FunctionType] = {}


def answered(kernel: Kernel, arguments: tuple[Any, ...]) -> Answer | None:
    """Do the work of a kernel as it is written; None where it is to be compiled.

    Parameters
    ----------
    kernel : Kernel
    arguments : tuple

    Returns
    -------
    Answer or None
        None leaves every array as it was.
    """
    arrays = list(_arrays(arguments))
    if not _pays(kernel, sum(array.nbytes for array in arrays)):
        return None
    before = [(array, array.copy()) for array in arrays if array.flags.writeable]
    began = time.perf_counter()
    try:
        with np.errstate(all="raise", under="ignore"):
            return Answer(_of_python(as_written(kernel)(*arguments)))
    except BaseException as error:
        for array, values in before:
            array[...] = values
        if not isinstance(error, Exception):
            raise
        _here[_name(kernel)] = np.inf
        return None
    finally:
        _here[_name(kernel)] += time.perf_counter() - began


def as_written(kernel: Kernel) -> FunctionType:
    """Return a function that calls other kernels as they are written, too.

    Parameters
    ----------
    kernel : Kernel
    """
    if kernel not in _as_written:
        function = kernel.function
        names = dict(function.__globals__)
        _as_written[kernel] = FunctionType(function.__code__, names, function.__name__, function.__defaults__)
        for name, other in _called_by(kernel):
            names[name] = as_written(other)
    return _as_written[kernel]


def _called_by(kernel: Kernel) -> Iterator[tuple[str, Kernel]]:
    for name in kernel.function.__code__.co_names:
        other = kernel.function.__globals__.get(name)
        if isinstance(other, Kernel):
            yield name, other


def _arrays(values: tuple[Any, ...]) -> Iterator[np.ndarray[Any, Any]]:
    for value in values:
        if isinstance(value, np.ndarray):
            yield value
        elif isinstance(value, tuple):
            yield from _arrays(value)


def _of_python(value: Any) -> Any:
    """Numbers as compiled kernels return them: those of Python."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, tuple):
        parts = map(_of_python, value)
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    return value


def _pays(kernel: Kernel, size: int) -> bool:
    if _ALWAYS:
        return True
    if size > _MOST_BYTES:
        return False
    if "numba" not in sys.modules and sum(_here.values()) < _LOADING:
        return True
    name = _name(kernel)
    return _here[name] + _earlier()[name] < _price(kernel)


@cache
def _price(kernel: Kernel) -> float:
    """Seconds that compiling takes; nothing where the kernel is kept."""
    is_kept = keeper().is_kept
    if is_kept(kernel):
        return 0.0
    met, ahead = {kernel}, [kernel]
    while ahead:
        new = {other for _, other in _called_by(ahead.pop())} - met
        met |= new
        ahead += new
    return _COMPILING * sum(not is_kept(each) for each in met)


def _name(kernel: Kernel) -> str:
    return f"{kernel.function.__module__}.{kernel.function.__qualname__}"


@lru_cache(maxsize=1)
def _earlier() -> defaultdict[str, float]:
    """Seconds that each kernel spent in Python in earlier processes; those of this one are added at its end."""
    path = keeper().kernels_folder() / "uncompiled.txt"
    atexit.register(_note, path)
    spent: defaultdict[str, float] = defaultdict(float)
    with contextlib.suppress(OSError, ValueError):
        for line in path.read_text(encoding="utf-8").splitlines():
            name, seconds = line.split()
            spent[name] += float(seconds)
    return spent


def _note(path: Path) -> None:
    rows = [f"{name} {seconds:.2f}\n" for name, seconds in _here.items() if _WORTH_NOTING < seconds < np.inf]
    with contextlib.suppress(OSError), path.open("a", encoding="utf-8") as stream:
        stream.write("".join(rows))
