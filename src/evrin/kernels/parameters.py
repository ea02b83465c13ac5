"""The types that kernels declare for their parameters, and arguments brought to them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from operator import index
from typing import Any, get_args, get_type_hints

import numpy as np

from evrin.kernels.arrays import AnyArray, Dimensions, Filled

_ELEMENTS: dict[type | None, str] = {
    np.float64: "float64",
    np.int32: "int32",
    np.int64: "int64",
    np.bool_: "bool",
    np.uint8: "uint8",
}


@dataclass(frozen=True)
class ArrayParameter:
    """An array of one element type and number of dimensions, in C order.

    Parameters
    ----------
    elements : str
    dimensions : int
    mutable : bool
        Whether the kernel writes to it.
    """

    elements: str
    dimensions: int
    mutable: bool

    def brought(self, value: object, where: str, *, locked: bool = False) -> AnyArray:
        """Return an array as declared.

        An array that is only read is put into C order if it is not; with *locked*, its view cannot be written to.

        Raises
        ------
        TypeError
            For anything else.
        """
        if not isinstance(value, np.ndarray) or value.dtype != self.elements or value.ndim != self.dimensions:
            got = f"{value.dtype}, {value.ndim} dimensions" if isinstance(value, np.ndarray) else type(value).__name__
            raise TypeError(f"{where} must be an array of {self.elements}, {self.dimensions} dimensions; got {got}")
        array = value
        if self.mutable:
            if not (array.flags.c_contiguous and array.flags.writeable):
                raise TypeError(f"{where} is written to, so it must be writable and in C order")
            return array
        if not array.flags.c_contiguous:
            array = np.ascontiguousarray(array)
        if locked and array.flags.writeable:
            array = array.view()
            array.flags.writeable = False
        return array


@dataclass(frozen=True)
class NumberParameter:
    """A number.

    Parameters
    ----------
    kind : str
        ``int``, ``float`` or ``bool``.
    """

    kind: str

    def brought(self, value: Any, where: str, *, locked: bool = False) -> int | float | bool:
        """Return a number of Python's own.

        Raises
        ------
        TypeError
            For any other value.
        """
        if self.kind == "float":
            return float(value)
        return bool(value) if self.kind == "bool" else index(value)


@dataclass(frozen=True)
class TupleParameter:
    """Arrays and numbers under names.

    Parameters
    ----------
    of : type
    names : tuple of str
    fields : tuple of Parameter
    """

    of: type
    names: tuple[str, ...]
    fields: tuple[Parameter, ...]

    def brought(self, value: object, where: str, *, locked: bool = False) -> object:
        """Return the same with each field as declared.

        Raises
        ------
        TypeError
            For anything else.
        """
        if type(value) is not self.of:
            raise TypeError(f"{where} must be {self.of.__name__}; got {type(value).__name__}")
        brought = [
            field.brought(getattr(value, name), f"{where}.{name}", locked=True)
            for name, field in zip(self.names, self.fields, strict=True)
        ]
        return self.of(*brought)

    def __repr__(self) -> str:
        return f"{self.of.__name__}{self.names}{self.fields}"


Parameter = ArrayParameter | NumberParameter | TupleParameter


def parameters_of(function: Callable[..., object]) -> tuple[Parameter, ...]:
    """Return the types that a function declares.

    Raises
    ------
    TypeError
        For a parameter that is not one of the types that kernels take.

    Examples
    --------
    >>> from evrin.kernels.arrays import Floats, Mutable
    >>> def add(one: Floats, other: float, total: Mutable[Floats]) -> None: ...
    >>> for each in parameters_of(add):
    ...     print(each)
    ArrayParameter(elements='float64', dimensions=1, mutable=False)
    NumberParameter(kind='float')
    ArrayParameter(elements='float64', dimensions=1, mutable=True)
    """
    hints = get_type_hints(function, include_extras=True)
    hints.pop("return", None)
    return tuple(_parameter(hint, f"{function.__name__}: {name}") for name, hint in hints.items())


def _parameter(hint: object, where: str) -> Parameter:
    if hint in (int, float, bool):
        return NumberParameter(hint.__name__)
    if isinstance(hint, type) and hasattr(hint, "_fields"):
        return _tuple_parameter(hint)
    array, *notes = get_args(hint) or (None,)
    dimensions = [note.number for note in notes if isinstance(note, Dimensions)]
    elements = _ELEMENTS.get(_scalar_in(array)) if len(dimensions) == 1 else None
    if elements is None:
        raise TypeError(f"{where} is not one of the types in evrin.kernels.arrays, a number, or a named tuple of these")
    return ArrayParameter(elements, dimensions[0], any(isinstance(note, Filled) for note in notes))


def _scalar_in(hint: object) -> type[np.generic] | None:
    """The type of the elements of an array, which NumPy's releases keep at unlike depths of its name."""
    if isinstance(hint, type) and issubclass(hint, np.generic):
        return hint
    return next((scalar for each in get_args(hint) if (scalar := _scalar_in(each)) is not None), None)


@cache
def _tuple_parameter(of: Any) -> TupleParameter:
    hints = get_type_hints(of, include_extras=True)
    names: tuple[str, ...] = of._fields
    return TupleParameter(of, names, tuple(_parameter(hints[name], f"{of.__name__}.{name}") for name in names))
