"""Names of a package that are loaded when they are first used."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module


def loader(package: str, homes: Mapping[str, str]) -> Callable[[str], object]:
    """Return the ``__getattr__`` of a package (PEP 562) that imports a name from its home at first use.

    Parameters
    ----------
    package : str
        The package whose ``__init__`` calls this.
    homes : mapping of str to str
        The module in which each name is defined.

    Returns
    -------
    callable
    """

    def load(name: str) -> object:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        value: object = getattr(import_module(homes[name]), name)
        setattr(sys.modules[package], name, value)
        return value

    return load
