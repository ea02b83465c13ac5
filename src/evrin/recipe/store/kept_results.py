"""Results of stages kept between builds: open array files in a folder that may be deleted at any time.

An entry is a folder named by the digest of all that its result depends on. It is written beside and then renamed, so
that it is there whole or not at all, whether two builds run at once or one is killed in the middle. It is signed with
a key of this user's own, and so are records of what was built and of the files: what came with a folder from somebody
else, or was written to since, is not used. Nothing is ever removed but what bears Evrin's mark.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import json
import logging
import os
import re
import shutil
import tempfile
import time
from pathlib import Path
from typing import Protocol, TypeGuard, TypeVar

from evrin.base.cache_folder import own_key
from evrin.base.errors import DataError
from evrin.base.files import whole_text_file
from evrin.recipe.store.digests import Stamped, stamp_of
from evrin.recipe.store.plain import Freezing, Thawing

FOLDER = ".evrin-cache"
_README = """\
Results that Evrin keeps so that the next build is quick. The folder can be deleted at any time; nothing is lost but
time. Each entry is named by the digest of all that it was made from, holds JSON and NumPy arrays (.npy), and is signed
with a key of the user who made it, so that other users do not use it.
"""
_MARK = "kept-by-evrin"
_VALUES = "values.json"
_ENTRY = re.compile(r"[0-9a-f]{32}|part-[a-z0-9_]+")
_RECORD = re.compile(r"(last|written|figures|changes|volumes|files)-.*\.json")
_KEPT_DAYS = 14
_KEPT_BYTES = 4 * 2**30
_MOST_CHANGES, _MOST_TEXT = 50, 5_000_000
_LOG = logging.getLogger("evrin")
# Figures by kind, by the name of what they are of, by their own name.
Figures = dict[str, dict[str, dict[str, float]]]


T = TypeVar("T")


class Store(Protocol):
    """Somewhere to keep results by key."""

    def load(self, key: str, kind: type[T]) -> T | None:
        """Return the result of a class that was kept under a key, or None."""

    def save(self, key: str, value: object) -> None:
        """Keep a result under a key."""

    def stamped(self) -> Stamped:
        """Return the digests on record of files, by name."""

    def remember_stamped(self, files: Stamped) -> None:
        """Put digests of files on record."""


class NoStore:
    """Keeps nothing."""

    def load(self, key: str, kind: type[T]) -> T | None:
        """Return None."""

    def save(self, key: str, value: object) -> None:
        """Do nothing."""

    def stamped(self) -> Stamped:
        """Return nothing."""
        return {}

    def remember_stamped(self, files: Stamped) -> None:
        """Do nothing."""


class FolderStore:
    """Keeps results in a folder.

    Parameters
    ----------
    folder : Path
        Made at the first result; where it cannot be made or written to, nothing is kept and nothing fails.
    fresh : bool
        Find nothing, so that everything is built again.

    Notes
    -----
    Where the folder is a link, or holds other things than results, nothing is kept either, and the log reports it.
    """

    def __init__(self, folder: Path, *, fresh: bool = False) -> None:
        self.folder = folder
        self.fresh = fresh
        self._is_usable = not folder.is_symlink() and not _is_someone_elses(folder)
        if not self._is_usable:
            _LOG.warning("%s is a link, or holds other things than results; nothing is kept there", folder)

    def load(self, key: str, kind: type[T]) -> T | None:
        """Return what was kept under a key; None where there is nothing, nothing whole, or nothing of this user's.

        What is kept there and is of another class counts as nothing.
        """
        entry = self.folder / key
        if self.fresh or not self._is_usable:
            return None
        try:
            if not hmac.compare_digest((entry / _MARK).read_bytes(), _signature(entry, key)):
                return None
            stored = json.loads((entry / _VALUES).read_text(encoding="utf-8"))
            value = Thawing(entry).value(stored)
            os.utime(entry)
        except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError, AttributeError, RecursionError):
            return None
        return value if isinstance(value, kind) else None

    def save(self, key: str, value: object) -> None:
        """Keep a result under a key, in place of whatever was there."""
        if not self._is_usable:
            return
        try:
            self._make()
            beside = Path(tempfile.mkdtemp(prefix="part-", dir=self.folder))
        except OSError:
            return
        try:
            (beside / _MARK).touch()
            freezing = Freezing()
            stored = freezing.value(value)
            freezing.write(beside)
            (beside / _VALUES).write_text(json.dumps(stored, separators=(",", ":")), encoding="utf-8")
            (beside / _MARK).write_bytes(_signature(beside, key))
            self._put(beside, self.folder / key)
        except OSError:
            pass
        finally:
            shutil.rmtree(beside, ignore_errors=True)

    def _make(self) -> None:
        self.folder.mkdir(exist_ok=True)
        for name, text in (("README.txt", _README), (".gitignore", "*\n")):
            if not (self.folder / name).exists():
                (self.folder / name).write_text(text, encoding="utf-8")

    def _put(self, beside: Path, entry: Path) -> None:
        # Another build may have put the same result there, and either will do; anything else there is deleted.
        if _is_marked(entry) and (self.fresh or not self._is_signed(entry)):
            shutil.rmtree(entry, ignore_errors=True)
        with contextlib.suppress(OSError):
            beside.rename(entry)

    def _is_signed(self, entry: Path) -> bool:
        try:
            return hmac.compare_digest((entry / _MARK).read_bytes(), _signature(entry, entry.name))
        except OSError:
            return False

    def remember(self, recipe: str, parts: dict[str, str]) -> dict[str, str] | None:
        """Note what a build rests on, and return what the build before rested on, None where there was none."""
        if not self._is_usable:
            return None
        before = self.remembered(recipe)
        self._write_record(f"last-{recipe}.json", parts)
        return before

    def remembered(self, recipe: str) -> dict[str, str] | None:
        """Return what the last build rested on, None where there was none."""
        before = self._record(f"last-{recipe}.json")
        if not isinstance(before, dict) or not all(isinstance(value, str) for value in before.values()):
            return None
        return before

    def remember_figures(self, recipe: str, figures: Figures) -> Figures:
        """Note figures of a build, by kind and name of what they are of, and return those of the build before."""
        before = self._record(f"figures-{recipe}.json")
        if self._is_usable and (any(figures.values()) or before):
            self._write_record(f"figures-{recipe}.json", figures)
        return before if _are_figures(before) else {}

    def written(self, recipe: str) -> dict[str, tuple[str, str]]:
        """Return the files on record as written from a recipe: by name, digests of what they rest on and hold."""
        record = self._record(f"written-{recipe}.json")
        rows = record.items() if isinstance(record, dict) else ()
        return {name: (row[0], row[1]) for name, row in rows if isinstance(row, list) and len(row) == 2}

    def note_written(self, recipe: str, name: str, made_of: str, content: str) -> None:
        """Note that a file was written from a recipe."""
        if self._is_usable and self.folder.is_dir():
            self._write_record(f"written-{recipe}.json", {**self.written(recipe), name: (made_of, content)})

    def note_change(self, recipe: str, before: str, after: str) -> None:
        """Note the text of a recipe before a change and the digest of it after, the last fifty of them."""
        if self._is_usable and before != after:
            with contextlib.suppress(OSError):
                self._make()
                changes = [*self._changes(recipe), {"before": before, "after": _digest_of_text(after)}]
                while len(changes) > _MOST_CHANGES or sum(len(each["before"]) for each in changes) > _MOST_TEXT:
                    changes = changes[1:]
                self._write_record(f"changes-{recipe}.json", changes)

    def take_back(self, recipe: str, text: str) -> str | None:
        """Return the text of a recipe before its last change, which is forgotten; None where none is on record.

        Raises
        ------
        DataError
            Where the recipe is no longer as that change left it.
        """
        changes = self._changes(recipe)
        if not changes:
            return None
        if changes[-1]["after"] != _digest_of_text(text):
            raise DataError("the recipe was changed by another program since Evrin changed it; that would be lost")
        self._write_record(f"changes-{recipe}.json", changes[:-1])
        return changes[-1]["before"]

    def _changes(self, recipe: str) -> list[dict[str, str]]:
        kept = self._record(f"changes-{recipe}.json")
        changes = kept if isinstance(kept, list) else []
        return [each for each in changes if isinstance(each, dict) and {"before", "after"} <= each.keys()]

    def stamped(self) -> Stamped:
        """Return the digests on record of files, by name, each with the stamp of the file that had it."""
        record = self._record("files-known.json")
        rows = record.items() if isinstance(record, dict) and not self.fresh else ()
        return {name: (str(row[0]), str(row[1])) for name, row in rows if isinstance(row, list) and len(row) == 2}

    def remember_stamped(self, files: Stamped) -> None:
        """Put digests of files on record."""
        if self._is_usable and self.folder.is_dir():
            self._write_record("files-known.json", files)

    def _record(self, name: str) -> object:
        try:
            signed = json.loads((self.folder / name).read_text(encoding="utf-8")) if self._is_usable else {}
            is_ours = hmac.compare_digest(signed["signed"], _signature_of_record(name, signed["record"]))
        except (OSError, ValueError, RecursionError, TypeError, KeyError):
            return None
        return signed["record"] if is_ours else None

    def _write_record(self, name: str, record: object) -> None:
        signed = {"record": record, "signed": _signature_of_record(name, record)}
        with contextlib.suppress(OSError, DataError), whole_text_file(self.folder / name, guarded=False) as stream:
            json.dump(signed, stream, indent=1)

    def tidy(self) -> None:
        """Delete results that no build has used for two weeks, the oldest beyond 4 GB, and parts left by a kill."""
        if not self._is_usable:
            return
        try:
            entries = [(path.stat().st_mtime, path) for path in self.folder.iterdir() if _is_marked(path)]
        except OSError:
            return
        total, now = 0, time.time()
        for used, path in sorted(entries, reverse=True):
            days = (now - used) / 86400.0
            total += sum(file.stat().st_size for file in path.glob("*") if file.exists())
            is_part = path.name.startswith("part-")
            if total > _KEPT_BYTES or days > (1.0 if is_part else _KEPT_DAYS):
                shutil.rmtree(path, ignore_errors=True)


def _digest_of_text(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def _is_marked(entry: Path) -> bool:
    """Whether a folder is an entry of Evrin's own, made or in the making."""
    return bool(_ENTRY.fullmatch(entry.name)) and not entry.is_symlink() and (entry / _MARK).is_file()


