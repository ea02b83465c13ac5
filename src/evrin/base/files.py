"""Reading text whatever its encoding, and writing files that appear whole or not at all."""

from __future__ import annotations

import glob
import io
import os
import re
import secrets
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from evrin.base.errors import DataError
from evrin.base.written_files import check_output, note_contents, note_place

# What a process that has to end at once removes first.
_UNFINISHED: set[Path] = set()
_PLAIN = re.compile(r"[\w\-./ :+~@=#%(),&'!^]+" if os.name == "posix" else r"[^*?\"<>|;]+")
_WRITERS = ("pyogrio", "rasterio", "laspy", "ezdxf", "trimesh", "sqlite3")


def read_text(path: Path) -> tuple[str, str]:
    """Return a file's text and the name of its encoding.

    Raises
    ------
    DataError
        Where there is no such file, it is empty, or it is not text.
    """
    data = read_bytes(path)
    if encoding := utf_16(data):
        return _decode(path, data, encoding).removeprefix("\ufeff"), "utf-16"
    if data.startswith(b"\xef\xbb\xbf"):
        return _decode(path, data, "utf-8-sig"), "utf-8-sig"
    if b"\x00" in data[:4096]:
        raise DataError(f"{path}: this is not a text file")
    try:
        return data.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace"), "cp1252"


def utf_16(data: bytes) -> str:
    """Return the name of the encoding where bytes are text in UTF-16, marked or not; nothing for another."""
    for mark, encoding in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return encoding
    sample = data[:2000]
    pairs = len(sample) // 2
    if pairs < 4 or b"\x00\x00" in sample[:8]:
        return ""
    # Latin letters and digits leave every other byte empty, and no other is.
    for start, encoding in ((1, "utf-16-le"), (0, "utf-16-be")):
        is_empty = sample[start : 2 * pairs : 2].count(0) > 0.9 * pairs
        if is_empty and sample[1 - start : 2 * pairs : 2].count(0) == 0:
            return encoding
    return ""


def in_utf8(head: bytes) -> bytes:
    """Return the first bytes of a file, those of a text in UTF-16 as they would be in UTF-8."""
    encoding = utf_16(head)
    if not encoding:
        return head
    return head[: len(head) // 2 * 2].decode(encoding, "ignore").removeprefix("\ufeff").encode()


def _decode(path: Path, data: bytes, encoding: str) -> str:
    try:
        return data.decode(encoding)
    except UnicodeDecodeError as error:
        raise DataError(f"{path}: marked as {encoding}, but {error.reason} at byte {error.start}") from error


def read_bytes(path: Path) -> bytes:
    """Return a file's bytes, refusing with the reason."""
    try:
        data = path.read_bytes()
    except FileNotFoundError as error:
        raise DataError(f"{path}: no such file") from error
    except OSError as error:
        raise DataError(f"{path}: cannot be read: {error.strerror}") from error
    if not data or data.isspace():
        raise DataError(f"{path}: the file is empty")
    return data


def head_of(path: Path, length: int = 4096) -> tuple[bytes, int]:
    """Return a file's first bytes and its size, refusing an empty one with the reason."""
    try:
        with path.open("rb") as stream:
            head, size = stream.read(length), path.stat().st_size
    except FileNotFoundError as error:
        raise DataError(f"{path}: no such file") from error
    except OSError as error:
        raise DataError(f"{path}: cannot be read: {error.strerror}") from error
    if not head.strip():
        raise DataError(f"{path}: the file is empty")
    return head, size


def discard_unfinished() -> None:
    """Remove files that are being written, by a process that ends before they are whole."""
    for path in list(_UNFINISHED):
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)


