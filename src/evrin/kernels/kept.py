"""Kernels that are kept, and found again for as long as they are right. Loading this module loads the compiler.

The compiler keeps a function beside the file that holds it, for as long as that file does not change, and does not
notice when a function that it calls changes in another. So each kernel is compiled from a file of its own, in the
user's own folder, which is named after a digest of the kernel and of all that it calls.
"""

from __future__ import annotations

import contextlib
import gc
import hashlib
import inspect
import logging
import os
import secrets
import shutil
import sys
import textwrap
import time
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from types import FunctionType

from evrin.base import progress
from evrin.base.cache_folder import kept_folder
from evrin.kernels.compiler import compile_for, machine_stamp, own_place
from evrin.kernels.kernel import Kernel

_LOG = logging.getLogger("evrin")
_MARK = "kept-by-evrin"
_MOST_KEPT = 4
# The compiler compares times of files; a file that is made again has to look the same.
_TIME = 1_000_000_000
_RATES, _MOST_RATES = "rates.txt", 200
# Until it was measured on this machine.
_USUAL_SECONDS_A_BYTE, _LEAST_SIZE = 6e-4, 300
_compiling = 0


def compiled(kernel: Kernel) -> Callable[..., object]:
    """Return a kernel as compiled code: that which is kept, or else new code, which is kept then.

    Parameters
    ----------
    kernel : Kernel
        The kernel.
    """
    if is_kept(kernel):
        try:
            return _compiled_from(kernel, _file_of(kernel))
        except Exception as error:
            # What is kept can be damaged in any way: it is made again.
            _LOG.info("the kept kernel %s could not be loaded (%s)", kernel.name, error)
            _remove(_file_of(kernel))
    return _compiled_anew(kernel)


def _compiled_anew(kernel: Kernel) -> Callable[..., object]:
    global _compiling
    if not _compiling:
        progress.compiling(kernel.name, compiling_time(kernel))
    size = _missing_size(kernel)
    began = time.perf_counter()
    _compiling += 1
    # The compiler makes so many small objects that looking for garbage among them takes a sixth of its time.
    collects = gc.isenabled()
    gc.disable()
    try:
        return _compiled_from(kernel, _file_of(kernel))
    except OSError:
        # Where nothing can be kept, as on a full disk, the work is done all the same.
        return compile_for(kernel.function, kernel.parameters, kernel.options, keep=False)
    finally:
        if collects:
            gc.enable()
        _compiling -= 1
        _kept_names.cache_clear()
        if not _compiling:
            _note_rate(size, time.perf_counter() - began)
        _tidy_earlier(kernel)


def is_kept(kernel: Kernel) -> bool:
    """Return whether a kernel has been compiled on this machine."""
    return f"{_file_of(kernel).stem}.{kernel.function.__qualname__}-1" in _kept_names()


def compiling_time(kernel: Kernel) -> float:
    """Return about how many seconds it takes to compile a kernel and what it calls, as far as these are not kept."""
    return _missing_size(kernel) * _seconds_a_byte()


def _missing_size(kernel: Kernel) -> int:
    return sum(_size(each) for each in kernel.closure if not is_kept(each))


def _size(kernel: Kernel) -> int:
    """Bytes of interpreted code, and those that account for what every kernel takes, however small."""
    return len(kernel.function.__code__.co_code) + _LEAST_SIZE


@lru_cache(maxsize=1)
def kernels_folder() -> Path:
    """Return the folder in which the kernels for this compiler, this Python and this processor are kept."""
    stamp = hashlib.sha256(f"{sys.version} {machine_stamp()}".encode()).hexdigest()[:24]
    folder = kept_folder() / "kernels" / stamp
    if not (folder / _MARK).exists():
        folder.mkdir(parents=True, exist_ok=True)
        (folder / _MARK).touch()
        _tidy(folder)
    return folder


@lru_cache(maxsize=1)
def _kept_names() -> frozenset[str]:
    place = own_place()
    files = place.rglob("*.nbi") if place else kernels_folder().glob("__pycache__/*.nbi")
    return frozenset(path.name.rpartition(".py")[0] for path in files)


def _file_of(kernel: Kernel) -> Path:
    return kernels_folder() / f"{kernel.name}-{kernel.digest}.py"


def _compiled_from(kernel: Kernel, file: Path) -> Callable[..., object]:
    """Compile the function as if it had been written in a file of its own."""
    function = kernel.function
    if not file.exists():
        _write_source(function, file)
    code = function.__code__.replace(co_filename=str(file), co_firstlineno=1)
    placed = FunctionType(code, function.__globals__, function.__name__)
    return compile_for(placed, kernel.parameters, kernel.options, keep=True)


def _write_source(function: FunctionType, file: Path) -> None:
    part = file.with_suffix(f".{secrets.token_hex(6)}")
    part.write_text(textwrap.dedent(inspect.getsource(function)), encoding="utf-8")
    os.utime(part, (_TIME, _TIME))
    part.replace(file)


def _remove(file: Path) -> None:
    for path in (file, *file.parent.glob(f"__pycache__/{file.stem}.*")):
        with contextlib.suppress(OSError):
            path.unlink()
    _kept_names.cache_clear()


def _tidy_earlier(kernel: Kernel) -> None:
    """Remove what was kept of earlier versions of a kernel, except for the few that were made last."""
    pattern = f"{kernel.name}-{'?' * len(kernel.digest)}.py"
    with contextlib.suppress(OSError):
        others = [path for path in kernels_folder().glob(pattern) if path != _file_of(kernel)]
        for path in sorted(others, key=lambda each: each.stat().st_ctime)[: 1 - _MOST_KEPT]:
            _remove(path)


def _tidy(folder: Path) -> None:
    """Remove the kernels of other compilers, except for the few that were made last."""
    try:
        others = [path for path in folder.parent.iterdir() if path != folder and (path / _MARK).is_file()]
        others.sort(key=lambda path: (path / _MARK).stat().st_mtime, reverse=True)
    except OSError:
        return
    for path in others[_MOST_KEPT - 1 :]:
        if not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)


def _note_rate(size: int, seconds: float) -> None:
    with contextlib.suppress(OSError), (kernels_folder() / _RATES).open("a", encoding="utf-8") as stream:
        stream.write(f"{size} {seconds:.2f}\n")
    _seconds_a_byte.cache_clear()


@lru_cache(maxsize=1)
def _seconds_a_byte() -> float:
    """Seconds that compiling takes for each byte of interpreted code, as measured on this machine."""
    with contextlib.suppress(OSError, ValueError):
        lines = (kernels_folder() / _RATES).read_text(encoding="utf-8").splitlines()[-_MOST_RATES:]
        sizes, seconds = zip(*(map(float, line.split()) for line in lines), strict=True)
        if sum(sizes) > 0.0:
            return float(sum(seconds) / sum(sizes))
    return _USUAL_SECONDS_A_BYTE
