"""Which module reads and writes what: by content first, by extension second."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path

from evrin.analysis import Contours
from evrin.errors import DataError
from evrin.formats import geojson, landxml, table, text
from evrin.formats.files import read_bytes
from evrin.surface import Surface
from evrin.survey.things import Lines, Points

SURFACE_WRITERS: dict[str, Callable[[Path, Surface], None]] = {".xml": landxml.write}
SURFACE_READERS: dict[str, Callable[[Path], Surface]] = {".xml": landxml.read}
CONTOUR_WRITERS: dict[str, Callable[[Path, Contours], None]] = {
    ".csv": table.write_contours,
    ".geojson": geojson.write_contours,
}


def _known(extensions: Mapping[str, object]) -> str:
    return ", ".join(sorted(extensions))


def check_writable(path: str | os.PathLike[str], contours: bool = False) -> None:
    """Refuse an output nobody can write before any work is done.

    Raises
    ------
    DataError
        For an extension that is not known, or a folder that is not there.
    """
    target = Path(path)
    writers = CONTOUR_WRITERS if contours else SURFACE_WRITERS
    if target.suffix.lower() not in writers:
        what = "contours" if contours else "surface"
        raise DataError(
            f"{target}: no {what} format is known by {target.suffix or 'no extension'!r}; {_known(writers)}"
        )
    check_folder(target)


def check_folder(target: Path) -> None:
    """Refuse an output whose folder is not there or cannot be written to."""
    if not target.parent.is_dir():
        raise DataError(f"{target}: there is no folder {target.parent}")
    if not os.access(target.parent, os.W_OK):
        raise DataError(f"{target}: the folder {target.parent} cannot be written to")
    if target.is_dir():
        raise DataError(f"{target}: this is a folder")


def write(path: str | os.PathLike[str], thing: Surface | Contours) -> None:
    """Write a surface or contours in the format that the extension names.

    The file appears whole or not at all; one that exists is replaced.

    Raises
    ------
    DataError
        For an extension that is not known, or a folder that cannot be written to.
    """
    target = Path(path)
    check_writable(target, contours=isinstance(thing, Contours))
    if isinstance(thing, Contours):
        CONTOUR_WRITERS[target.suffix.lower()](target, thing)
    else:
        SURFACE_WRITERS[target.suffix.lower()](target, thing)


def read_surface(path: str | os.PathLike[str]) -> Surface:
    """Read a surface that someone made, triangle for triangle.

    Raises
    ------
    DataError
        Where the file is missing, broken, or of no known format.
    """
    source = Path(path)
    head = read_bytes(source)[:512].lstrip()
    if head.startswith((b"<?xml", b"<LandXML", b"\xef\xbb\xbf<")):
        return landxml.read(source)
    reader = SURFACE_READERS.get(source.suffix.lower())
    if reader is None:
        raise DataError(f"{source}: this is no surface file of a known format; {_known(SURFACE_READERS)}")
    return reader(source)


def read_points(path: str | os.PathLike[str], columns: str | None = None) -> Points:
    """Read points; see `evrin.formats.text.read_points`."""
    return text.read_points(Path(path), columns)


def read_lines(path: str | os.PathLike[str], columns: str | None = None, *, needs_height: bool = True) -> Lines:
    """Read lines from delimited text or GeoJSON; see `evrin.formats.text.read_lines`."""
    source = Path(path)
    if read_bytes(source).lstrip(b"\xef\xbb\xbf \r\n\t").startswith(b"{"):
        return geojson.read_lines(source)
    return text.read_lines(source, columns, needs_height=needs_height)
