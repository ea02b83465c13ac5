"""Where the results of tiles are kept, so that a run that was stopped goes on where it was."""

from __future__ import annotations

import hashlib
import json
import secrets
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from evrin.errors import DataError

MARK = "kept-by-evrin"


def opened_folder(folder: Path, key: str, *, fresh: bool = False) -> Path:
    """Return the folder for the results under one key; those of other keys, which nothing needs, are removed.

    Raises
    ------
    DataError
        Where the folder holds what is not Evrin's, or cannot be written to.
    """
    try:
        if folder.exists() and not (folder / MARK).exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise DataError(f"{folder}: it holds something else. Choose another folder, or move that away")
        folder.mkdir(parents=True, exist_ok=True)
        (folder / MARK).touch()
        for other in folder.iterdir():
            if other.is_dir() and (fresh or other.name != key):
                shutil.rmtree(other, ignore_errors=True)
        (folder / key).mkdir(exist_ok=True)
    except OSError as error:
        raise DataError(f"{folder}: cannot be written: {error.strerror}") from error
    return folder / key


def once(path: Path, make: Callable[[], Any]) -> Any:
    """Return what is kept in a file, or work it out and keep it: whatever *make* writes is there when the file is.

    Parameters
    ----------
    path : Path
        Ends in ``.json``.
    make : callable
        Returns what JSON can hold.
    """
    if path.exists():
        return json.loads(path.read_text(encoding="utf-8"))
    path.parent.mkdir(parents=True, exist_ok=True)
    value = make()
    _whole(path, lambda part: part.write_text(json.dumps(value), encoding="utf-8"))
    return value


def name_of(*parts: object) -> str:
    """Return a name for a result that follows from all that it depends on."""
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:24]


def save(path: Path, array: NDArray[Any]) -> None:
    """Write an array; the file appears whole."""
    path.parent.mkdir(parents=True, exist_ok=True)

    def write(part: Path) -> None:
        with part.open("wb") as stream:
            np.save(stream, array)

    _whole(path, write)


def load(path: Path) -> NDArray[Any]:
    """Map an array into memory."""
    array = np.load(path, mmap_mode="r")
    return np.asarray(array) if array.size == 0 else array


def _whole(path: Path, write: Callable[[Path], Any]) -> None:
    part = path.with_name(f".{path.name}.{secrets.token_hex(6)}")
    try:
        write(part)
        part.replace(path)
    except OSError as error:
        raise DataError(f"{path}: cannot be written: {error.strerror}. Is the disk full?") from error
    finally:
        part.unlink(missing_ok=True)
