"""Where Evrin keeps for a user what can be made again: compiled kernels, and a record of the files it wrote."""

from __future__ import annotations

import logging
import os
import sys
import tempfile
from functools import lru_cache
from pathlib import Path

_LOG = logging.getLogger("evrin")


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
        found = folder.stat()
        if hasattr(os, "getuid") and (found.st_uid != os.getuid() or found.st_mode & 0o022):
            return False
        with tempfile.TemporaryFile(dir=folder):
            return True
    except OSError:
        return False
