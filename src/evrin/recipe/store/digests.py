"""What results depend on, as digests: files by content, tables by what they state, and the program itself."""

from __future__ import annotations

import hashlib
import json
import sys
import time
from collections.abc import Iterable
from contextlib import suppress
from functools import cache
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

from evrin.recipe.tables import Table, files_in
from evrin.recipe.tables.file_sets import expanded

# Files that are read along with one: those that replace its ending, and those that follow its whole name.
_BESIDE = (".dbf", ".shx", ".prj", ".cpg", ".qpj", ".tfw", ".tifw", ".wld")
_BEHIND = (".aux.xml", ".ovr", ".msk", "-wal", "-journal", ".wld", ".prj")
_WITH_SIDE_FILES = (".shp", ".asc", ".tif", ".tiff", ".gpkg")
_PACKAGES = (
    *("numpy", "scipy", "numba", "pandas", "lxml"),
    *("ezdxf", "laspy", "lazrs", "pyogrio", "pyproj", "rasterio", "shapely", "trimesh"),
)
_CHUNK = 1 << 22
_TICK = 2_000_000_000
Stamped = dict[str, tuple[str, str]]


@cache
def program_digest() -> str:
    """Return the digest of the program's own text, and of the versions of what it rests on.

    What another version made is not used again.
    """
    root = Path(__file__).parents[2]
    digest = hashlib.blake2b(digest_size=16)
    for path in sorted(root.rglob("*.py")):
        digest.update(str(path.relative_to(root)).encode())
        digest.update(path.read_bytes())
    for name in _PACKAGES:
        with suppress(PackageNotFoundError):
            digest.update(f"{name} {version(name)}\n".encode())
    digest.update(sys.version.encode())
    return digest.hexdigest()


def digest_of(*parts: object) -> str:
    """Return the digest of plain values."""
    text = json.dumps(parts, sort_keys=True, default=str)
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()


class FileDigests:
    """Digests of the files of one recipe by content, each read once, and not again for as long as its stamp stays.

    Parameters
    ----------
    folder : Path
        Names are relative to it.
    before : dict of str to (str, str), optional
        Stamps and digests that are on record.
    """

    def __init__(self, folder: Path, before: Stamped | None = None) -> None:
        self._folder = folder
        self.known: dict[str, str] = {}
        self._before = before or {}
        self.stamped: Stamped = {}

    def of(self, name: str) -> str:
        """Return the digest of a file's content, with that of the files that go with it."""
        if name not in self.known:
            digests = [self._with_those_beside(path) for path in expanded(self._folder, name)]
            self.known[name] = digest_of(digests) if len(digests) != 1 else digest_of(*digests[0][1:])
        return self.known[name]

    def _with_those_beside(self, path: Path) -> list[object]:
        return [path.name, self._of_one(path), [(each.name, self._of_one(each)) for each in _side_files(path)]]

    def _of_one(self, path: Path) -> str:
        stamp, now = stamp_of(path), time.time_ns()
        before = self._before.get(str(path))
        digest = before[1] if before is not None and stamp and before[0] == stamp else file_digest(path)
        # What was written only just now could be written again within the same tick of the clock.
        if stamp and now - int(stamp.split()[1]) > _TICK:
            self.stamped[str(path)] = (stamp, digest)
        return digest

    def of_tables(self, rows: Iterable[Table], leave: tuple[str, ...] = ()) -> list[object]:
        """Return what tables state, without reasons and switches, and the digests of the files that they read."""
        out: list[object] = []
        for row in rows:
            files = [self.of(name) for _, name, is_on in files_in(row) if is_on]
            out.append([row.model_dump(mode="json", exclude={"why", "on", *leave}), files])
        return out


def stamps_of(folder: Path, rows: Iterable[Table]) -> list[tuple[str, str]]:
    """Return every file that tables read, with those that go with it, and its stamp: for files too large to digest."""
    named = [name for row in rows for _, name, is_on in files_in(row) if is_on]
    paths = [path for name in named for path in expanded(folder, name)]
    return [(str(each), stamp_of(each)) for path in paths for each in (path, *_side_files(path))]


def _side_files(path: Path) -> list[Path]:
    """Files beside one that are read along with it, in whatever letter case their names are."""
    if path.suffix.lower() not in _WITH_SIDE_FILES:
        return []
    stem, whole = path.stem.casefold(), path.name.casefold()
    names = {*(stem + ending for ending in _BESIDE), *(whole + ending for ending in _BEHIND), stem + ".aux.xml"}
    try:
        return sorted(each for each in path.parent.iterdir() if each.name.casefold() in names - {whole})
    except OSError:
        return []


def stamp_of(path: Path) -> str:
    """Return the size of a file, when it was written and changed, and where it is; empty where it cannot be read."""
    try:
        status = path.stat()
    except OSError:
        return ""
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}"


def file_digest(path: Path) -> str:
    """Return the digest of the content of a file; empty where it cannot be read."""
    digest = hashlib.blake2b(digest_size=16)
    try:
        with path.open("rb") as stream:
            while part := stream.read(_CHUNK):
                digest.update(part)
    except OSError:
        return ""
    return digest.hexdigest()
