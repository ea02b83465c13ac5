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
from collections.abc import Iterator, Sequence
from functools import cache, lru_cache
from pathlib import Path
from threading import Lock
from types import FunctionType
from typing import Any, NamedTuple

import numpy as np

from evrin.kernels.arrays import AnyArray
from evrin.kernels.kernel import Kernel
from evrin.kernels.parameters import ArrayParameter, Parameter, TupleParameter

# Bytes of all arrays that a kernel is given, up to which its work counts as small.
_MOST_BYTES = 400_000
# Seconds that loading the compiler takes.
_LOADING = 0.3
_WORTH_NOTING = 0.01
_ALWAYS = os.environ.get("EVRIN_KERNELS") == "as-written"


class Answer(NamedTuple):
    """What a kernel returned."""

    value: Any


_seconds: defaultdict[Kernel, float] = defaultdict(float)
_functions: dict[Kernel, FunctionType] = {}
_making = Lock()


def answered(kernel: Kernel, arguments: tuple[object, ...]) -> Answer | None:
    """Do the work of a kernel in Python; None where it is to be compiled.

    Parameters
    ----------
    kernel : Kernel
        The kernel.
    arguments : tuple
        As the kernel declares them.

    Returns
    -------
    Answer or None
        None leaves every array as it was.
    """
    arrays = list(_arrays(kernel.parameters, arguments))
    if not _pays(kernel, sum(array.nbytes for array, _ in arrays)):
        return None
    before = [(array, array.copy()) for array, mutable in arrays if mutable]
    began = time.perf_counter()
    try:
        with np.errstate(all="raise", under="ignore"):
            return Answer(_of_python(interpreted(kernel)(*arguments)))
    except BaseException as error:
        for array, values in before:
            array[...] = values
        if not isinstance(error, Exception):
            raise
        _seconds[kernel] = np.inf
        return None
    finally:
        _seconds[kernel] += time.perf_counter() - began


def interpreted(kernel: Kernel) -> FunctionType:
    """Return a plain function that does what a kernel does, and calls others as plain functions.

    Parameters
    ----------
    kernel : Kernel
        The kernel.
    """
    with _making:
        for each in kernel.closure:
            if each not in _functions:
                function = each.function
                names = dict(function.__globals__)
                names.update({name: _functions[callee] for name, callee in each.callees.items()})
                _functions[each] = FunctionType(function.__code__, names, function.__name__)
        return _functions[kernel]


def _arrays(declared: Sequence[Parameter], values: Sequence[Any]) -> Iterator[tuple[AnyArray, bool]]:
    """The arrays among arguments, and whether the kernel writes to each."""
    for parameter, value in zip(declared, values, strict=True):
        if isinstance(parameter, ArrayParameter):
            yield value, parameter.mutable
        elif isinstance(parameter, TupleParameter):
            yield from _arrays(parameter.fields, value)


def _of_python(value: object) -> Any:
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
    if "numba" not in sys.modules and sum(_seconds.values()) < _LOADING:
        return True
    return _seconds[kernel] + _earlier()[kernel.name] < _price(kernel)


@cache
def _price(kernel: Kernel) -> float:
    """Seconds that compiling takes; nothing where the kernel is kept."""
    from evrin.kernels.kept import compiling_time, is_kept

    return 0.0 if is_kept(kernel) else compiling_time(kernel)


@lru_cache(maxsize=1)
def _earlier() -> defaultdict[str, float]:
    """Seconds that each kernel spent in Python in earlier processes; those of this one are added at its end."""
    from evrin.kernels.kept import kernels_folder

    path = kernels_folder() / "interpreted.txt"
    atexit.register(_note, path)
    spent: defaultdict[str, float] = defaultdict(float)
    with contextlib.suppress(OSError, ValueError):
        for line in path.read_text(encoding="utf-8").splitlines():
            name, seconds = line.split()
            spent[name] += float(seconds)
    return spent


def _note(path: Path) -> None:
    rows = [f"{each.name} {seconds:.2f}\n" for each, seconds in _seconds.items() if _WORTH_NOTING < seconds < np.inf]
    with contextlib.suppress(OSError), path.open("a", encoding="utf-8") as stream:
        stream.write("".join(rows))
