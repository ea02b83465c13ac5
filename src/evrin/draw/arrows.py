"""Arrows down the slope, at the spacing of a picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from evrin.analysis.terrain.slopes import LEVEL
from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.surface.surface import Surface

_MOST = 250_000


@dataclass(frozen=True, eq=False)
class Arrows:
    """Directions in which the ground falls.

    Attributes
    ----------
    places : (k, 2) float64
        Where they start.
    directions : (k, 2) float64
        Unit vectors in plan.
    slopes : (k,) float64
        Rise over run.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import flow_arrows
    >>> flow_arrows(field, 4.0).directions[0]
    array([-0., -1.])
    """

    places: Floats
    directions: Floats
    slopes: Floats


def flow_arrows(surface: Surface, spacing: float, window: tuple[float, float, float, float] | None = None) -> Arrows:
    """Return an arrow at each node of a staggered lattice; none where the ground is level (below 0.1 %).

    Parameters
    ----------
    surface : Surface
        What is drawn.
    spacing : float
        Plan distance between arrows.
    window : (west, south, east, north), optional
        The part to look at; all of it if not given.

    Returns
    -------
    Arrows

    Raises
    ------
    DataError
        For a spacing that is not above 0 or gives more than 250,000 nodes.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [9, 0, 0], [9, 9, 3], [0, 9, 3]])
    >>> arrows = flow_arrows(ramp, 3.0)
    >>> len(arrows.places), np.unique(arrows.directions.round(9), axis=0).tolist()
    (9, [[-0.0, -1.0]])
    """
    places = lattice(surface, spacing, window)
    triangles = surface.triangles_at(*places.T)
    slopes = np.where(triangles >= 0, surface.triangle_slopes[triangles], np.nan)
    falls = slopes >= LEVEL
    directions = -surface.gradients[triangles[falls]] / slopes[falls, None]
    return Arrows(places[falls], directions, slopes[falls])


def lattice(surface: Surface, spacing: float, window: tuple[float, float, float, float] | None = None) -> Floats:
    """Return places (k, 2) on a surface, in staggered rows at a spacing.

    Raises
    ------
    DataError
        As `flow_arrows` does.
    """
    west, south, east, north = window or surface.extent
    if not spacing > 0.0 or (east - west) / spacing * ((north - south) / spacing) > _MOST:
        raise DataError(f"a spacing of {spacing:g} gives no picture that can be read; choose a wider one")
    x = np.arange(west + spacing / 2.0, east, spacing)
    y = np.arange(south + spacing / 2.0, north, spacing)
    grid_x, grid_y = np.meshgrid(x, y)
    grid_x[1::2] += spacing / 4.0
    grid_x[::2] -= spacing / 4.0
    places = np.column_stack((grid_x.ravel(), grid_y.ravel()))
    return np.ascontiguousarray(places[surface.triangles_at(*places.T) >= 0])
