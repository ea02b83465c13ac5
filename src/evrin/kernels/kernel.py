"""What a kernel is: a function of arrays and numbers, the types of its parameters, and the kernels that it calls."""

from __future__ import annotations

import functools
import hashlib
from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from types import BuiltinFunctionType, CodeType, FunctionType, ModuleType
from typing import cast

import numpy as np

from evrin.kernels.parameters import Parameter, parameters_of


class Kernel:
    """A function of arrays and numbers, whose signature holds the exact type of each.

    Parameters
    ----------
    function : callable
    options : mapping
        What the compiler is asked for: ``entry`` (whether Python may call it), ``counts`` (whether it may allocate
        arrays), ``releases`` (whether other threads run meanwhile).
    """

    def __init__(self, function: Callable[..., object], options: Mapping[str, bool]) -> None:
        self.function = cast(FunctionType, function)
        self.options = dict(options)
        functools.update_wrapper(cast(FunctionType, self), function)

    @property
    def name(self) -> str:
        """Module and function, without the name of the package."""
        return f"{self.function.__module__.removeprefix('evrin.')}.{self.function.__name__}"

    @cached_property
    def parameters(self) -> tuple[Parameter, ...]:
        """The types of the arguments, in order."""
        return parameters_of(self.function)

    @cached_property
    def callees(self) -> dict[str, Kernel]:
        """The kernels that the function calls, by the names that it calls them by."""
        return {name: value for name, value in self._globals() if isinstance(value, Kernel)}

    @cached_property
    def closure(self) -> tuple[Kernel, ...]:
        """The kernel and all that it calls, directly or not; callees come first."""
        met: dict[Kernel, None] = {}

        def visit(kernel: Kernel) -> None:
            if kernel not in met:
                for callee in kernel.callees.values():
                    visit(callee)
                met[kernel] = None

        visit(self)
        return tuple(met)

    @cached_property
    def digest(self) -> str:
        """What changes when the code, a constant or a callee does, and with nothing else: no comment, line or name."""
        parts = [repr(sorted(self.options.items())), *(repr(each) for each in self.parameters)]
        parts += _code_parts(self.function.__code__)
        parts += [f"{name} {_constant(name, value, self.name)}" for name, value in self._globals()]
        return hashlib.sha256("\n".join(parts).encode()).hexdigest()[:20]

    def _globals(self) -> Iterator[tuple[str, object]]:
        names = self.function.__globals__
        return ((name, names[name]) for name in _names_used(self.function.__code__) if name in names)


def _names_used(code: CodeType) -> list[str]:
    inner = [name for constant in code.co_consts if isinstance(constant, CodeType) for name in _names_used(constant)]
    return sorted({*code.co_names, *inner})


def _code_parts(code: CodeType) -> list[str]:
    """What a function does, except for its docstring and its place in the file."""
    constants = code.co_consts[1:] if isinstance(next(iter(code.co_consts), None), str) else code.co_consts
    parts = [code.co_code.hex(), repr(code.co_names), repr(code.co_varnames), repr(code.co_freevars)]
    for constant in constants:
        parts += _code_parts(constant) if isinstance(constant, CodeType) else [_exactly(constant)]
    return parts


def _exactly(value: object) -> str:
    return value.hex() if isinstance(value, float) else f"{type(value).__name__} {value!r}"


def _constant(name: str, value: object, kernel: str) -> str:
    """What a global of a kernel contributes to its digest."""
    if isinstance(value, Kernel):
        return value.digest
    if isinstance(value, (np.ndarray, np.generic)):
        return f"{value.dtype} {value.shape} {value.tobytes().hex()}"
    if isinstance(value, (int, float, str, tuple)):
        return _exactly(value)
    if isinstance(value, type):
        return f"{value.__qualname__} {getattr(value, '_fields', '')}"
    if isinstance(value, (BuiltinFunctionType, ModuleType)) and not value.__name__.startswith("evrin"):
        return value.__name__
    raise TypeError(f"{kernel} uses {name}, of which no change would be noticed: use a number, an array or a kernel")
