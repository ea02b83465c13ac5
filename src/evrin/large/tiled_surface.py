"""`TiledSurface`: a surface that is kept in tiles, of which parts can be had."""

from __future__ import annotations

from dataclasses import dataclass

from evrin.base.errors import DataError
from evrin.large.running.job import Job
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_index import Index, Window
from evrin.large.tiles.tile_part import TilePart
from evrin.surface.surface import Surface


@dataclass(frozen=True, eq=False)
class TiledSurface:
    """A surface kept in tiles.

    Attributes
    ----------
    index : Index
        Where it is kept, and what it was made of.
    digest : str
        Of the triangles.
    triangles, vertices : int
        How many.
    heights : tuple of float
        Between which all lie.
    notes : tuple of str
        What became of the points.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import tiled, workers
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=5.0)
    >>> field.triangles, field.job.tiling.size, field.within((0, 0, 5, 5)).provenance.describe(0)
    (8, 5.0, 'shots.csv line 1')
    """

    index: Index
    digest: str
    triangles: int
    vertices: int
    heights: tuple[float, float]
    notes: tuple[str, ...]

    def __repr__(self) -> str:
        size = f"{self.vertices:,} vertices, {self.triangles:,} triangles in {len(self.tiles):,} tiles"
        return f"<TiledSurface {self.name!r}: {size}>"

    @property
    def job(self) -> Job:
        """What it was made of, and where it is kept."""
        return self.index.job

    @property
    def name(self) -> str:
        """Of the site."""
        return self.index.name

    @property
    def tiles(self) -> tuple[Tile, ...]:
        """All that have a part of it."""
        return tuple(self.index.nodes)

    def part(self, tile: Tile) -> TilePart | None:
        """Return the triangles that touch a tile; None where there are none.

        Parameters
        ----------
        tile : tuple of int
            Column and row.

        Returns
        -------
        TilePart or None
        """
        return self.index.part(tile)

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
            Where the window has no area, or no surface.
        """
        part = self.index.within(window)
        if part is None:
            west, south, east, north = window
            raise DataError(f"no surface within {west:g},{south:g},{east:g},{north:g}")
        return part
