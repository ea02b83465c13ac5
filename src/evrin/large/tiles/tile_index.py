"""Where the triangles of each tile are: all that is needed to take a part out of a surface kept in tiles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, Ints
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import kept, once
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_part import TileNumbers, TilePart, numbers_of, places_of, tile_part
from evrin.large.tiles.tile_reading import origins_of, words_of
from evrin.surface.provenance import Provenance, Shots, repeated
from evrin.surface.surface import Surface

Window = tuple[float, float, float, float]


@dataclass(frozen=True)
class Index:
    """Names of what holds the triangles of each tile, and of the triangles that are trimmed.

    Attributes
    ----------
    job : Job
        What the run is to do.
    name : str
        Of the surface.
    nodes : dict
        By tile.
    trimmed : str
        Name of what holds the triangles that are trimmed.
    """

    job: Job
    name: str
    nodes: dict[Tile, tuple[str, ...]]
    trimmed: str

    @classmethod
    def opened(cls, job: Job, path: Path) -> Index:
        """Return what `save` wrote."""
        stored = kept(path)
        nodes = {(column, row): tuple(names) for column, row, names in stored["nodes"]}
        return cls(job, stored["name"], nodes, stored["trimmed"])

    def save(self, digest: str) -> Path:
        """Write it for workers; return where."""
        path = self.job.at("index", digest).with_suffix(".json")
        once(
            path,
            lambda: {
                "name": self.name,
                "nodes": [[*tile, list(names)] for tile, names in self.nodes.items()],
                "trimmed": self.trimmed,
            },
        )
        return path

    def of_tile(self, tile: Tile) -> Index:
        """Return what a worker needs for one tile."""
        return replace(self, nodes={tile: self.nodes[tile]} if tile in self.nodes else {})

    def part(self, tile: Tile) -> TilePart | None:
        """Return the triangles that touch a tile; None where there are none."""
        return tile_part(self.job, tile, self.nodes[tile], numbers_of(self.job, self.trimmed))

    def within(self, window: Window) -> Surface | None:
        """Return the triangles that touch a window, traced to their points; None where there are none."""
        west, south, east, north = window
        if not (np.isfinite(window).all() and west < east and south < north):
            raise DataError(f"a window is west, south, east, north; {window} has no area")
        low, high = self.job.tiling.tiles_of(np.array([[west, south], [east, north]])).tolist()
        tiles = [each for each in self.nodes if low[0] <= each[0] <= high[0] and low[1] <= each[1] <= high[1]]
        numbers = numbers_of(self.job, self.trimmed)
        parts = [part for each in tiles if (part := tile_part(self.job, each, self.nodes[each], numbers))]
        triangles = [part.ids[part.triangles[_touches(part, window)]] for part in parts]
        whole = np.unique(np.concatenate(triangles), axis=0) if triangles else np.empty((0, 3), np.int32)
        if len(whole) == 0:
            return None
        ids, corners = np.unique(whole, return_inverse=True)
        made = Surface.from_arrays(places_of(self.job, ids, numbers), corners.reshape(-1, 3), name=self.name)
        frame = self.job.frame
        return made.renamed(units=frame.units, crs=frame.crs).with_lines((), _provenance(self.job, ids, numbers))


def _touches(part: TilePart, window: Window) -> Flags:
    places = part.vertices[part.triangles][:, :, :2]
    low, high = places.min(axis=1), places.max(axis=1)
    return np.asarray((low <= window[2:]).all(axis=1) & (high >= window[:2]).all(axis=1))


def _provenance(job: Job, ids: Ints, numbers: TileNumbers) -> Provenance:
    """Which point of which file each of some vertices is."""
    at = np.searchsorted(numbers.firsts, ids, "right") - 1
    origin = np.empty((len(ids), 2), np.int64)
    for index in np.unique(at).tolist():
        rows = at == index
        origin[rows] = origins_of(job, "ground", numbers.tiles[index])[ids[rows] - numbers.firsts[index]]
    none, files = repeated("", len(ids)), tuple(path.name for path in job.files)
    shots = Shots(
        files=files,
        file_of=origin[:, 0].astype(np.int32),
        line_of=origin[:, 1],
        numbers=none,
        codes=none,
        words=words_of(job),
    )
    return Provenance(shots, np.arange(len(ids), dtype=np.int32))
