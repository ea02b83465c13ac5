"""A dash in place of a file: read from stdin, written to stdout.

Input is put into a temporary folder first, and output is taken from there, so that every format works.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

from evrin.base.errors import DataError
from evrin.cli.session import Session

_DASH = "-"


class Pipes:
    """The files in place of stdin and stdout while a command runs.

    ``-`` alone is delimited text; ``-.xml`` and the like, as an argument after ``--``, state another format.

    Parameters
    ----------
    session : Session
        Set where a file is written to stdout, so that tables go elsewhere.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self._folder: Path | None = None
        self._coming: Path | None = None
        self._going: Path | None = None

    def __enter__(self) -> Pipes:
        return self

    def __exit__(self, *raised: object) -> None:
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)

    def resolved(self, value: object, *, writes: bool) -> object:
        """Return an argument with files in place of dashes.

        Raises
        ------
        DataError
            Where stdin or stdout is named twice.
        """
        if isinstance(value, list):
            return [self.resolved(each, writes=writes) for each in value]
        text, comma, stated = (str(value) if isinstance(value, (Path, str)) else "").partition(",")
        if not (text == _DASH or (isinstance(value, Path) and text.startswith("-."))):
            return value
        path = self._stdout(text) if writes else self._stdin(text)
        named = f"{path}{comma}{stated}"
        return Path(named) if isinstance(value, Path) else named

    def flush(self) -> None:
        """Copy what was written for stdout there."""
        if self._going is not None and self._going.exists():
            with self._going.open("rb") as stream:
                shutil.copyfileobj(stream, sys.stdout.buffer)
            sys.stdout.buffer.flush()

    def _stdin(self, text: str) -> Path:
        if self._coming is None:
            self._coming = self._place("stdin", text)
            with self._coming.open("wb") as stream:
                shutil.copyfileobj(sys.stdin.buffer, stream)
        elif self._coming.name != f"stdin{_ending(text)}":
            raise DataError("stdin can be read once only, in one format; name a file for one of the two")
        return self._coming

    def _stdout(self, text: str) -> Path:
        if self._going is not None:
            raise DataError("stdout can take one file only; name a file for the other")
        self._going = self._place("stdout", text)
        self._session.results_to_stderr = True
        return self._going

    def _place(self, name: str, text: str) -> Path:
        if self._folder is None:
            self._folder = Path(tempfile.mkdtemp(prefix="evrin-"))
        path = self._folder / f"{name}{_ending(text)}"
        self._session.in_place_of[str(path)] = name
        return path


def _ending(text: str) -> str:
    return ".csv" if text == _DASH else text[1:]
