"""Methods whose functions are in rooms further down the house, loaded when they are first used."""

from __future__ import annotations

from importlib import import_module
from types import MethodType
from typing import Any


class LazyMethod:
    """A method that is a function of another module, with the instance as its first argument.

    Parameters
    ----------
    where : str
        Module and function, as in ``evrin.analysis.contours:contours``.
    """

    def __init__(self, where: str) -> None:
        self._where = where

    def __get__(self, instance: Any, owner: type) -> Any:
        module, _, name = self._where.partition(":")
        function = getattr(import_module(module), name)
        return function if instance is None else MethodType(function, instance)
