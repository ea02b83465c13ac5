"""Loading every module of a package, so that what one declares is known without being listed anywhere."""

from __future__ import annotations

from importlib import import_module
from pkgutil import iter_modules


def load_modules(package: str, prefix: str = "") -> None:
    """Import the modules of a package, and of those within it, whose names begin with a prefix, by name.

    Examples
    --------
    >>> load_modules("evrin.check", "rules_")
    """
    for entry in sorted(iter_modules(import_module(package).__path__), key=lambda entry: entry.name):
        if entry.ispkg:
            load_modules(f"{package}.{entry.name}", prefix)
        elif entry.name.startswith(prefix):
            import_module(f"{package}.{entry.name}")
