"""Kernels: functions that are compiled at their first call. Until then not even the compiler is loaded."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable
from importlib import import_module
from threading import RLock
from types import FunctionType, ModuleType
from typing import Any, TypeVar, cast

from evrin.lazy import loaded

_Function = TypeVar("_Function", bound=Callable[..., object])
# Are called when a kernel has to be compiled because none is kept.
listeners: list[Callable[[], None]] = []
_LOADING = RLock()
# Whether nothing else in this process uses the compiler; linear algebra, which no kernel uses, is then not loaded.
is_alone = False
# Whether small work, too, is done by compiled kernels.
is_eager = os.environ.get("EVRIN_KERNELS") == "compiled" or os.environ.get("EVRIN_CHECKS") == "1"


class Kernel:
    """A function that is compiled, or found among those that are kept, when it is first called.

    Parameters
    ----------
    function : callable
    options : dict
        Of the compiler.
    """

    def __init__(self, function: Callable[..., object], options: dict[str, Any]) -> None:
        self.function, self.options = cast(FunctionType, function), options
        self._compiled: Any = None
        functools.update_wrapper(self, function)

    def __call__(self, *arguments: Any) -> Any:
        """Call what was compiled, or do small work as it is written."""
        if self._compiled is None and not is_eager:
            answer = loaded("evrin.uncompiled:answered")(self, arguments)
            if answer is not None:
                return answer.value
        return (self._compiled or self.ready())(*arguments)

    def ready(self) -> Any:
        """Return what the compiler makes of the function."""
        with _LOADING:
            if self._compiled is not None:
                return self._compiled
            self._compiled = keeper().dispatcher_of(self.function, self.options)
        return self._compiled


def keeper() -> ModuleType:
    """Return the module that keeps kernels; the compiler is loaded with it."""
    with _LOADING:
        if is_alone and "numba" not in sys.modules:
            _load_compiler_without_linear_algebra()
        return import_module("evrin.kept_kernels")


def _load_compiler_without_linear_algebra() -> None:
    before = {name: sys.modules.get(name) for name in ("scipy", "scipy.linalg")}
    if before["scipy.linalg"] is not None:
        return
    sys.modules.update(dict.fromkeys(before))  # type: ignore[arg-type]
    try:
        import_module("numba.np.arraymath")
    finally:
        for name, module in before.items():
            if module is None:
                sys.modules.pop(name, None)
            else:
                sys.modules[name] = module


def compiled(function: _Function, **options: Any) -> _Function:
    """Return a kernel that is compiled at its first call, unless an earlier result is kept."""
    return cast(_Function, Kernel(function, options))
