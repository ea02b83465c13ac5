"""Writing surfaces, contours, lines and grids in the format that an extension names."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.analysis.terrain.gridding import gridded
from evrin.base.errors import DataError
from evrin.base.written_files import declare_output
from evrin.formats.door.format_registry import check_packages, formats
from evrin.surface.grid import Grid
from evrin.surface.surface import SourceLine, Surface

Method = Literal["linear", "natural"]


def writers(kind: str) -> dict[str, Callable[..., None]]:
    """Return the writers of surfaces, parts of them, contours, lines or grids, by extension."""
    return {
        extension: writer
        for entry in formats().values()
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
    able = writers("contours") if contours else writers("surface") | writers("grid")
    if suffix not in able:
        what = "contours" if contours else "surface"
        raise DataError(
            f"{target}: no {what} format is known by {suffix or 'no extension'!r}; {', '.join(sorted(able))}"
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
        raise DataError(f"{target}: no folder {target.parent}")
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
        The file.
    thing : Surface, Contours or Grid
        What to write.
    cell : float, optional
        Cell size, where a surface is written as a grid.
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

    Examples
    --------
    >>> import tempfile
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> evrin.write(tempfile.mkdtemp() + "/field.dxf", field)
    """
    target = Path(path)
    has_cells = isinstance(thing, Grid)
    check_writable(target, isinstance(thing, Contours), thing.step_east if has_cells else cell, parts)  # type: ignore[union-attr]
    suffix = target.suffix.lower()
    if isinstance(thing, Surface) and cell is not None and suffix not in writers("surface"):
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

    Parameters
    ----------
    path : str | os.PathLike[str]
        The file.
    lines : Sequence[SourceLine]
        What to write.
    units : str
        Unit of the coordinates.
    crs : str
        Reference system of the coordinates.

    Raises
    ------
    DataError
        For an extension that is not known, a folder that cannot be written to, or a line without heights.
    MissingPackageError
        Where the format needs a package that is not installed.

    Examples
    --------
    >>> import tempfile
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.making import as_lines, outline
    >>> evrin.write_lines(tempfile.mkdtemp() + "/edge.csv", as_lines(outline(field), "edge"))
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
    target, able = Path(path), writers("lines")
    if target.suffix.lower() not in able:
        raise DataError(f"{target}: lines are written as {', '.join(sorted(able))}")
    check_packages(target.suffix.lower(), "lines")
    check_folder(target)
