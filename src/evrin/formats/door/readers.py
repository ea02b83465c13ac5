"""Reading a file of any format: whole, to look at it, or as a cloud a part at a time."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TypeVar

from evrin.base.errors import DataError, EvrinError
from evrin.formats.door.claims import Claim
from evrin.formats.door.format_registry import Cloud, How, format_of
from evrin.survey.contents import Contents, Points

T = TypeVar("T")

_OWN_ROOT = Path(__file__).parent.parent


def read(path: str | os.PathLike[str], how: How | None = None) -> Contents:
    """Read all that a file holds, whatever its format.

    Parameters
    ----------
    path : path
        The file.
    how : How, optional
        How the file is to be read, if not in the usual way.

    Returns
    -------
    Contents

    Raises
    ------
    DataError
        Where the file is missing, empty, broken, or of an unrecognised format.
    MissingPackageError
        Where its format needs a package that is not installed.

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.formats import How, read
    >>> read(small_site().with_name("shots.csv"), How("PNEZD")).points.xyz[0].tolist()
    [0.0, 0.0, 40.0]
    """
    source = Path(path)
    entry = format_of(source)
    if entry.read is None:
        raise DataError(f"{source}: {entry.name} can be written but not read")
    contents: Contents = guarded(source, entry.name, partial(entry.read, source, how or How()))
    return contents


def look(path: str | os.PathLike[str], columns: str | None = None) -> Contents:
    """Read all that a file holds in order to look at it: columns of a text that nobody states are guessed, and noted.

    Parameters
    ----------
    path : str | os.PathLike[str]
        The file.
    columns : str, optional
        Columns of a text, as in ``PNEZD``; guessed if not given.

    Returns
    -------
    Contents

    Raises
    ------
    DataError, MissingPackageError
        As `read` does.

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.formats import look
    >>> len(look(small_site().with_name("shots.csv")).points)
    9
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


def chosen_parts(path: Path, contents: Contents, claim: Claim) -> Contents:
    """Return what of a file is on the layers, of the kinds and with the codes that a claim states.

    Raises
    ------
    DataError
        Where that is nothing.
    """
    if not (claim.layers or claim.kinds or claim.codes):
        return contents
    chosen = contents.selected(claim.layers, claim.kinds, claim.codes)
    if chosen.is_empty:
        raise DataError(f"{path}: nothing in it is on those layers, of those kinds, with those codes")
    return chosen


def guarded(path: Path, name: str, act: Callable[[], T]) -> T:
    """Run a reader; what a package raises about a broken file becomes a clear error, our own faults stay what they are.

    Raises
    ------
    DataError
        Where the file is broken, or claims to hold more than there is memory for.
    """
    try:
        return act()
    except EvrinError as error:
        if isinstance(error, DataError) and path.name not in str(error):
            raise DataError(f"{path}: {error}") from error
        raise
    except MemoryError as error:
        raise DataError(f"{path}: not enough memory for what this {name} file claims to hold") from error
    except BaseException as error:
        # A package in Rust that gives up raises something that is not an Exception.
        is_panic = type(error).__name__ == "PanicException"
        if not (is_panic or (isinstance(error, Exception) and _is_raised_by_package(error))):
            raise
        reason = " ".join(str(error).split())[:200] or type(error).__name__
        raise DataError(f"{path}: this {name} file is broken or cut short: {reason}") from error


def _is_raised_by_package(error: BaseException) -> bool:
    """Whether an exception left the code of a package: one raised in a file of Evrin itself is a fault of ours."""
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    return trace is not None and not Path(trace.tb_frame.f_code.co_filename).is_relative_to(_OWN_ROOT)


def open_cloud(path: str | os.PathLike[str], how: How | None = None) -> Cloud:
    """Open the points of a file, to be read a part at a time where its format allows, in one otherwise.

    Parameters
    ----------
    path : str | os.PathLike[str]
        The file.
    how : How, optional
        How the file is to be read, if not in the usual way.

    Returns
    -------
    Cloud

    Raises
    ------
    DataError, MissingPackageError
        As `read` does.

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.formats import How, open_cloud
    >>> cloud = open_cloud(small_site().with_name("shots.csv"), How("PNEZD"))
    >>> sum(len(part) for part in cloud.parts)
    9
    """
    source = Path(path)
    entry = format_of(source)
    if entry.cloud is None:
        whole = read(source, how)
        points = replace(whole.points, refused=(), notes=())
        return Cloud(iter([points]), whole.stated, whole.refused, whole.notes)
    cloud: Cloud = guarded(source, entry.name, partial(entry.cloud, source))
    return replace(cloud, parts=_guarded_parts(source, entry.name, cloud.parts))


def _guarded_parts(path: Path, name: str, parts: Iterator[Points]) -> Iterator[Points]:
    while (part := guarded(path, name, partial(next, parts, None))) is not None:
        yield part
