"""What may be written over: never a source, and a file that is not Evrin's own only where that is asked for."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Iterable, Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path

from evrin.base.cache_folder import kept_folder
from evrin.base.errors import DataError

_SHAPEFILE = (".shp", ".shx", ".dbf", ".prj", ".cpg")


@dataclass
class _Command:
    """What a command reads and writes, as far as it is known."""

    overwrite: bool = False
    inputs: dict[str, Path] = field(default_factory=dict)
    outputs: list[Path] = field(default_factory=list)


_COMMAND: ContextVar[_Command | None] = ContextVar("command", default=None)
_SOURCES: dict[str, Path] = {}


@contextlib.contextmanager
def running_command(inputs: Iterable[Path], *, overwrite: bool = False) -> Iterator[None]:
    """Guard the files that a command reads, and those that exist, while it runs.

    Parameters
    ----------
    inputs : iterable of Path
        Files named on the command line; those that a recipe names are added when it is read.
    overwrite : bool
        Whether files that Evrin did not write may be replaced. Inputs never may.
    """
    command = _Command(overwrite)
    token = _COMMAND.set(command)
    try:
        note_inputs(inputs)
        yield
    finally:
        _COMMAND.reset(token)


def note_inputs(paths: Iterable[Path]) -> None:
    """Note files that must not be written over, those that belong to a Shapefile with it.

    Raises
    ------
    DataError
        Where the running command writes one of them.
    """
    command = _COMMAND.get()
    for path in paths:
        for part in [path.with_suffix(s) for s in _SHAPEFILE] if path.suffix.lower() == ".shp" else [path]:
            for key in _keys(part):
                (_SOURCES if command is None else command.inputs)[key] = path
    for output in command.outputs if command is not None else ():
        check_output(output)


def declare_output(target: Path) -> None:
    """Note a file that the running command will write, and refuse it at once where it may not.

    Raises
    ------
    DataError
        As `check_output` does.
    """
    command = _COMMAND.get()
    if command is not None:
        command.outputs.append(target)
    check_output(target)


def check_output(target: Path) -> None:
    """Refuse to write over an input, or over a file that Evrin did not write.

    Raises
    ------
    DataError
        With what to do instead.
    """
    command = _COMMAND.get()
    inputs = _SOURCES if command is None else command.inputs
    if any(key in inputs for key in _keys(target)) and (command is not None or not is_written_by_evrin(target)):
        raise DataError(f"{target}: this file is an input, and inputs are never written over. Choose another name.")
    if command is not None and not command.overwrite and target.is_file() and not is_written_by_evrin(target):
        raise DataError(
            f"{target}: the file exists, and Evrin did not write it, or it was changed since. Choose another name, or "
            "give --overwrite to replace it."
        )


def check_companions(target: Path, endings: Iterable[str]) -> None:
    """Refuse to write beside a file that would be read as part of the output.

    Raises
    ------
    DataError
        Naming it.
    """
    for ending in endings:
        other = target.with_name(target.stem + ending)
        if other.is_file():
            raise DataError(
                f"{target}: {other.name} beside it would be read as part of it, and it is not. Choose another name, or "
                "move that file away."
            )


def note_contents(part: Path) -> None:
    """Write down that Evrin wrote these contents, before they take a name: another command may look at it at once."""
    with contextlib.suppress(OSError):
        contents = _record_of_contents(part)
        contents.parent.mkdir(parents=True, exist_ok=True)
        contents.touch()


def note_written(target: Path) -> None:
    """Write down that Evrin wrote a file, so that it may write it again."""
    note_contents(target)
    note_place(target)


def note_place(target: Path) -> None:
    """Write down where a file is of which `note_contents` knows, so that it is known without being read."""
    with contextlib.suppress(OSError):
        _record_of(target).write_text(json.dumps(_state(target)), encoding="utf-8")


def forget_written(target: Path) -> None:
    """Take a file that Evrin wrote for one that was brought: the demo's, which play that part."""
    command = _COMMAND.get()
    if command is not None and target in command.outputs:
        command.outputs.remove(target)
    with contextlib.suppress(OSError):
        _record_of(target).unlink(missing_ok=True)
        _record_of_contents(target).unlink(missing_ok=True)


def is_written_by_evrin(target: Path) -> bool:
    """Whether a file is as Evrin wrote it for this user, there or in a folder that was copied or moved since."""
    with contextlib.suppress(OSError, ValueError):
        if json.loads(_record_of(target).read_text(encoding="utf-8")) == _state(target):
            return True
    with contextlib.suppress(OSError):
        return _record_of_contents(target).exists()
    return False


def _state(target: Path) -> list[object]:
    status = target.stat()
    return [str(target.resolve()), status.st_size, status.st_mtime_ns]


def _record_of(target: Path) -> Path:
    name = hashlib.sha256(str(target.resolve()).encode("utf-8", "surrogateescape")).hexdigest()[:32]
    return kept_folder() / "written" / name


def _record_of_contents(target: Path) -> Path:
    with target.open("rb") as stream:
        digest = hashlib.file_digest(stream, "sha256").hexdigest()
    return kept_folder() / "written" / "contents" / digest


def _keys(path: Path) -> Iterator[str]:
    """The identity of a file: its real path in one letter case, and its number on the disk."""
    yield os.path.realpath(path).casefold()
    with contextlib.suppress(OSError):
        status = path.stat()
        yield f"{status.st_dev}:{status.st_ino}"
