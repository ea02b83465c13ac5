"""Functions of rooms further down the house, as methods, loaded when they are first used."""

from __future__ import annotations

from importlib import import_module
from types import MethodType
from typing import Any


def loaded(where: str) -> Any:
    """Return what a text such as ``evrin.analysis.contours:contours`` names: a module and something in it."""
    module, _, name = where.partition(":")
    return getattr(import_module(module), name)


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
        function = loaded(self._where)
        return function if instance is None else MethodType(function, instance)
