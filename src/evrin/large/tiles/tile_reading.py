"""Files cut into tiles, and the points of one tile put together."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.base.named_values import Row
from evrin.kernels import Floats, Indices
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import kept, load, once, save
from evrin.large.tiles.square_tiles import Tile
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.sources.source_reading import parts_of
from evrin.survey.contents import Points


class FilePiece(NamedTuple):
    """Rows of one part of a file that lie in one tile."""

    stem: str
    file: int
    start: int
    stop: int


def read_file(job: Job, file: int) -> Row:
    """Read one file of the source, and write its points part by part, tile after tile.

    Returns
    -------
    dict
        ``pieces``: stem, column, row, first and last row of each; ``word``: what a row of the file is called;
        ``notes``, ``left_out``, ``refused``.
    """

    def make() -> Row:
        opened = SourceContents(job.source.title)
        pieces: list[list[object]] = []
        word = "line"
        points = parts_of(job.files[file], job.source, job.frame, job.recipe_folder, opened)
        for number, part in enumerate(points):
            pieces += _written(job, part, f"{file:04d}-{number:05d}")
            word = part.shots.words[0] if part.shots.words else word
        refused = sum(each.count for each in opened.refused)
        left_out = {"notes": opened.notes, "left_out": opened.left_out, "refused": refused}
        return {"pieces": pieces, "word": word, **left_out}

    return once(job.at("read", f"{file:04d}").with_suffix(".json"), make)


def words_of(job: Job) -> tuple[str, ...]:
    """Return what a row of each file is called."""
    paths = (job.at("read", f"{file:04d}").with_suffix(".json") for file in range(len(job.files)))
    return tuple(str(kept(path)["word"]) for path in paths)


def _written(job: Job, part: Points, stem: str) -> list[list[object]]:
    if not len(part):
        return []
    tiles = job.tiling.tiles_of(part.xyz[:, :2])
    order = np.lexsort((tiles[:, 0], tiles[:, 1]))
    tiles = tiles[order]
    save(job.at("read", stem).with_suffix(".xyz.npy"), part.xyz[order])
    save(job.at("read", stem).with_suffix(".line.npy"), part.shots.line_of[order])
    starts = np.flatnonzero(np.append(True, (tiles[1:] != tiles[:-1]).any(axis=1)))
    stops = np.append(starts[1:], len(tiles))
    return [[stem, *tiles[a].tolist(), int(a), int(b)] for a, b in zip(starts.tolist(), stops.tolist(), strict=True)]


def gather_tile(job: Job, tile: Tile, pieces: list[FilePiece]) -> int:
    """Put the points of a tile together, in the order of the files; return how many."""

    def make() -> int:
        xyz, line, file = [], [], []
        for stem, number, start, stop in pieces:
            stem_path = job.at("read", stem)
            xyz.append(np.array(load(stem_path.with_suffix(".xyz.npy"))[start:stop]))
            line.append(np.array(load(stem_path.with_suffix(".line.npy"))[start:stop]))
            file.append(np.full(stop - start, number, np.int64))
        save_points(
            job, "points", tile, np.concatenate(xyz), np.column_stack((np.concatenate(file), np.concatenate(line)))
        )
        return sum(map(len, xyz))

    return once(job.at("points", tile).with_suffix(".json"), make)


def save_points(job: Job, stage: str, tile: Tile, xyz: Floats, origin: Indices) -> None:
    """Write points (n, 3) of a tile and where each came from (n, 2): the file's number, and the place in it."""
    save(job.at(stage, tile).with_suffix(".xyz.npy"), np.ascontiguousarray(xyz))
    save(job.at(stage, tile).with_suffix(".origin.npy"), np.ascontiguousarray(origin))


def points_of(job: Job, stage: str, tile: Tile) -> Floats:
    """Return the points (n, 3) of a tile, mapped; none where the tile has none."""
    path = job.at(stage, tile).with_suffix(".xyz.npy")
    return load(path) if path.exists() else np.empty((0, 3))


def origins_of(job: Job, stage: str, tile: Tile) -> Indices:
    """Return where each point (n, 2) of a tile came from."""
    return load(job.at(stage, tile).with_suffix(".origin.npy"))


def forget(job: Job, stage: str, endings: tuple[str, ...]) -> None:
    """Remove the arrays of a stage that no later one needs."""
    for path in _arrays(job.folder / stage, endings):
        path.unlink(missing_ok=True)


def _arrays(folder: Path, endings: tuple[str, ...]) -> list[Path]:
    return [path for path in folder.glob("*.npy") if path.name.endswith(endings)] if folder.is_dir() else []
