"""Which module reads and writes what: by content first, by extension second."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from types import ModuleType
from typing import Any, Protocol

from evrin.analysis.contours.contour_lines import Contours
from evrin.base.discovery import load_modules
from evrin.base.errors import DataError, MissingPackageError
from evrin.base.files import head_of, in_utf8
from evrin.base.wording import counted
from evrin.surface.frame import UNSTATED, Stated
from evrin.surface.grid import Grid
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.contents import Contents, Points, Refusal

# Every format begins with more than this.
_LEAST_BYTES = 12


@dataclass(frozen=True)
class How:
    """How to read a file.

    Attributes
    ----------
    columns : str, optional
        Of delimited text: a letter a column; see `evrin.formats.text.text_rows.read`.
    as_lines : bool
        Whether rows of text are vertices of lines.
    needs_height : bool
        Whether a row of text without a height is refused.
    guess : bool
        Whether the columns of text may be guessed where nobody names them. A build never guesses.
    chord : float
        How far a curve may stray from the chords it is read as.

    Examples
    --------
    >>> from evrin.formats import How
    >>> How("PNEZD").columns
    'PNEZD'
    """

    columns: str | None = None
    as_lines: bool = False
    needs_height: bool = True
    guess: bool = False
    chord: float = 0.01


class Reader(Protocol):
    """Reads a whole file."""

    def __call__(self, path: Path, how: How) -> Contents:
        """Read *path* as *how* states."""
        ...


@dataclass(frozen=True, eq=False)
class Cloud:
    """A cloud whose points come a part at a time, each part with what it refuses.

    Attributes
    ----------
    parts : iterator of Points
        The points, a part at a time.
    stated : Stated
        What the file states of its coordinates.
    refused : tuple of Refusal
        What belongs to no part.
    notes : tuple of str
        As in `Contents`.
    """

    parts: Iterator[Points]
    stated: Stated = UNSTATED
    refused: tuple[Refusal, ...] = ()
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Format:
    """A file format, and what can be done with it.

    Attributes
    ----------
    name : str
        What messages call it.
    extensions : tuple of str
        With their dots; the first is the usual one.
    is_it : callable
        Decides from the first bytes of a file, and its size, whether it is of this format.
    read, write_surface, write_parts, write_contours, write_lines, write_grid, cloud
        None where the format has no place for that. *write_parts* writes chosen parts of a surface, *cloud* opens
        points that can be read a part at a time.
    packages : tuple of str
        What has to be installed to write it.

    Examples
    --------
    >>> from evrin.formats import FORMATS
    >>> FORMATS["LandXML"].extensions
    ('.xml', '.landxml')
    """

    name: str
    extensions: tuple[str, ...]
    is_it: Callable[[bytes, int], bool]
    read: Reader | None = None
    write_surface: Callable[[Path, Surface], None] | None = None
    write_parts: Callable[[Path, Surface, Sequence[Any]], None] | None = None
    write_contours: Callable[[Path, Contours], None] | None = None
    write_lines: Callable[[Path, Sequence[SourceLine], str, str], None] | None = None
    write_grid: Callable[[Path, Grid], None] | None = None
    cloud: Callable[[Path], Cloud] | None = None
    packages: tuple[str, ...] = ()


# The smallest extra that brings a package.
_EXTRAS = {
    "ezdxf": "drawings",
    "laspy": "clouds",
    "lazrs": "clouds",
    "pyogrio": "gis",
    "pyproj": "gis",
    "rasterio": "grids",
    "shapely": "gis",
    "trimesh": "meshes",
}
_REGISTERED: dict[str, Format] = {}


def formats() -> dict[str, Format]:
    """Return every format by name: Evrin's own by the name of the module that has it, then those that were added."""
    load_modules("evrin.formats")

    def place(entry: Format) -> tuple[bool, str]:
        module = entry.is_it.__module__
        return not module.startswith("evrin."), module.rpartition(".")[2]

    return {entry.name: entry for entry in sorted(_REGISTERED.values(), key=place)}