def _is_someone_elses(folder: Path) -> bool:
    """Whether a folder holds anything that Evrin does not put into such a one."""
    try:
        names = [path.name for path in folder.iterdir()]
    except OSError:
        return False
    own = ("README.txt", ".gitignore")
    return any(
        not (
            name in own
            or name.startswith((".last-", ".written-", ".figures-", ".files-", ".changes-"))
            or _ENTRY.fullmatch(name)
            or _RECORD.fullmatch(name)
        )
        for name in names
    )


def _are_figures(record: object) -> TypeGuard[Figures]:
    return isinstance(record, dict) and all(
        isinstance(named, dict)
        and all(
            isinstance(row, dict) and all(isinstance(x, float | int) for x in row.values()) for row in named.values()
        )
        for named in record.values()
    )


def _signature_of_record(name: str, record: object) -> str:
    text = json.dumps([name, record], sort_keys=True)
    return hmac.new(own_key(), text.encode("utf-8", "surrogatepass"), hashlib.sha256).hexdigest()


def _signature(entry: Path, key: str) -> bytes:
    """Return what an entry of this user's under a key is signed with.

    It covers the name of every file in it, its size, where it is on disk and when it was written, which no copy keeps:
    to check that takes no longer for a large entry.
    """
    signed = hmac.new(own_key(), key.encode(), hashlib.sha256)
    for path in sorted(entry.iterdir()):
        if path.name != _MARK:
            signed.update(f"\n{path.name} {stamp_of(path)}".encode())
    return signed.hexdigest().encode()
