"""Square tiles of the plane, counted from the origin of the coordinates."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats, Indices

Tile = tuple[int, int]
_POINTS_A_TILE = 1_000_000
_FARTHEST = 2**40
_LARGEST = 10**9
_MOST_TILES = 200_000
# Empty columns or rows of tiles between two that hold points.
_WIDEST_GAP = 1_000


class Tiling(NamedTuple):
    """Tiles whose sides are a whole number of cells, so that no cell of a thinning is in two of them.

    Attributes
    ----------
    cell : float
        Side of a cell.
    cells : int
        Along the side of a tile.

    Examples
    --------
    >>> Tiling(0.5, 100).tiles_of(np.array([[49.9, -0.1], [50.0, 0.0]])).tolist()
    [[0, -1], [1, 0]]
    """

    cell: float
    cells: int

    @property
    def size(self) -> float:
        """Side of a tile."""
        return self.cell * self.cells

    def tiles_of(self, xy: Floats) -> Indices:
        """Return column and row (n, 2) of the tile of each place.

        Raises
        ------
        DataError
            For places that are too far away to be counted.
        """
        cell = np.floor(xy / self.cell)
        if len(cell) and not float(np.abs(cell).max()) < _FARTHEST:
            raise DataError(f"a place lies more than {_FARTHEST:,} cells of {self.cell:g} from the origin")
        return np.floor_divide(cell.astype(np.int64), self.cells)

    def box(self, tile: Tile, margin: float = 0.0) -> tuple[float, float, float, float]:
        """Return west, south, east, north of a tile and so much around it."""
        (column, row), size = tile, self.size
        return column * size - margin, row * size - margin, (column + 1) * size + margin, (row + 1) * size + margin


def suited_tiling(spacing: float, cell: float | None, size: float | None) -> Tiling:
    """Return tiles that hold about a million points each, or those of a size that is asked for.

    Parameters
    ----------
    spacing : float
        Of the points.
    cell : float, optional
        Of a thinning.
    size : float, optional
        Side of a tile.

    Raises
    ------
    DataError
        For a tile smaller than a cell, or larger than any ground.
    """
    unit = cell if cell is not None else 1.0
    wanted = size if size is not None else spacing * _POINTS_A_TILE**0.5
    if size is not None and not unit <= size <= _LARGEST * unit:
        raise DataError(f"the side of a tile must lie between {unit:g} and {_LARGEST * unit:g}; {size:g} is asked for")
    cells = max(round(wanted / unit), 1)
    # Two significant digits, so that what is printed is what is used.
    power = 10 ** max(len(str(cells)) - 2, 0)
    return Tiling(unit, cells if size is not None else max(cells // power * power, 1))


def check_tiles(tiling: Tiling, tiles: Sequence[Tile]) -> None:
    """Refuse more tiles than can be handed out, and points so far from all others that they must be strays.

    Raises
    ------
    DataError
        With what to do about it.
    """
    if len(tiles) > _MOST_TILES:
        raise DataError(f"{len(tiles):,} tiles of {tiling.size:g} are too many; make them larger")
    table = np.array(tiles, np.int64)
    for axis, along in enumerate(("easting", "northing")):
        numbers = np.unique(table[:, axis])
        gaps = np.flatnonzero(np.diff(numbers) > _WIDEST_GAP)
        if len(gaps):
            ends = numbers[gaps[0]] + 1, numbers[gaps[0] + 1]
            west, east = (float(each * tiling.size) for each in ends)
            raise DataError(
                f"no point lies between {along} {west:,.0f} and {east:,.0f}, but some on either side: strays, or files "
                "of two sites. Choose one side by keep = { window = [west, south, east, north] }"
            )
