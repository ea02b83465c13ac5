"""What is loaded when it is first used: methods that are functions of rooms further down the house, and exports."""

from __future__ import annotations

import ast
import sys
from importlib import import_module
from pathlib import Path
from types import MethodType, ModuleType
from typing import Any


def loaded(where: str) -> Any:
    """Return what a text such as ``evrin.analysis.contours.contour_lines:contours`` names: a module and something in it."""
    module, _, name = where.partition(":")
    return getattr(import_module(module), name)


class LazyMethod:
    """A method that is a function of another module, with the instance as its first argument.

    Parameters
    ----------
    where : str
        Module and function, as in ``evrin.analysis.contours.contour_lines:contours``.
    """

    def __init__(self, where: str) -> None:
        self._where = where

    def __get__(self, instance: Any, owner: type) -> Any:
        function = loaded(self._where)
        return function if instance is None else MethodType(function, instance)


def exported(package: str) -> None:
    """Let a package load each name at its first use: those it imports under ``TYPE_CHECKING``.

    A name can be both that of a module in the package and that of a function in it; the function is meant.

    Parameters
    ----------
    package : str
        The package, whose ``__init__`` calls this.
    """
    module = sys.modules[package]
    tree = ast.parse(Path(str(module.__file__)).read_text(encoding="utf-8"))
    guarded = [node for node in tree.body if isinstance(node, ast.If)]
    imports = [node for block in guarded for node in block.body if isinstance(node, ast.ImportFrom)]
    homes = {name.asname or name.name: f"{node.module}:{name.name}" for node in imports for name in node.names}
    module.__class__ = _Package
    vars(module)["_homes"] = homes


class _Package(ModuleType):
    _homes: dict[str, str]

    def __getattr__(self, name: str) -> Any:
        if name not in self._homes:
            raise AttributeError(f"module {self.__name__!r} has no attribute {name!r}")
        value = vars(self)[name] = loaded(self._homes[name])
        return value

    def __setattr__(self, name: str, value: Any) -> None:
        # The import of a module puts it into its package, where a function of the same name may be meant.
        if not (name in self._homes and isinstance(value, ModuleType)):
            super().__setattr__(name, value)

    def __dir__(self) -> list[str]:
        return sorted({*vars(self), *self._homes})
