"""Files that arguments of a command name: found, and missed before any work begins."""

from __future__ import annotations

import re
from collections.abc import Iterator
from inspect import Parameter
from pathlib import Path
from typing import get_args

from evrin.base.errors import DataError

# Of options that take a file, or numbers in its place.
_METAVARS = ("FILE", "LINE", "E,N|FILE", "HEIGHT|FILE")
_NUMBERS = re.compile(r"[-+0-9.,eE\s]*")
# Files of which one that is missing is reported beside what is in the others.
_EACH_BY_ITSELF = "FILE…"
# Words that an option takes instead of a file.
_WORDS = ("sources",)


def files_in(value: object) -> Iterator[Path]:
    """Yield the files that an argument names.

    Parameters
    ----------
    value : object
        A path, a text, or a list of these; what its coordinates are may follow the name of a file.
    """
    if isinstance(value, (list, tuple)):
        for each in value:
            yield from files_in(each)
    elif isinstance(value, Path) or (isinstance(value, str) and value):
        try:
            named = Path(value) if Path(value).is_file() else Path(str(value).split(",")[0])
            if named.is_file():
                yield named
        except (OSError, ValueError):
            return


def check_named_files(parameter: Parameter, value: object) -> None:
    """Refuse an argument that names a file that is not there.

    Parameters
    ----------
    parameter : Parameter
        Of the command.
    value : object
        What it was given.

    Raises
    ------
    DataError
        Naming the file.
    """
    if not value or not _names_files(parameter):
        return
    for each in value if isinstance(value, (list, tuple)) else [value]:
        text = str(each)
        # What is stated after the name of a file is read, and refused, by the command.
        if "=" in text or (isinstance(each, str) and (_NUMBERS.fullmatch(text) or text in _WORDS)):
            continue
        if not any(_exists(Path(name)) for name in (text, text.split(",")[0])):
            shown = text if len(text) <= 200 else f"{text[:80]} … {text[-40:]}"
            raise DataError(f"{shown}: no such file")


def _names_files(parameter: Parameter) -> bool:
    notes = getattr(parameter.annotation, "__metadata__", ())
    if any(getattr(note, "metavar", None) == _EACH_BY_ITSELF for note in notes):
        return False
    return Path in _kinds(parameter.annotation) or any(getattr(note, "metavar", None) in _METAVARS for note in notes)


def _kinds(annotation: object) -> Iterator[object]:
    yield annotation
    for inner in get_args(annotation):
        yield from _kinds(inner)


def _exists(path: Path) -> bool:
    try:
        return path.exists()
    except (OSError, ValueError):
        # What the system has against a name is reported when it is opened.
        return True
