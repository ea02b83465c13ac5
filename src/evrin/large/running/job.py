"""What a run over tiles is to do, and where it keeps its results: all that a worker has to be given."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from evrin.large.tiles.square_tiles import Tile, Tiling
from evrin.recipe.sources.source_table import Source
from evrin.surface.frame import Frame


@dataclass(frozen=True)
class Job:
    """One source that is made a surface in tiles.

    Attributes
    ----------
    folder : Path
        For results.
    recipe_folder : Path
        Files of the recipe are relative to it.
    source : Source
        The table of the source.
    frame : Frame
        Unit and reference system of the site.
    tiling : Tiling
        The tiles.
    files : tuple of Path
        Of the source, in the order in which vertices name them.
    """

    folder: Path
    recipe_folder: Path
    source: Source
    frame: Frame
    tiling: Tiling
    files: tuple[Path, ...]

    def at(self, stage: str, name: str | Tile) -> Path:
        """Return the path, without an ending, of a result."""
        return self.folder / stage / (name if isinstance(name, str) else f"{name[0]}_{name[1]}")
