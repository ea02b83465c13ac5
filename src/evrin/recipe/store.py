"""Results of stages kept between builds: open array files in a folder that may be deleted at any time.

An entry is a folder named by the digest of all that its result depends on. It is written beside and then renamed, so
that it is there whole or not at all, whether two builds run at once or one is killed in the middle.
"""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import shutil
import tempfile
import time
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from evrin.errors import DataError
from evrin.formats.files import whole_text_file

FOLDER = ".evrin-cache"
_README = """\
Results that Evrin keeps so that the next build is quick. The folder can be deleted at any time; nothing is lost but
time. Each entry is named by the digest of all that it was made from, and holds JSON and NumPy arrays (.npy).
"""
_SEPARATOR = "\x1f"
_KEPT_DAYS = 14
_KEPT_BYTES = 4 * 2**30


class Store(Protocol):
    """Somewhere to keep results by key."""

    def load(self, key: str) -> Any | None:
        """Return what was kept under a key, or None."""

    def save(self, key: str, value: Any) -> None:
        """Keep a result under a key."""


class NoStore:
    """Keeps nothing."""

    def load(self, key: str) -> None:
        """Return None."""

    def save(self, key: str, value: Any) -> None:
        """Do nothing."""


class FolderStore:
    """Keeps results in a folder.

    Parameters
    ----------
    folder : Path
        Made at the first result; where it cannot be made or written to, nothing is kept and nothing fails.
    fresh : bool
        Find nothing, so that everything is made anew.
    """

    def __init__(self, folder: Path, *, fresh: bool = False) -> None:
        self.folder = folder
        self.fresh = fresh

    def load(self, key: str) -> Any | None:
        """Return what was kept under a key; None where there is nothing, or nothing whole."""
        entry = self.folder / key
        if self.fresh:
            return None
        try:
            told = json.loads((entry / "told.json").read_text(encoding="utf-8"))
            value = _Thawing(entry).value(told)
            os.utime(entry)
        except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError, AttributeError, ImportError):
            return None
        return value

    def save(self, key: str, value: Any) -> None:
        """Keep a result under a key, in place of whatever was there."""
        try:
            self.folder.mkdir(exist_ok=True)
            readme = self.folder / "README.txt"
            if not readme.exists():
                readme.write_text(_README, encoding="utf-8")
                (self.folder / ".gitignore").write_text("*\n", encoding="utf-8")
            beside = Path(tempfile.mkdtemp(prefix="part-", dir=self.folder))
        except OSError:
            return
        try:
            freezing = _Freezing()
            told = freezing.value(value)
            freezing.write(beside)
            (beside / "told.json").write_text(json.dumps(told, separators=(",", ":")), encoding="utf-8")
            self._put(beside, self.folder / key)
        except OSError:
            pass
        finally:
            shutil.rmtree(beside, ignore_errors=True)

    def _put(self, beside: Path, entry: Path) -> None:
        if self.fresh:
            shutil.rmtree(entry, ignore_errors=True)
        # Another build may have put the same result there; either will do.
        with contextlib.suppress(OSError):
            beside.rename(entry)

    def remember(self, recipe: str, parts: dict[str, str]) -> dict[str, str] | None:
        """Note what a build rests on, and return what the build before rested on, None where there was none."""
        path = self.folder / f"last-{recipe}.json"
        try:
            before = json.loads(path.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            before = None
        with contextlib.suppress(OSError, DataError), whole_text_file(path, guarded=False) as stream:
            json.dump(parts, stream, indent=1)
        return before if isinstance(before, dict) else None

    def tidy(self) -> None:
        """Delete results that no build has used for two weeks, the oldest beyond 4 GB, and parts left by a kill."""
        try:
            entries = [(path.stat().st_mtime, path) for path in self.folder.iterdir() if path.is_dir()]
        except OSError:
            return
        total, now = 0, time.time()
        for used, path in sorted(entries, reverse=True):
            days = (now - used) / 86400.0
            total += sum(file.stat().st_size for file in path.glob("*") if file.exists())
            is_part = path.name.startswith("part-")
            if total > _KEPT_BYTES or days > (1.0 if is_part else _KEPT_DAYS):
                shutil.rmtree(path, ignore_errors=True)


class _Freezing:
    """Turns values into plain JSON, and their arrays into one array a kind."""

    def __init__(self) -> None:
        self._arrays: dict[str, list[NDArray[Any]]] = {}
        self._sizes: dict[str, int] = {}

    def value(self, value: Any) -> Any:
        if value is None or isinstance(value, (bool, int, float, str)):
            return value.item() if isinstance(value, np.generic) else value
        if isinstance(value, np.generic):
            return value.item()
        if isinstance(value, np.ndarray):
            return self._array(value)
        if isinstance(value, Path):
            return {"path": str(value)}
        if isinstance(value, tuple) and hasattr(value, "_fields"):
            return {"of": _name_of(type(value)), "items": [self.value(item) for item in value]}
        if isinstance(value, (list, tuple, set)):
            kind = type(value).__name__
            return {kind: [self.value(item) for item in value]}
        if isinstance(value, dict):
            return {"dict": [[self.value(key), self.value(inner)] for key, inner in value.items()]}
        cached = {
            name for kind in type(value).__mro__ for name, v in vars(kind).items() if isinstance(v, cached_property)
        }
        fields = {name: self.value(inner) for name, inner in vars(value).items() if name not in cached}
        return {"of": _name_of(type(value)), "fields": fields}

    def _array(self, array: NDArray[Any]) -> Any:
        if array.dtype != object:
            return {"array": self._append(array.dtype.str, array.ravel()), "shape": list(array.shape)}
        if array.size and array.strides == (0,):
            return {"repeated": self.value(array[0]), "count": len(array)}
        items = array.tolist()
        try:
            text = _SEPARATOR.join(items)
        except TypeError:
            return {"objects": [self.value(item) for item in items]}
        if text.count(_SEPARATOR) != max(len(items) - 1, 0):
            return {"objects": [self.value(item) for item in items]}
        blob = np.frombuffer(text.encode("utf-8", "surrogatepass"), np.uint8)
        return {"texts": self._append("|u1", blob), "count": len(items)}

    def _append(self, kind: str, flat: NDArray[Any]) -> list[Any]:
        start = self._sizes.get(kind, 0)
        self._arrays.setdefault(kind, []).append(flat)
        self._sizes[kind] = start + len(flat)
        return [kind, start, len(flat)]

    def write(self, folder: Path) -> None:
        for kind, parts in self._arrays.items():
            np.save(folder / f"{_file_of(kind)}.npy", np.concatenate(parts))


class _Thawing:
    """Turns what `_Freezing` wrote back into values."""

    def __init__(self, entry: Path) -> None:
        self._entry = entry
        self._loaded: dict[str, NDArray[Any]] = {}

    def value(self, told: Any) -> Any:
        if not isinstance(told, dict):
            return told
        if "array" in told:
            return self._slice(told["array"]).reshape(told["shape"])
        if "repeated" in told:
            return np.broadcast_to(np.array(self.value(told["repeated"]), object), told["count"])
        if "texts" in told:
            return self._texts(told)
        if "objects" in told:
            out = np.empty(len(told["objects"]), object)
            out[:] = [self.value(item) for item in told["objects"]]
            return out
        if "path" in told:
            return Path(told["path"])
        if "dict" in told:
            return {self.value(key): self.value(inner) for key, inner in told["dict"]}
        for kind in (list, tuple, set):
            if kind.__name__ in told:
                return kind(self.value(item) for item in told[kind.__name__])
        return self._object(told)

    def _object(self, told: dict[str, Any]) -> Any:
        module, _, name = told["of"].partition(":")
        if module.partition(".")[0] != "evrin":
            raise ValueError(f"{module} is not Evrin's")
        kind = getattr(importlib.import_module(module), name)
        if "items" in told:
            return kind(*(self.value(item) for item in told["items"]))
        out = kind.__new__(kind)
        vars(out).update({key: self.value(inner) for key, inner in told["fields"].items()})
        return out

    def _texts(self, told: dict[str, Any]) -> NDArray[np.object_]:
        out = np.empty(told["count"], object)
        if told["count"]:
            text = self._slice(told["texts"]).tobytes().decode("utf-8", "surrogatepass")
            out[:] = text.split(_SEPARATOR)
        return out

    def _slice(self, where: list[Any]) -> NDArray[Any]:
        kind, start, count = where
        if kind not in self._loaded:
            self._loaded[kind] = np.load(self._entry / f"{_file_of(kind)}.npy", allow_pickle=False)
        if start + count > len(self._loaded[kind]):
            raise ValueError("the entry is cut short")
        return self._loaded[kind][start : start + count]


def _name_of(kind: type) -> str:
    return f"{kind.__module__}:{kind.__qualname__}"


def _file_of(kind: str) -> str:
    return kind.replace("<", "little-").replace(">", "big-").replace("|", "")
