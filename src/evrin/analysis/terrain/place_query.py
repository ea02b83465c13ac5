"""Height here: height and slope of a surface at one place, and the shots behind them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from evrin.analysis.quality.shot_distances import shot_vertices
from evrin.surface.provenance import NamedShot
from evrin.surface.surface import Surface


@dataclass(frozen=True)
class Corner:
    """A corner of the triangle at a place: the shot it came from, its height, how far away it is."""

    shot: NamedShot
    height: float
    distance: float


@dataclass(frozen=True)
class PlaceAnswer:
    """Height and slope of a surface at a place, and the shots behind them.

    Attributes
    ----------
    easting, northing : float
        The place.
    height, slope_percent : float or None
        None outside the surface.
    nearest_shot : float or None
        Plan distance to the nearest shot.
    held_by : list of Corner
        The corners of the triangle.
    """

    easting: float
    northing: float
    height: float | None
    slope_percent: float | None
    nearest_shot: float | None
    held_by: list[Corner]


def at_place(surface: Surface, x: float, y: float) -> PlaceAnswer:
    """Return height, slope and the triangle's corners at one place: `Surface.height_at`."""
    triangle = int(surface.triangles_at(x, y))
    if triangle < 0:
        return PlaceAnswer(easting=x, northing=y, height=None, slope_percent=None, nearest_shot=None, held_by=[])
    held_by = []
    for vertex in surface.triangles[triangle].tolist():
        east, north, z = surface.vertices[vertex].tolist()
        shot = surface.provenance.describe(vertex) if surface.provenance else NamedShot(f"vertex {vertex}")
        held_by.append(Corner(shot, z, float(np.hypot(east - x, north - y))))
    slope = 100.0 * float(surface.triangle_slopes[triangle])
    nearest = float(np.hypot(*(surface.vertices[shot_vertices(surface), :2] - (x, y)).T).min())
    return PlaceAnswer(
        easting=x,
        northing=y,
        height=float(surface.height(x, y)),
        slope_percent=slope,
        nearest_shot=nearest,
        held_by=held_by,
    )
