"""What makes a function a kernel. Nothing heavy is loaded until a kernel is called that needs it."""

from __future__ import annotations

import os
from collections.abc import Callable
from threading import RLock
from typing import Any, TypeVar, cast

import numpy as np

from evrin.kernels.interruption import heard_afterwards
from evrin.kernels.kernel import Kernel

_Function = TypeVar("_Function", bound=Callable[..., object])
_READYING = RLock()
# Whether small work, too, is done by compiled kernels.
_ALWAYS_COMPILED = os.environ.get("EVRIN_KERNELS") == "compiled" or os.environ.get("EVRIN_CHECKS") == "1"


class CallableKernel(Kernel):
    """A kernel as Python calls it: interpreted while the work is small and it is not kept, else compiled."""

    _compiled: Callable[..., object] | None = None

    def __call__(self, *arguments: object) -> Any:
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

    def ready(self) -> Callable[..., object]:
        """Return the compiled function: the one that is kept, or a new one, which is kept then."""
        from evrin.kernels.kept import compiled

        with _READYING, heard_afterwards():
            if self._compiled is None:
                self._compiled = compiled(self)
        return self._compiled


def kernel(function: _Function) -> _Function:
    """Make a function a kernel; other threads can run while it works.

    Parameters
    ----------
    function : callable
        Its parameters declare the types of `evrin.kernels.arrays`, or numbers.

    Returns
    -------
    callable
        A `Kernel` of the same signature.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.kernels import Floats, kernel
    >>> @kernel
    ... def total(values: Floats) -> float:
    ...     reached = 0.0
    ...     for k in range(values.shape[0]):
    ...         reached += values[k]
    ...     return reached
    >>> total(np.array([1.0, 2.5]))
    3.5
    """
    return _made(function, entry=True, releases=True, counts=True)


def inner(function: _Function) -> _Function:
    """Make a function a kernel that kernels alone may call: without an entry from Python it compiles quicker.

    Parameters
    ----------
    function : callable
        Its parameters declare the types of `evrin.kernels.arrays`, or numbers.

    Returns
    -------
    callable
        A `Kernel` of the same signature.

    Examples
    --------
    >>> from evrin.kernels import inner
    >>> @inner
    ... def doubled(value: float) -> float:
    ...     return 2.0 * value
    >>> doubled.options["entry"]
    False
    """
    return _made(function, entry=False, releases=False, counts=True)


def lean(function: _Function) -> _Function:
    """Make a function a kernel for kernels alone that allocates nothing: quicker, without reference counting.

    Parameters
    ----------
    function : callable
        Its parameters declare the types of `evrin.kernels.arrays`, or numbers.

    Returns
    -------
    callable
        A `Kernel` of the same signature.

    Examples
    --------
    >>> from evrin.kernels import Floats, lean
    >>> @lean
    ... def first(values: Floats) -> float:
    ...     return values[0]
    >>> first.options["counts"]
    False
    """
    return _made(function, entry=False, releases=False, counts=False)


def lean_kernel(function: _Function) -> _Function:
    """Make a function a kernel that allocates nothing and calls only lean functions often.

    Parameters
    ----------
    function : callable
        Its parameters declare the types of `evrin.kernels.arrays`, or numbers.

    Returns
    -------
    callable
        A `Kernel` of the same signature.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.kernels import Floats, Mutable, lean_kernel
    >>> @lean_kernel
    ... def fill(values: Mutable[Floats], value: float) -> None:
    ...     for k in range(values.shape[0]):
    ...         values[k] = value
    >>> values = np.zeros(2)
    >>> fill(values, 7.0)
    >>> values.tolist()
    [7.0, 7.0]
    """
    return _made(function, entry=True, releases=True, counts=False)


def _made(function: _Function, **options: bool) -> _Function:
    return cast(_Function, CallableKernel(function, options))


@inner
def as_index(value: int) -> int:
    """Widen a number read from an array, so that what is computed with it does not overflow.

    Examples
    --------
    >>> from evrin.kernels import as_index
    >>> as_index.parameters
    (NumberParameter(kind='int'),)
    """
    return np.int64(value)  # type: ignore[return-value]
