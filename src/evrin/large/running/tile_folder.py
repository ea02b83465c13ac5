"""Where the results of tiles are kept, so that a run that was stopped goes on where it was.

Each run has a folder of its own, named by what its results depend on. Every file in it is sealed: behind its content
are 32 bytes that follow from the content, from where it is, and from a key of the user's own. What was changed,
damaged or brought by somebody else is found when the next run begins, and made again. A run holds a lock on its folder
for as long as it is at work; what has no lock and bears Evrin's mark is removed when something else is worked on.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import logging
import os
import secrets
import shutil
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any, TypeVar, cast

import numpy as np
from numpy.typing import NDArray

from evrin.base.cache_folder import own_key
from evrin.base.errors import DataError
from evrin.base.file_locks import taken
from evrin.base.wording import counted

T = TypeVar("T")
MARK = "kept-by-evrin"
LOCK = "lock"
_SEAL_SIZE = 32
_CHUNK = 1 << 22
_LOG = logging.getLogger("evrin")
# Arrays that are removed once what they were needed for is there.
_FORGOTTEN = {"read": "ground", "points": "ground"}
_held: dict[Path, int] = {}
_key: list[bytes] = []
_of_thread = threading.local()


def sealing_with(key: bytes, function: Callable[..., T], *arguments: object) -> T:
    """Call a function in a worker, which may be on another machine, with the key that what it keeps is sealed with."""
    _key[:] = [key]
    return function(*arguments)


def opened_folder(folder: Path, key: str, *, fresh: bool = False) -> Path:
    """Return the folder for the results under one key, with nothing in it but what is whole and this user's own.

    Results under other keys that no run is at work on are removed.

    Raises
    ------
    DataError
        Where the folder holds what is not Evrin's, is a link, or cannot be written to; where another run is at work on
        what would have to be made again.
    """
    try:
        if folder.exists() and not (folder / MARK).exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise DataError(f"{folder}: it holds something else. Choose another folder, or move that away")
        folder.mkdir(parents=True, exist_ok=True)
        with (folder / MARK).open("ab") as turn:
            with suppress(OSError):
                taken(turn.fileno())
            return _opened(folder, folder / key, fresh=fresh)
    except OSError as error:
        raise DataError(f"{folder}: cannot be written: {error.strerror}") from error


def _opened(folder: Path, own: Path, *, fresh: bool) -> Path:
    if own in _held:
        os.close(_held.pop(own))
    for other in folder.iterdir():
        if other != own and _is_marked(other):
            _removed(other)
    if own.is_symlink() or (own.exists() and not _is_marked(own)):
        raise DataError(f"{own}: it is a link, or Evrin did not make it. Move it away, or choose another folder")
    if _is_marked(own):
        wrong = [] if fresh else _unsound(own)
        if wrong:
            _LOG.warning(
                "%s: %s damaged, changed or made by somebody else (the first is %s); all are made again",
                own,
                counted(len(wrong), "result that is kept is", "results that are kept are"),
                wrong[0],
            )
        if (fresh or wrong) and not _removed(own):
            raise DataError(f"{own}: another run is at work there. Wait until it has ended")
    own.mkdir(exist_ok=True)
    (own / MARK).touch()
    _held[own] = os.open(own / LOCK, os.O_RDWR | os.O_CREAT)
    with suppress(OSError):
        taken(_held[own], is_shared=True)
    return own


def _is_marked(folder: Path) -> bool:
    return folder.is_dir() and not folder.is_symlink() and (folder / MARK).is_file()


def _removed(folder: Path) -> bool:
    """Remove the results of a run, unless another one is at work on them; where the disk has no locks, none is seen."""
    with (folder / LOCK).open("ab") as lock:
        try:
            is_free = taken(lock.fileno(), waits=False)
        except OSError:
            is_free = True
        if is_free:
            shutil.rmtree(folder, ignore_errors=True)
    return is_free


def _unsound(own: Path) -> list[str]:
    """What is not sealed, or not there although something rests on it; parts that a kill left behind are removed."""
    files = [path for path in own.rglob("*") if path.name not in (MARK, LOCK) and not path.is_dir()]
    for path in [path for path in files if path.name.startswith(".")]:
        path.unlink()
        files.remove(path)
    with ThreadPoolExecutor() as pool:
        wrong = [path for path, good in zip(files, pool.map(_is_sealed, files), strict=True) if not good]
    wrong += [path for path in own.rglob("*") if path.is_symlink()]
    return [str(path.relative_to(own)) for path in wrong] or list(_missing(own, {str(path) for path in files}))


def _missing(own: Path, files: set[str]) -> Iterator[str]:
    for path in sorted(files):
        if path.endswith(".json"):
            for name in json.loads(_content(Path(path)))["arrays"]:
                needed_for = own / _FORGOTTEN.get(name.split("/")[0], "-") / "all.json"
                if str(own / name) not in files and str(needed_for) not in files:
                    yield name


def once(path: Path, make: Callable[[], T]) -> T:
    """Return what is kept in a file, or work it out and keep it: whatever *make* writes is there when the file is.

    Parameters
    ----------
    path : Path
        Ends in ``.json``.
    make : callable
        Returns what JSON can hold.
    """
    if path.exists():
        value: T = kept(path)
        return value
    path.parent.mkdir(parents=True, exist_ok=True)
    before, _of_thread.saved = getattr(_of_thread, "saved", []), []
    try:
        value = make()
        text = json.dumps({"value": value, "arrays": sorted(_of_thread.saved)})
    finally:
        _of_thread.saved = before
    _whole(path, lambda part: part.write_text(text, encoding="utf-8"))
    return value


def once_as(path: Path, kind: Callable[..., T], make: Callable[[], T]) -> T:
    """Return a named tuple of plain values that is kept in a file, or make it and keep it.

    Parameters
    ----------
    path : Path
        Ends in ``.json``.
    kind : callable
        The class of the tuple.
    make : callable
        Returns one.
    """
    return kind(*cast("Iterable[object]", once(path, make)))


def kept(path: Path) -> Any:
    """Return the value that `once` kept in a file.

    Raises
    ------
    DataError
        Where it is not there or not whole.
    """
    with _in_words(path):
        return json.loads(_content(path))["value"]


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
    getattr(_of_thread, "saved", []).append(f"{path.parent.name}/{path.name}")


def load(path: Path) -> NDArray[Any]:
    """Map an array into memory.

    Raises
    ------
    DataError
        Where it is not there or not whole.
    """
    with _in_words(path):
        array = np.load(path, mmap_mode="r")
        return np.asarray(array) if array.size == 0 else array


@contextmanager
def _in_words(path: Path) -> Iterator[None]:
    try:
        yield
    except (OSError, ValueError, KeyError, TypeError, EOFError) as error:
        raise DataError(f"{path}: this result is missing or damaged ({error}). Run it again with --fresh") from error


def _whole(path: Path, write: Callable[[Path], object]) -> None:
    part = path.with_name(f".{path.name}.{secrets.token_hex(6)}")
    try:
        write(part)
        with part.open("r+b") as stream:
            seal = _seal(path, stream, part.stat().st_size)
            stream.write(seal)
        part.replace(path)
    except OSError as error:
        raise DataError(f"{path}: cannot be written: {error.strerror}. Is the disk full?") from error
    finally:
        part.unlink(missing_ok=True)


def _seal(path: Path, stream: IO[bytes], size: int) -> bytes:
    """What follows from the first bytes of a file, from which run and stage it is, and from the user's key."""
    key = _key[0] if _key else own_key()
    digest = hashlib.blake2b("/".join(path.parts[-3:]).encode(), key=key, digest_size=_SEAL_SIZE)
    left = size
    while left > 0 and (chunk := stream.read(min(left, _CHUNK))):
        digest.update(chunk)
        left -= len(chunk)
    return digest.digest()


def _is_sealed(path: Path) -> bool:
    try:
        with path.open("rb") as stream:
            size = path.stat().st_size - _SEAL_SIZE
            return size >= 0 and hmac.compare_digest(_seal(path, stream, size), stream.read())
    except OSError:
        return False


def _content(path: Path) -> bytes:
    return path.read_bytes()[:-_SEAL_SIZE]