def __getattr__(name: str) -> object:
    if name == "FORMATS":
        return formats()
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def register(entry: Format) -> None:
    """Add a format; its name and extensions must be new.

    Parameters
    ----------
    entry : Format
        The format to add.

    Raises
    ------
    ValueError
        Where its name or one of its extensions is taken.

    Examples
    --------
    >>> from evrin.formats import FORMATS, register
    >>> try:
    ...     register(FORMATS["LandXML"])
    ... except ValueError as error:
    ...     print(error)
    format 'LandXML' is registered already, or one of its extensions is
    """
    module = entry.is_it.__module__
    others = _REGISTERED if module.startswith("evrin.") else formats()
    taken = {extension for other in others.values() for extension in other.extensions}
    if entry.name in others or taken & set(entry.extensions):
        raise ValueError(f"format {entry.name!r} is registered already, or one of its extensions is")
    _REGISTERED[entry.name] = entry


def package(name: str) -> ModuleType:
    """Load a package that only some formats need.

    Raises
    ------
    MissingPackageError
        Where it is not installed, with the way to install it.
    """
    # What packages log of broken files is in our own errors already.
    log = logging.getLogger(name.partition(".")[0])
    if not log.handlers:
        log.addHandler(logging.NullHandler())
    try:
        return import_module(name)
    except ImportError as error:
        raise _missing(name) from error


def _missing(name: str) -> MissingPackageError:
    package = name.partition(".")[0]
    return MissingPackageError(
        f"reading or writing this needs the package {package}; install it with: pip install "
        f"'evrin[{_EXTRAS.get(package, 'formats')}]', or all that formats need with: pip install 'evrin[formats]'"
    )


def check_packages(suffix: str, writes: str) -> None:
    """Refuse an extension whose format needs a package that is not there, before any work is done.

    Raises
    ------
    MissingPackageError
    """
    for entry in formats().values():
        if suffix in entry.extensions and getattr(entry, f"write_{writes}") is not None:
            for name in entry.packages:
                if not _is_installed(name):
                    raise _missing(name)


def _is_installed(name: str) -> bool:
    try:
        return find_spec(name) is not None
    except ImportError:
        return False


def format_of(path: Path) -> Format:
    """Return the format of an existing file, by content and then by extension.

    Raises
    ------
    DataError
        Where there is no such file, it is empty, compressed, or of an unrecognised format.
    """
    head, size = head_of(path)
    head = in_utf8(head)
    for entry in formats().values():
        if entry.is_it(head, size):
            return entry
    if head.startswith((b"PK\x03\x04", b"\x1f\x8b", b"7z\xbc\xaf", b"BZh", b"\xfd7zXZ")):
        raise DataError(f"{path}: compressed archive; extract it first")
    suffix = path.suffix.lower()
    named = next((entry for entry in formats().values() if suffix in entry.extensions), None)
    if named is not None and named.name not in ("delimited text", "OBJ"):
        if size < _LEAST_BYTES:
            raise DataError(f"{path}: it has {counted(size, 'byte')}, which no {named.name} has; it is cut short")
        raise DataError(f"{path}: content does not match the extension, that of {named.name}")
    if named is None or b"\x00" in head:
        raise DataError(f"{path}: unrecognised format; supported: {known_formats()}")
    return named


def known_formats() -> str:
    """Name the formats that can be read, with their extensions.

    Returns
    -------
    str

    Examples
    --------
    >>> from evrin.formats import known_formats
    >>> "DXF (.dxf)" in known_formats()
    True
    """
    return ", ".join(f"{entry.name} ({' '.join(entry.extensions)})" for entry in formats().values() if entry.read)


def begins_with(*starts: bytes) -> Callable[[bytes, int], bool]:
    """Return a test for files that begin with one of these, after blanks and a byte-order mark."""
    return lambda head, _: head.removeprefix(b"\xef\xbb\xbf").lstrip().startswith(starts)
