"""Which module reads and writes what: by content first, by extension second."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from types import ModuleType
from typing import Any, Literal, Protocol

import numpy as np

from evrin.analysis import Contours
from evrin.errors import DataError, EvrinError, MissingPackageError
from evrin.formats.files import head_of
from evrin.formats.outputs import declare_output
from evrin.surface import Grid, SourceLine, Surface
from evrin.survey.things import Contents, Line, Points, Refusal

Method = Literal["linear", "natural"]


@dataclass(frozen=True)
class How:
    """How to read a file.

    Attributes
    ----------
    columns : str, optional
        Of delimited text: a letter a column; see `evrin.formats.text.read`.
    as_lines : bool
        Whether rows of text are vertices of lines.
    needs_height : bool
        Whether a row of text without a height is refused.
    guess : bool
        Whether the columns of text may be guessed where nobody names them. A build never guesses.
    chord : float
        How far a drawing's curve may stray from the chords it is read as.
    """

    columns: str | None = None
    as_lines: bool = False
    needs_height: bool = True
    guess: bool = False
    chord: float = 0.01


class Reader(Protocol):
    """Reads a whole file."""

    def __call__(self, path: Path, how: How) -> Contents:
        """Read *path* as *how* says."""
        ...


@dataclass(frozen=True, eq=False)
class Cloud:
    """A cloud whose points come a part at a time, each part with what it refuses.

    Attributes
    ----------
    parts : iterator of Points
    units, crs, hinted_units : str
    refused : tuple of Refusal
        What belongs to no part.
    notes : tuple of str
        As in `Contents`.
    """

    parts: Iterator[Points]
    units: str = ""
    crs: str = ""
    hinted_units: str = ""
    refused: tuple[Refusal, ...] = ()
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Format:
    """A file format, and what can be done with it.

    Attributes
    ----------
    name : str
    extensions : tuple of str
    is_it : callable
        Tells from the first bytes of a file, and its size, whether it is of this format.
    read, write_surface, write_parts, write_contours, write_lines, write_grid, cloud
        None where the format has no place for that. *write_parts* writes chosen parts of a surface, *cloud* opens
        points that can be read a part at a time.
    packages : tuple of str
        What has to be installed to write it.
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


FORMATS: dict[str, Format] = {}


def register(entry: Format) -> None:
    """Add a format; its name and extensions must be new."""
    taken = {extension for other in FORMATS.values() for extension in other.extensions}
    if entry.name in FORMATS or taken & set(entry.extensions):
        raise ValueError(f"format {entry.name!r} is registered already, or one of its extensions is")
    FORMATS[entry.name] = entry


def package(name: str) -> ModuleType:
    """Load a package that only some formats need.

    Raises
    ------
    MissingPackageError
        Where it is not installed, with the way to install it.
    """
    # What packages log of broken files is told in our own errors; it need not reach the terminal as well.
    log = logging.getLogger(name.partition(".")[0])
    if not log.handlers:
        log.addHandler(logging.NullHandler())
    try:
        return import_module(name)
    except ImportError as error:
        raise _missing(name) from error


def _missing(name: str) -> MissingPackageError:
    return MissingPackageError(
        f"reading or writing this needs the package {name.partition('.')[0]}; install all that formats need with: "
        "pip install 'evrin[formats]'"
    )


