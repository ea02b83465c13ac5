"""Where Evrin keeps for a user what can be made again: compiled kernels, a record of the files it wrote, a key."""

from __future__ import annotations

import contextlib
import hashlib
import json
import logging
import os
import secrets
import sys
import tempfile
from collections.abc import Callable, Iterator
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

from evrin.base.file_locks import taken

T = TypeVar("T")

_LOG = logging.getLogger("evrin")
_KEY_LENGTH = 32


@lru_cache(maxsize=1)
def kept_folder() -> Path:
    """Return a folder of this user's own that can be written to.

    It is the one that ``EVRIN_CACHE`` names, or the usual place for caches, or, with a note in the log, a folder for
    temporary files that no other user can write to.
    """
    named = os.environ.get("EVRIN_CACHE")
    usual = Path(named) if named else _usual_folder()
    if _is_ours(usual):
        return usual
    shared = Path(tempfile.gettempdir()) / f"evrin-{_user()}"
    place = shared if _is_ours(shared) else Path(tempfile.mkdtemp(prefix="evrin-"))
    _LOG.warning(
        "%s cannot be written to; compiled kernels are kept in %s. EVRIN_CACHE names another place.", usual, place
    )
    return place


@lru_cache(maxsize=1)
def own_key() -> bytes:
    """Return a secret of this user's own, with which results that are kept are signed.

    It is made at its first use, and only this user can read it.
    """
    path = kept_folder() / "key"
    for _ in range(2):
        try:
            key = path.read_bytes()
            # Others may have read one that they can read: what it signed could be theirs.
            is_secret = sys.platform == "win32" or not path.stat().st_mode & 0o077
            if len(key) == _KEY_LENGTH and is_secret and not path.is_symlink():
                return key
            path.unlink()
        except FileNotFoundError:
            pass
        except OSError:
            break
        with contextlib.suppress(OSError):
            handle, made = tempfile.mkstemp(dir=path.parent)
            with os.fdopen(handle, "wb") as stream:
                stream.write(secrets.token_bytes(_KEY_LENGTH))
            # Whoever comes first makes it: two commands that start at once then share one.
            with contextlib.suppress(FileExistsError):
                os.link(made, path)
            Path(made).unlink(missing_ok=True)
    return secrets.token_bytes(_KEY_LENGTH)


@lru_cache(maxsize=1)
def program_stamp() -> str:
    """Return what changes when a file of Evrin does: sizes and times, so that none of them has to be read."""
    root = Path(__file__).parent
    stamps = [
        f"{path.relative_to(root)} {path.stat().st_size} {path.stat().st_mtime_ns}" for path in root.rglob("*.py")
    ]
    return hashlib.sha256("\n".join([sys.version, *sorted(stamps)]).encode()).hexdigest()


def remembered(name: str, key: str, make: Callable[[], T], most: int = 1) -> T:
    """Return a plain value that was made before for the same key, or make it; the *most* last ones are kept.

    Parameters
    ----------
    name : str
        What it is, by which it is kept in the user's own folder.
    key : str
        What it depends on.
    make : callable
        Works the value out.
    most : int
        How many values are kept.
    """
    path = kept_folder() / f"{name}.json"
    try:
        entries: dict[str, T] = json.loads(path.read_text(encoding="utf-8"))
        if key in entries:
            return entries[key]
    except (OSError, ValueError, TypeError):
        entries = {}
    value = make()
    kept = dict(list(entries.items())[-(most - 1) :]) if most > 1 and isinstance(entries, dict) else {}
    with contextlib.suppress(OSError):
        handle, made = tempfile.mkstemp(dir=path.parent)
        with os.fdopen(handle, "w", encoding="utf-8") as stream:
            json.dump({**kept, key: value}, stream)
        Path(made).replace(path)
    return value


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    """Let no other command of this user's change a file meanwhile: the next one waits its turn."""
    name = hashlib.sha256(os.path.realpath(path).encode("utf-8", "surrogateescape")).hexdigest()[:32]
    place = kept_folder() / "locks" / name
    try:
        place.parent.mkdir(exist_ok=True)
        stream = place.open("ab")
    except OSError:
        yield
        return
    with stream:
        taken(stream.fileno())
        yield


def _usual_folder() -> Path:
    try:
        home = Path.home()
    except RuntimeError:
        home = Path(tempfile.gettempdir()) / f"evrin-{_user()}"
    if sys.platform == "win32":
        return Path(os.environ.get("LOCALAPPDATA") or home / "AppData" / "Local") / "evrin"
    if sys.platform == "darwin":
        return home / "Library" / "Caches" / "evrin"
    return Path(os.environ.get("XDG_CACHE_HOME") or home / ".cache") / "evrin"


def _user() -> str:
    return str(os.getuid()) if hasattr(os, "getuid") else os.environ.get("USERNAME", "user")


def _is_ours(folder: Path) -> bool:
    """Whether the folder is there, or can be made, belongs to this user, and can be written to by this user alone."""
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        status = folder.stat()
        if hasattr(os, "getuid") and (status.st_uid != os.getuid() or status.st_mode & 0o022):
            return False
        with tempfile.TemporaryFile(dir=folder):
            return True
    except OSError:
        return False
