"""What makes a function a kernel. Nothing heavy is loaded until a kernel is called that needs it."""

from __future__ import annotations

import os
from collections.abc import Callable
from threading import RLock
from typing import Any, TypeVar, cast

import numpy as np

from evrin.kernels.kernel import Kernel

_Function = TypeVar("_Function", bound=Callable[..., object])
_READYING = RLock()
# Whether small work, too, is done by compiled kernels.
_ALWAYS_COMPILED = os.environ.get("EVRIN_KERNELS") == "compiled" or os.environ.get("EVRIN_CHECKS") == "1"


class CallableKernel(Kernel):
    """A kernel as Python calls it: interpreted while the work is small and it is not kept, else compiled."""

    _compiled: Any = None

    def __call__(self, *arguments: Any) -> Any:
        """Bring the arguments to the declared types and do the work.

        Raises
        ------
        TypeError
            For an argument of another type.
        """
        declared = self.parameters
        if len(arguments) != len(declared):
            raise TypeError(f"{self.name} takes {len(declared)} arguments; got {len(arguments)}")
        names = self.function.__code__.co_varnames
        given = tuple([p.brought(a, n) for p, a, n in zip(declared, arguments, names, strict=False)])
        if self._compiled is None and not _ALWAYS_COMPILED:
            from evrin.kernels.interpreted import answered

            answer = answered(self, given)
            if answer is not None:
                return answer.value
        return (self._compiled or self.ready())(*given)

    def ready(self) -> Any:
        """Return the compiled function: the one that is kept, or a new one, which is kept then."""
        from evrin.kernels.kept import compiled

        with _READYING:
            if self._compiled is None:
                self._compiled = compiled(self)
        return self._compiled


def kernel(function: _Function) -> _Function:
    """Make a function a kernel; other threads can run while it works."""
    return _made(function, entry=True, releases=True, counts=True)


def inner(function: _Function) -> _Function:
    """Make a function a kernel that kernels alone may call: without an entry from Python it compiles quicker."""
    return _made(function, entry=False, releases=False, counts=True)


def lean(function: _Function) -> _Function:
    """Make a function a kernel for kernels alone that allocates nothing: quicker, without reference counting."""
    return _made(function, entry=False, releases=False, counts=False)


def lean_kernel(function: _Function) -> _Function:
    """Make a function a kernel that allocates nothing and calls only lean functions often."""
    return _made(function, entry=True, releases=True, counts=False)


def _made(function: _Function, **options: bool) -> _Function:
    return cast(_Function, CallableKernel(function, options))


@inner
def as_index(value: int) -> int:
    """Widen a number read from an array, so that what is computed with it does not overflow."""
    return np.int64(value)  # type: ignore[return-value]