def check_packages(suffix: str, writes: str) -> None:
    """Refuse an extension whose format needs a package that is not there, before any work is done.

    Raises
    ------
    MissingPackageError
    """
    for entry in FORMATS.values():
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
        Where there is no such file, it is empty, packed, or of no known format.
    """
    head, size = head_of(path)
    for entry in FORMATS.values():
        if entry.is_it(head, size):
            return entry
    if head.startswith((b"PK\x03\x04", b"\x1f\x8b", b"7z\xbc\xaf", b"BZh", b"\xfd7zXZ")):
        raise DataError(f"{path}: this is a packed file; unpack it first")
    suffix = path.suffix.lower()
    named = next((entry for entry in FORMATS.values() if suffix in entry.extensions), None)
    if named is not None and named.name not in ("delimited text", "OBJ"):
        raise DataError(f"{path}: its name says {named.name}, but its content does not begin like one")
    if named is None or b"\x00" in head:
        raise DataError(f"{path}: this is no file of a known format; known are {known_formats()}")
    return named


def known_formats() -> str:
    """Name the formats that can be read, with their extensions."""
    return ", ".join(f"{entry.name} ({' '.join(entry.extensions)})" for entry in FORMATS.values() if entry.read)


def read(path: str | os.PathLike[str], how: How | None = None) -> Contents:
    """Read all that a file holds, whatever its format.

    Parameters
    ----------
    path : path
    how : How, optional

    Returns
    -------
    Contents

    Raises
    ------
    DataError
        Where the file is missing, empty, broken, or of no known format.
    MissingPackageError
        Where its format needs a package that is not installed.
    """
    source = Path(path)
    entry = format_of(source)
    if entry.read is None:
        raise DataError(f"{source}: {entry.name} can be written but not read")
    contents: Contents = guarded(source, entry.name, partial(entry.read, source, how or How()))
    return contents


def read_rings(path: str | os.PathLike[str], columns: str | None = None) -> tuple[Line, ...]:
    """Read the lines of a file as outlines, whose heights count for nothing.

    Raises
    ------
    DataError
        Where a row of the file cannot be read: a ring with a vertex missing would cut elsewhere.
    """
    contents = read(path, How(columns, as_lines=True, needs_height=False))
    if contents.refused:
        first = contents.refused[0]
        raise DataError(f"{first.where}: {first.reason}; a boundary with a vertex missing would cut elsewhere")
    if not contents.lines:
        raise DataError(f"{path}: there is no line and no polygon in it")
    return contents.lines


def look(path: str | os.PathLike[str], columns: str | None = None) -> Contents:
    """Read all that a file holds in order to look at it: what nobody says of a text's columns is guessed, and noted.

    Raises
    ------
    DataError, MissingPackageError
        As `read` does.
    """
    source = Path(path)
    if format_of(source).name != "delimited text":
        return read(source)
    try:
        points = read(source, How(columns, guess=columns is None))
    except DataError:
        if columns is not None and "L" not in columns.upper():
            raise
        return read(source, How(columns, as_lines=True, needs_height=False))
    if "name" not in points.points.columns:
        return points
    return read(source, How(columns, as_lines=True, needs_height=False))


def guarded(path: Path, name: str, act: Callable[[], Any]) -> Any:
    """Run a reader; what a package says of a broken file becomes a clear error."""
    try:
        return act()
    except EvrinError as error:
        if isinstance(error, DataError) and path.name not in str(error):
            raise DataError(f"{path}: {error}") from error
        raise
    except MemoryError as error:
        raise DataError(f"{path}: there is not enough memory for what this {name} file claims to hold") from error
    except BaseException as error:
        # A package in Rust that gives up raises something that is no Exception.
        if not isinstance(error, Exception) and type(error).__name__ != "PanicException":
            raise
        told = " ".join(str(error).split())[:200] or type(error).__name__
        raise DataError(f"{path}: this {name} file is broken or cut short: {told}") from error


def open_cloud(path: str | os.PathLike[str], how: How | None = None) -> Cloud:
    """Open the points of a file, to be read a part at a time where its format allows, in one otherwise.

    Raises
    ------
    DataError, MissingPackageError
        As `read` does.
    """
    source = Path(path)
    entry = format_of(source)
    if entry.cloud is None:
        whole = read(source, how)
        points = replace(whole.points, refused=(), notes=())
        return Cloud(iter([points]), whole.units, whole.crs, whole.hinted_units, whole.refused, whole.notes)
    cloud: Cloud = guarded(source, entry.name, partial(entry.cloud, source))
    return replace(cloud, parts=_guarded_parts(source, entry.name, cloud.parts))


def _guarded_parts(path: Path, name: str, parts: Iterator[Points]) -> Iterator[Points]:
    while (part := guarded(path, name, partial(next, parts, None))) is not None:
        yield part


def read_surface(path: str | os.PathLike[str], name: str = "") -> Surface:
    """Read a surface that someone made, triangle for triangle.

    Parameters
    ----------
    path : path
    name : str
        Which, where the file holds several: its name, or in a drawing its layer.

    Raises
    ------
    DataError
        Where the file is missing, broken, of no known format, or holds no surface or several.
    """
    return the_surface(read(path, How(guess=True)), name)


def the_surface(contents: Contents, name: str = "") -> Surface:
    """Return the one surface of a file, or the one of that name; a grid counts as one."""
    surfaces = [*contents.surfaces, *(grid.surface() for grid in contents.grids)]
    if not surfaces:
        raise DataError(f"{contents.file}: there is no surface in it ({contents.form})")
    names = [surface.name for surface in surfaces]
    if name:
        surfaces = [surface for surface in surfaces if surface.name == name]
    if len(surfaces) != 1:
        asked = f"named {name!r}" if name else "alone"
        raise DataError(f"{contents.file}: no surface stands {asked}; say which by name: {', '.join(names)}")
    return surfaces[0]


def writers(kind: str) -> dict[str, Callable[..., None]]:
    """Return the writers of surfaces, parts of them, contours, lines or grids, by extension."""
    return {
        extension: writer
        for entry in FORMATS.values()
        if (writer := getattr(entry, f"write_{kind}")) is not None
        for extension in entry.extensions
    }


def check_writable(
    path: str | os.PathLike[str], contours: bool = False, cell: float | None = None, parts: Sequence[str] = ()
) -> None:
    """Refuse an output nobody can write before any work is done.

    Raises
    ------
    DataError
        For an extension that is not known, a folder that is not there, a grid without a cell size, or parts that the
        format does not have.
    """
    target = Path(path)
    suffix = target.suffix.lower()
    known = writers("contours") if contours else writers("surface") | writers("grid")
    if suffix not in known:
        what = "contours" if contours else "surface"
        raise DataError(
            f"{target}: no {what} format is known by {suffix or 'no extension'!r}; {', '.join(sorted(known))}"
        )
    if not contours and suffix not in writers("surface") and cell is None:
        raise DataError(f"{target}: a grid needs a cell size; give cell")
    check_packages(suffix, "contours" if contours else "surface" if suffix in writers("surface") else "grid")
    if parts and suffix not in writers("parts"):
        raise DataError(f"{target}: parts of a surface can be chosen for {', '.join(writers('parts'))} only")
    check_folder(target)


def check_folder(target: Path) -> None:
    """Refuse an output whose folder is not there or cannot be written to, or which may not be written over."""
    if not target.parent.is_dir():
        raise DataError(f"{target}: there is no folder {target.parent}")
    if not os.access(target.parent, os.W_OK):
        raise DataError(f"{target}: the folder {target.parent} cannot be written to")
    if target.is_dir():
        raise DataError(f"{target}: this is a folder")
    declare_output(target)


def write(
    path: str | os.PathLike[str],
    thing: Surface | Contours | Grid,
    *,
    cell: float | None = None,
    method: Method = "linear",
    parts: Sequence[str] = (),
) -> None:
    """Write a surface, contours or a grid in the format that the extension names.

    The file appears whole or not at all; one that exists is replaced.

    Parameters
    ----------
    path : path
    thing : Surface, Contours or Grid
    cell : float, optional
        Cell size, where a surface goes into a grid.
    method : {"linear", "natural"}
        How a grid takes its heights: off the triangles, or by natural neighbours.
    parts : sequence of str
        Of a drawing: any of ``faces``, ``edges``, ``points``, ``lines``; faces and lines if not given.

    Raises
    ------
    DataError
        For an extension that is not known, a folder that cannot be written to, or a grid without a cell size.
    MissingPackageError
        Where the format needs a package that is not installed.
    """
    target = Path(path)
    has_cells = isinstance(thing, Grid)
    check_writable(target, isinstance(thing, Contours), thing.step_east if has_cells else cell, parts)  # type: ignore[union-attr]
    suffix = target.suffix.lower()
    if isinstance(thing, Surface) and cell is not None and suffix not in writers("surface"):
        from evrin.analysis.gridding import gridded

        thing = gridded(thing, cell, method)
    kind = "contours" if isinstance(thing, Contours) else "grid" if isinstance(thing, Grid) else "surface"
    if suffix not in writers(kind):
        raise DataError(f"{target}: a {kind} cannot be written as {suffix}; {', '.join(sorted(writers(kind)))}")
    if parts:
        writers("parts")[suffix](target, thing, parts)
    else:
        writers(kind)[suffix](target, thing)


def write_lines(
    path: str | os.PathLike[str], lines: Sequence[SourceLine], *, units: str = "m", crs: str = "local"
) -> None:
    """Write named 3-D lines in the format that the extension names; the file appears whole or not at all.

    Raises
    ------
    DataError
        For an extension that is not known, a folder that cannot be written to, or a line without heights.
    MissingPackageError
        Where the format needs a package that is not installed.
    """
    target = Path(path)
    check_lines_writable(target)
    for line in lines:
        if not np.isfinite(line.points).all():
            raise DataError(f"line {line.name} has vertices without heights; lay it on a surface first")
    writers("lines")[target.suffix.lower()](target, lines, units, crs)


def check_lines_writable(path: str | os.PathLike[str]) -> None:
    """Refuse an output that lines cannot be written to before any work is done.

    Raises
    ------
    DataError
        For an extension that is not known, or a folder that is not there.
    """
    target, known = Path(path), writers("lines")
    if target.suffix.lower() not in known:
        raise DataError(f"{target}: lines are written as {', '.join(sorted(known))}")
    check_packages(target.suffix.lower(), "lines")
    check_folder(target)


def begins_with(*starts: bytes) -> Callable[[bytes, int], bool]:
    """Return a test for files that begin with one of these, after blanks and a byte-order mark."""
    return lambda head, _: head.removeprefix(b"\xef\xbb\xbf").lstrip().startswith(starts)
