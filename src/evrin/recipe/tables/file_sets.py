"""Several files named together: a list, a pattern, or a folder."""

from __future__ import annotations

from pathlib import Path

# What is read of a folder: clouds and grids; other files there are those that go with them.
IN_FOLDERS = (".las", ".laz", ".asc", ".tif", ".tiff", ".xyz", ".csv", ".txt", ".pts")


def expanded(folder: Path, name: str) -> list[Path]:
    """Return the files that a name means, by name: those of a folder, those of a pattern, or the one so called.

    Parameters
    ----------
    folder : Path
        Of the recipe.
    name : str
        Such as ``flight``, ``flight/*.laz`` or ``day1.csv``.
    """
    path = folder / name
    if path.is_dir():
        return sorted(each for each in path.iterdir() if each.is_file() and each.suffix.lower() in IN_FOLDERS)
    if path.is_file() or not any(sign in name for sign in "*?["):
        return [path]
    anchor = Path(path.anchor) if path.is_absolute() else folder
    pattern = str(path.relative_to(anchor)) if path.is_absolute() else name
    return sorted(each for each in anchor.glob(pattern) if each.is_file())
