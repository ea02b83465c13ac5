"""Which files of a folder a surveyor brought: not what Evrin keeps or wrote there, nor what only belongs to another."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from evrin.base.errors import DataError
from evrin.base.written_files import is_written_by_evrin

_NO_DATA = (".toml", ".png", ".pdf", ".svg", ".md", ".html", ".shx", ".dbf", ".prj", ".cpg", ".tfw", ".aux.xml")


def found_files(paths: Sequence[Path]) -> tuple[list[Path], list[tuple[Path, str]]]:
    """Return files, those of folders among them, and files that were ignored with the reason.

    Hidden files and folders, recipes, pictures, pages and files that belong to another are not even named.

    Raises
    ------
    DataError
        Where there is no such file in any of the folders.
    """
    files: list[Path] = []
    ignored: list[tuple[Path, str]] = []
    for path in paths:
        if not path.is_dir():
            files.append(path)
            continue
        for inside in sorted(path.rglob("*")):
            hidden = any(part.startswith(".") for part in inside.relative_to(path).parts)
            if hidden or not inside.is_file() or inside.name.lower().endswith(_NO_DATA):
                continue
            if is_written_by_evrin(inside):
                ignored.append((inside, "Evrin wrote it"))
            else:
                files.append(inside)
    if not files:
        # What Evrin wrote is passed over beside files of others, not where there is nothing else.
        files, ignored = [inside for inside, _ in ignored], []
    if not files:
        raise DataError(f"{', '.join(map(str, paths))}: no file here that could hold survey data")
    return files, ignored
