"""`TiledSurface`: a surface that is kept in tiles, of which parts can be had."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from evrin.errors import DataError
from evrin.large.job import Job
from evrin.large.reading import origins_of
from evrin.large.tile_part import TileNumbers, TilePart, numbers_of, places_of, tile_part
from evrin.large.tiling import Tile
from evrin.large.tree import Tree
from evrin.surface import Shots, Surface
from evrin.surface.provenance import Provenance, repeated
from evrin.tin.types import Ints

Window = tuple[float, float, float, float]


@dataclass(frozen=True, eq=False)
class TiledSurface:
    """A surface kept in tiles.

    Attributes
    ----------
    job : Job
        Where it is kept, and what it was made of.
    name : str
    tree : Tree
    tiles : tuple of tile
        All that have a part of it.
    trimmed : str
    triangles, vertices : int
        How many.
    heights : tuple of float
        Between which all lie.
    notes : tuple of str
        What became of the points.
    """

    job: Job
    name: str
    tree: Tree
    tiles: tuple[Tile, ...]
    trimmed: str
    triangles: int
    vertices: int
    heights: tuple[float, float]
    notes: tuple[str, ...]

    def __repr__(self) -> str:
        size = f"{self.vertices:,} vertices, {self.triangles:,} triangles in {len(self.tiles):,} tiles"
        return f"<TiledSurface {self.name!r}: {size}>"

    @property
    def numbers(self) -> TileNumbers:
        """How its points are numbered."""
        return numbers_of(self.job, self.trimmed)

    def part(self, tile: Tile) -> TilePart | None:
        """Return the triangles that touch a tile; None where there are none."""
        return tile_part(self.job, tile, self.tree.nodes_of(tile), self.numbers)

    def within(self, window: Window) -> Surface:
        """Return the triangles that touch a window as a surface like any other, traced to its points.

        Parameters
        ----------
        window : tuple of float
            West, south, east, north.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            Where the window is none, or has no surface.
        """
        west, south, east, north = window
        if not (np.isfinite(window).all() and west < east and south < north):
            raise DataError(f"a window is west, south, east, north; {window} is none")
        low, high = self.job.tiling.tiles_of(np.array([[west, south], [east, north]])).tolist()
        within = [each for each in self.tiles if low[0] <= each[0] <= high[0] and low[1] <= each[1] <= high[1]]
        numbers = self.numbers
        found = [part for tile in within if (part := tile_part(self.job, tile, self.tree.nodes_of(tile), numbers))]
        triangles = [part.ids[part.triangles[_touches(part, window)]] for part in found]
        whole = np.unique(np.concatenate(triangles), axis=0) if triangles else np.empty((0, 3), np.int32)
        if len(whole) == 0:
            raise DataError(f"no surface within {west:g},{south:g},{east:g},{north:g}")
        ids, corners = np.unique(whole, return_inverse=True)
        made = Surface.from_arrays(places_of(self.job, ids, numbers), corners.reshape(-1, 3), name=self.name)
        frame = self.job.frame
        return made.renamed(units=frame.units, crs=frame.crs).with_lines((), self._provenance(ids, numbers))

    def _provenance(self, ids: Ints, numbers: TileNumbers) -> Provenance:
        """Which point of which file each of some vertices is."""
        at = np.searchsorted(numbers.firsts, ids, "right") - 1
        origin = np.empty((len(ids), 2), np.int64)
        for index in np.unique(at).tolist():
            rows = at == index
            origin[rows] = origins_of(self.job, "ground", numbers.tiles[index])[ids[rows] - numbers.firsts[index]]
        word = "point" if self.job.source.role == "cloud" else "cell"
        none, files = repeated("", len(ids)), tuple(path.name for path in self.job.files)
        shots = Shots(files, origin[:, 0].astype(np.int32), origin[:, 1], none, none, (word,) * len(files))
        return Provenance(shots, np.arange(len(ids), dtype=np.int32))


def _touches(part: TilePart, window: Window) -> np.ndarray:
    places = part.vertices[part.triangles][:, :, :2]
    low, high = places.min(axis=1), places.max(axis=1)
    return np.asarray((low <= window[2:]).all(axis=1) & (high >= window[:2]).all(axis=1))
