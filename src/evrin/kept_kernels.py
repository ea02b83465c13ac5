"""Kernels that are kept, and found again for as long as they are right. Loading this module loads the compiler.

The compiler keeps a function by the file that holds it, and does not notice when a function that it calls changes in
another file. So results are kept under a digest of every file that can hold a kernel or a number a kernel uses: an
upgrade, or any change to these files, has its own folder.
"""

from __future__ import annotations

import hashlib
import logging
import os
import shutil
from functools import lru_cache
from pathlib import Path
from types import FunctionType
from typing import Any

import llvmlite
import numba
from llvmlite import binding
from numba import njit, types
from numba.core import event
from numba.core.caching import CompileResultCacheImpl, FunctionCache, _CacheLocator
from numba.extending import typeof_impl

from evrin.compiling import Kernel, listeners
from evrin.keeping import kept_folder

# Every index is checked in every kernel: for tests. Such kernels are slow and are kept apart.
CHECKS = os.environ.get("EVRIN_CHECKS") == "1"
ROOMS = ("tin", "surface", "survey", "analysis", "formats")
_LOG = logging.getLogger("evrin")
_MARK = "kept-by-evrin"
_MOST_KEPT = 4


def dispatcher_of(function: Any, options: dict[str, Any]) -> Any:
    """Return what the compiler makes of a function: compiled at its first call, unless an earlier result is kept."""
    dispatcher = njit(**{"boundscheck": CHECKS, "_nrt": True, **options})(function)
    # With the compiler switched off there is nothing to keep.
    if hasattr(dispatcher, "_cache"):
        dispatcher._cache = _Kept(function)  # type: ignore[no-untyped-call]
    return dispatcher


@typeof_impl.register(Kernel)
def _kernel_in_a_kernel(kernel: Kernel, context: Any) -> Any:
    return types.Dispatcher(kernel.ready())


@lru_cache(maxsize=1)
def kernels_folder() -> Path:
    """Return the folder in which the kernels of just these source files, this compiler and this processor are kept."""
    folder = kept_folder() / "kernels" / _digest()
    if not (folder / _MARK).exists():
        folder.mkdir(parents=True, exist_ok=True)
        (folder / _MARK).touch()
        _tidy(folder)
    return folder


def is_kept(kernel: Kernel) -> bool:
    """Return whether a kernel had been compiled when this process first asked."""
    return _place_of(kernel.function) in _kept_places()


@lru_cache(maxsize=1)
def _kept_places() -> frozenset[str]:
    return frozenset(f"{path.parent.name}/{path.name.split('.py')[0]}" for path in kernels_folder().glob("*/*.nbi"))


def _place_of(function: FunctionType) -> str:
    file = Path(function.__code__.co_filename)
    name = f"{file.stem}.{function.__qualname__}-{function.__code__.co_firstlineno}"
    return f"{_room_of(file)}/{name}"


def _room_of(file: Path) -> str:
    return f"{file.parent.name}-{file.stem}"


def _digest() -> str:
    package = Path(__file__).parent
    files = [*package.glob("*.py"), *(path for room in ROOMS for path in (package / room).rglob("*.py"))]
    digest = hashlib.sha256()
    for path in sorted(files):
        data = path.read_bytes()
        digest.update(f"{path.relative_to(package).as_posix()} {len(data)}\n".encode())
        digest.update(data)
    host = f"{binding.get_host_cpu_name()} {binding.get_host_cpu_features().flatten()}"
    digest.update(f"{numba.__version__} {llvmlite.__version__} {host} {CHECKS}".encode())
    return digest.hexdigest()[:24]


def _tidy(folder: Path) -> None:
    """Remove the kernels of earlier versions, except the few that were made last."""
    try:
        others = [path for path in folder.parent.iterdir() if path != folder and (path / _MARK).is_file()]
        others.sort(key=lambda path: (path / _MARK).stat().st_mtime, reverse=True)
    except OSError:
        return
    for path in others[_MOST_KEPT - 1 :]:
        if not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)


class _Locator(_CacheLocator):
    """Where one function is kept: the digest of the folder decides whether it is current."""

    def __init__(self, function: Any, file: str) -> None:
        self._line = function.__code__.co_firstlineno
        self._folder = kernels_folder() / _room_of(Path(file))

    @classmethod
    def from_function(cls, function: Any, file: str) -> _Locator:
        """Return the locator of a function; its folder is made when something is kept."""
        return cls(function, file)

    def get_cache_path(self) -> str:
        """Return the folder."""
        return str(self._folder)

    def get_source_stamp(self) -> str:
        """Return the digest of the source."""
        return self._folder.parent.name

    def get_disambiguator(self) -> str:
        """Return what distinguishes functions of one name in one file."""
        return str(self._line)


class _Results(CompileResultCacheImpl):
    _locator_classes = [_Locator]  # noqa: RUF012


class _Kept(FunctionCache):
    _impl_class = _Results


@lru_cache(maxsize=1)
def _report() -> None:
    if not _kept_places():
        _LOG.warning(
            "preparing kernels, once for this version: each at its first use, or all of them with `evrin prepare`"
        )


class _Compiling(event.Listener):
    def on_start(self, event: Any) -> None:
        _report()
        for listener in listeners:
            listener()

    def on_end(self, event: Any) -> None:
        pass


event.register("numba:compile", _Compiling())  # type: ignore[no-untyped-call]
