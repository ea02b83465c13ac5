"""What an editor takes: a surface of one height a place, and heights that are numbers."""

from __future__ import annotations

import numpy as np

from evrin.base.errors import DataError
from evrin.surface.surface import Surface


def finite(value: float, what: str) -> float:
    """Return a number as it is, refusing NaN and infinity."""
    if not np.isfinite(value):
        raise DataError(f"a {what} must be a finite number; it is {value}")
    return float(value)


def check_is_plan(surface: Surface) -> None:
    """Refuse a surface that is not one height a place."""
    if not np.isfinite(surface.vertices).all():
        row = int(np.flatnonzero(~np.isfinite(surface.vertices).all(axis=1))[0])
        east, north = surface.vertices[row, :2]
        raise DataError(f"{surface.name}: the vertex at {east:.3f}, {north:.3f} has no height; it cannot be edited")
    order = np.lexsort(surface.vertices[:, :2].T)
    places = surface.vertices[order, :2]
    same = np.flatnonzero((places[1:] == places[:-1]).all(axis=1))
    if len(same):
        east, north = places[same[0]]
        low, high = sorted(surface.vertices[order[[same[0], same[0] + 1]], 2].tolist())
        raise DataError(
            f"{surface.name}: two vertices lie one above the other at {east:.3f}, {north:.3f}, at {low:.3f} and "
            f"{high:.3f}; such a surface cannot be edited"
        )
