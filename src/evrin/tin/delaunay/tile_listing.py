"""Which square tiles of the plane each triangle touches."""

import numpy as np

from evrin.kernels import FloatRows, Floats, FloatStacks, IndexRows, IndexStacks, Mutable, as_index, inner, kernel

# A triangle this near to a tile, as a part of the tile's side, counts as touching it.
_NEAR = 1e-6


@inner
def _reach_within(low: float, high: float, places: FloatRows, out: Mutable[Floats]) -> None:
    """How far west and east a triangle reaches between two northings."""
    out[0], out[1] = np.inf, -np.inf
    for k in range(3):
        ax, ay = places[k, 0], places[k, 1]
        bx, by = places[(k + 1) % 3, 0], places[(k + 1) % 3, 1]
        if low <= ay <= high:
            out[0], out[1] = min(out[0], ax), max(out[1], ax)
        for edge in (low, high):
            if (ay < edge) != (by < edge):
                x = ax + (edge - ay) / (by - ay) * (bx - ax)
                x = min(max(x, min(ax, bx)), max(ax, bx))
                out[0], out[1] = min(out[0], x), max(out[1], x)


@kernel
def touched_tiles(corners: FloatStacks, tile_of: IndexStacks, size: float, listing: Mutable[IndexRows]) -> int:
    """List a triangle's number, and column and row of each tile that it touches, as (triangle, column, row).

    *corners* (m, 3, 2) are its places, *tile_of* (m, 3, 2) column and row of the tile of each. Return how many were
    listed, or would be if there were room in *listing* (k, 3).
    """
    count = as_index(0)
    band = np.empty(2)
    for t in range(corners.shape[0]):
        rows = tile_of[t, :, 1]
        first, last = min(rows[0], rows[1], rows[2]), max(rows[0], rows[1], rows[2])
        for row in range(first, last + 1):
            _reach_within((row - _NEAR) * size, (row + 1 + _NEAR) * size, corners[t], band)
            west, east = np.floor(band[0] / size - _NEAR), np.floor(band[1] / size + _NEAR)
            for k in range(3):
                if rows[k] == row:
                    west, east = min(west, float(tile_of[t, k, 0])), max(east, float(tile_of[t, k, 0]))
            if not west <= east:
                continue
            for column in range(as_index(int(west)), as_index(int(east)) + 1):
                if count < listing.shape[0]:
                    listing[count, 0], listing[count, 1], listing[count, 2] = t, column, row
                count += 1
    return count
