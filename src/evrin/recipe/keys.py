"""What the result of each stage depends on, as digests: files by content, tables by what they say, and the program."""

from __future__ import annotations

import hashlib
import json
import sys
from collections.abc import Iterable
from contextlib import suppress
from functools import cache, cached_property
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Any

import evrin
from evrin.recipe.schema import Source, Table, Tables

# Files that are read along with one: those that replace its ending, and those that follow its whole name.
_BESIDE = (".dbf", ".shx", ".prj", ".cpg", ".qpj", ".tfw", ".tifw", ".wld")
_BEHIND = (".aux.xml", ".ovr", ".msk", "-wal", "-journal", ".wld", ".prj")
_WITH_SIDE_FILES = (".shp", ".asc", ".tif", ".tiff", ".gpkg")
_PACKAGES = (
    *("numpy", "scipy", "numba", "pandas", "lxml"),
    *("ezdxf", "laspy", "lazrs", "pyogrio", "pyproj", "rasterio", "shapely", "trimesh"),
)
_CHUNK = 1 << 22


@cache
def program_digest() -> str:
    """Return the digest of the program's own text, and of the versions of what it rests on.

    What another version made is not used again.
    """
    root = Path(evrin.__file__).parent
    digest = hashlib.blake2b(digest_size=16)
    for path in sorted(root.rglob("*.py")):
        digest.update(str(path.relative_to(root)).encode())
        digest.update(path.read_bytes())
    for name in _PACKAGES:
        with suppress(PackageNotFoundError):
            digest.update(f"{name} {version(name)}\n".encode())
    digest.update(sys.version.encode())
    return digest.hexdigest()


def digest_of(*parts: Any) -> str:
    """Return the digest of plain values."""
    text = json.dumps(parts, sort_keys=True, default=str)
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()


class Keys:
    """The key of each stage of one build.

    Parameters
    ----------
    folder : Path
    tables : Tables
    """

    def __init__(self, folder: Path, tables: Tables) -> None:
        self._folder = folder
        self._tables = tables
        self._files: dict[str, str] = {}

    def file(self, name: str | None) -> str:
        """Return the digest of a file's content, with that of the files that go with it."""
        if name is None:
            return ""
        if name not in self._files:
            path = self._folder / name
            self._files[name] = digest_of(_content(path), [(each.name, _content(each)) for each in _side_files(path)])
        return self._files[name]

    def source(self, source: Source) -> str:
        """Return the key of one source, opened."""
        site = self._tables.site
        within = [table.within for table in (source.keep, source.leave_out) if table is not None]
        files = [self.file(name) for name in (source.file, source.traced_by, *within)]
        # Weeding, filling and cutting come after.
        said = _said([source], leave=("weed", "fill"))
        return digest_of(program_digest(), "open", said, files, site.units, site.crs)

    @cached_property
    def gathered(self) -> str:
        """Return the key of all rows and lines, joined and cleaned."""
        tables = self._tables
        sources = [source for source in tables.source if source.on]
        after = [[_plain(source.weed), _plain(source.fill)] for source in sources]
        codes = [_plain(tables.field_codes), self.file(tables.field_codes.file)]
        clean = [_said(part) for part in (tables.leave_out, tables.cut_line, tables.wall, tables.flat)]
        clean += [_said([each] if each is not None else []) for each in (tables.duplicates, tables.busts)]
        keys = [self.source(source) for source in sources]
        return digest_of("gather", keys, after, codes, clean, self._ring_files(tables.flat))

    @cached_property
    def triangulated(self) -> str:
        """Return the key of the mesh before anything is taken away from it."""
        tables = self._tables
        said = [
            _said([tables.crossings]),
            _said(tables.along),
            _said([tables.flat_triangles] if tables.flat_triangles else []),
        ]
        # Whether a place is refused depends on what counts as agreement.
        refuses = "refuse" in (tables.duplicates.policy, tables.crossings.policy)
        limit = tables.check.height_tolerance if refuses else None
        return digest_of("triangulate", self.gathered, said, self._ring_files(tables.along), limit)

    @cached_property
    def shaped(self) -> str:
        """Return the key of the mesh trimmed and carved."""
        tables = self._tables
        said = [_said(tables.boundary), _said([tables.trim] if tables.trim else []), _said([tables.carve])]
        return digest_of("shape", self.triangulated, said, self._ring_files(tables.boundary))

    def parts(self) -> dict[str, str]:
        """Return the digest of everything a reader can name: files, and tables by name."""
        tables = self._tables
        for row in tables.check_points:
            self.file(row.file)
        out = {f"file {name}": digest for name, digest in self._files.items()}
        for name in type(tables).model_fields:
            out[f"[{name}]"] = digest_of(_plain(getattr(tables, name)))
        return {**out, "the program": program_digest()}

    def _ring_files(self, rows: Iterable[Any]) -> list[list[str]]:
        return [[self.file(row.file), self.file(row.keep.within)] for row in rows if row.on]


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


def _content(path: Path) -> str:
    digest = hashlib.blake2b(digest_size=16)
    try:
        with path.open("rb") as stream:
            while part := stream.read(_CHUNK):
                digest.update(part)
    except OSError:
        return ""
    return digest.hexdigest()


def _said(rows: Iterable[Table], leave: tuple[str, ...] = ()) -> list[Any]:
    """What tables that are on say, but for their reasons."""
    kept = [row for row in rows if getattr(row, "on", True)]
    return [row.model_dump(mode="json", exclude={"why", "on", *leave}) for row in kept]


def _plain(value: Any) -> Any:
    if isinstance(value, Table):
        return value.model_dump(mode="json")
    if isinstance(value, (list, tuple)):
        return [_plain(item) for item in value]
    return value
