"""The vertex of a surface nearest to a place, with what it is called."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.base.errors import EditError
from evrin.surface.surface import Surface


class NearestVertex(NamedTuple):
    """A vertex: its place, rounded as a recipe has it, its distance, and the shot behind it in words."""

    place: tuple[float, float]
    distance: float
    name: str


def nearest_vertex(surface: Surface, place: tuple[float, float], near: float) -> NearestVertex:
    """Return the vertex nearest to a place.

    Raises
    ------
    EditError
        Where none is within *near*.
    """
    if not near > 0.0:
        raise EditError(f"near must be above 0; it is {near:g}")
    away = np.hypot(*(surface.vertices[:, :2] - place).T)
    vertex = int(np.argmin(away))
    if away[vertex] > near:
        raise EditError(
            f"the vertex nearest to ({place[0]:.3f}, {place[1]:.3f}) is {away[vertex]:.3f} away, beyond near = {near:g}"
        )
    x, y, z = surface.vertices[vertex].tolist()
    origin = surface.provenance
    row = int(origin.shot_of[vertex]) if origin is not None else -1
    name = origin.shots.describe(row) if origin is not None and row >= 0 else "a vertex that no shot is behind"
    return NearestVertex((round(x, 3), round(y, 3)), float(away[vertex]), f"{name}, at ({x:.3f}, {y:.3f}, {z:.3f})")