@contextmanager
def beside(path: Path) -> Iterator[Path]:
    """Give a plain name beside *path*, for packages that write files themselves; the file takes its own at the end.

    Packages take some signs in names for signs of their own, so where the folder's name has such, they write elsewhere.

    Raises
    ------
    DataError
        Where the folder does not exist or cannot be written to, or the file may not be written over.
    """
    check_output(path)
    try:
        _tidy_after_the_dead(path)
        folder = Path(tempfile.mkdtemp(prefix=_prefix(path), dir=path.parent))
    except OSError as error:
        raise DataError(f"{path}: cannot be written: {error.strerror} ({path.parent})") from error
    _UNFINISHED.add(folder)
    elsewhere = None if _PLAIN.fullmatch(str(folder)) else Path(tempfile.mkdtemp(prefix="evrin-"))
    plain = (elsewhere or folder) / f"made{path.suffix}"
    try:
        yield plain
        for each in elsewhere.iterdir() if elsewhere is not None else ():
            shutil.move(each, folder / each.name)
        # The named file comes last, so that it is never without its companions.
        made = sorted(folder.iterdir(), key=lambda each: each.name == plain.name)
        targets = [path.parent / (path.stem + each.name.removeprefix("made")) for each in made]
        for target in targets:
            check_output(target)
        for each, target in zip(made, targets, strict=True):
            note_contents(each)
            each.replace(target)
            note_place(target)
    except DataError as error:
        if path.name in str(error):
            raise
        raise DataError(f"{path}: {error}") from error
    except OSError as error:
        raise DataError(f"{path}: cannot be written: {error.strerror or error}") from error
    except Exception as error:
        # Packages that write files report a full disk in errors of their own.
        if type(error).__module__.partition(".")[0] in _WRITERS:
            raise DataError(f"{path}: cannot be written: {error}") from error
        raise
    finally:
        if elsewhere is not None:
            shutil.rmtree(elsewhere, ignore_errors=True)
        shutil.rmtree(folder, ignore_errors=True)
        _UNFINISHED.discard(folder)


@contextmanager
def whole_file(path: Path, *, guarded: bool = True) -> Iterator[IO[bytes]]:
    """Open a file beside *path* that takes its name only when all has been written.

    Parameters
    ----------
    path : Path
        The file to write.
    guarded : bool
        Whether the file is an output, which never replaces an input or a file of others (`written_files`).

    Raises
    ------
    DataError
        Where the folder does not exist or cannot be written to, or the file may not be written over.
    """
    if guarded:
        check_output(path)
    try:
        _tidy_after_the_dead(path)
        part = path.parent / f"{_prefix(path)}{secrets.token_hex(6)}"
        # Opened so, the file gets the permissions that any new file of the user gets.
        handle = os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_BINARY", 0), 0o666)
    except OSError as error:
        raise DataError(f"{path}: cannot be written: {error.strerror} ({path.parent})") from error
    _UNFINISHED.add(part)
    try:
        with os.fdopen(handle, "wb") as stream:
            yield stream
        if guarded:
            note_contents(part)
        part.replace(path)
        if guarded:
            note_place(path)
    except BaseException as error:
        part.unlink(missing_ok=True)
        if isinstance(error, OSError):
            raise DataError(f"{path}: cannot be written: {error.strerror}") from error
        raise
    finally:
        _UNFINISHED.discard(part)


@contextmanager
def whole_text_file(path: Path, *, guarded: bool = True) -> Iterator[IO[str]]:
    """As `whole_file`, for text in UTF-8."""
    with (
        whole_file(path, guarded=guarded) as stream,
        io.TextIOWrapper(stream, "utf-8", errors="backslashreplace", newline="\n") as text,
    ):
        yield text


def _prefix(path: Path) -> str:
    return f".{path.name[:100]}.evrin-{os.getpid()}-"


def _tidy_after_the_dead(path: Path) -> None:
    """Remove what runs that were killed left beside a file they were writing."""
    for left in path.parent.glob(f".{glob.escape(path.name[:100])}.evrin-*"):
        number = left.name.rpartition(".evrin-")[2].partition("-")[0]
        if number.isdigit() and not _is_running(int(number)):
            if left.is_dir():
                shutil.rmtree(left, ignore_errors=True)
            else:
                left.unlink(missing_ok=True)


def _is_running(number: int) -> bool:
    """Whether there is such a process; where that cannot be asked, there is."""
    if os.name != "posix":
        return True
    try:
        os.kill(number, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True
