"""Carrying the ground out to a boundary drawn beyond the data."""

from __future__ import annotations

import numpy as np
import scipy

from evrin.base.errors import GeometryError
from evrin.kernels import Floats, Ints
from evrin.making.line_division import divided
from evrin.surface.surface import Surface

_FEWEST, _MOST = 24, 400
_BASE = 2.0
_LEAST_SPREAD = 0.05
# So many times its width beyond the data there is nothing left to go by.
_ABSURD = 2.0
# Extrapolated ground is smooth; a ring far away needs no places as close together as shots.
MOST_ON_RING = 4000


def heights_beyond(vertices: Floats, rim: Ints, places: Floats, feet: Floats | None = None) -> Floats:
    """Return heights at places beyond a surface, extrapolated so that the ground keeps its slope.

    From the nearest place on the rim the ground continues along the plane that fits the vertices around there best: all
    those within twice the distance, and at least two dozen, near ones weighing most, so that the slope is
    that of a stretch of ground as long as the reach, not that of the last triangle (local regression, Cleveland 1979).

    Parameters
    ----------
    vertices : (n, 3) float64
        Of the surface.
    rim : (e, 2) int32
        The vertices at either end of each edge of the rim.
    places : (m, 2) float64
        Beyond it.
    feet : (m, 3) float64, optional
        The nearest place on the rim to each, where that is known.

    Returns
    -------
    (m,) float64

    References
    ----------
    Cleveland, W. S. (1979), Robust locally weighted regression and smoothing scatterplots,
    https://doi.org/10.1080/01621459.1979.10481038.

    Examples
    --------
    >>> import evrin
    >>> east, north = np.meshgrid(np.arange(5.0), np.arange(5.0))
    >>> ramp = evrin.triangulate(np.column_stack((east.ravel(), north.ravel(), 0.5 * east.ravel())))
    >>> heights_beyond(ramp.vertices, rim_edges(ramp), np.array([[8.0, 2.0]])).round(9).tolist()
    [4.0]
    """
    tree = scipy.spatial.cKDTree(vertices[:, :2])
    out = np.empty(len(places))
    for k, (place, foot) in enumerate(
        zip(places, feet_on_rim(vertices, rim, places) if feet is None else feet, strict=True)
    ):
        offset = place - foot[:2]
        east, north = _slope_round(tree, vertices, foot[:2], _BASE * float(np.hypot(*offset)))
        out[k] = foot[2] + east * offset[0] + north * offset[1]
    return out


def rim_edges(surface: Surface) -> Ints:
    """Return the vertices at either end of each edge of a surface's rim."""
    half = np.flatnonzero(surface.mates < 0)
    return np.column_stack((surface.triangles[half // 3, half % 3], surface.triangles[half // 3, (half + 1) % 3]))


def feet_on_rim(vertices: Floats, rim: Ints, places: Floats) -> Floats:
    """Return the nearest place on the rim to each place (m, 2), with its height, as (m, 3)."""
    start, end = vertices[rim[:, 0]], vertices[rim[:, 1]]
    leg = end[:, :2] - start[:, :2]
    square = np.maximum((leg**2).sum(axis=1), 1e-300)
    out = np.empty((len(places), 3))
    for k, place in enumerate(places):
        part = ((place - start[:, :2]) * leg).sum(axis=1) / square
        foot = start + np.clip(part, 0.0, 1.0)[:, None] * (end - start)
        out[k] = foot[np.argmin(((foot[:, :2] - place) ** 2).sum(axis=1))]
    return out


def _slope_round(tree: scipy.spatial.cKDTree, vertices: Floats, foot: Floats, reach: float) -> tuple[float, float]:
    neighbours = tree.query(foot, k=np.arange(1, min(_MOST, len(vertices)) + 1))
    distance, near = np.asarray(neighbours[0]), np.asarray(neighbours[1])
    count = max(int(np.searchsorted(distance, reach)), min(_FEWEST, len(vertices)))
    distance, near = distance[:count], near[:count]
    span = max(reach, float(distance[-1]) * 1.001, 1e-9)
    weight = np.sqrt((1.0 - np.minimum(distance / span, 1.0) ** 3) ** 3)
    xyz = vertices[near]
    matrix = np.column_stack(((xyz[:, :2] - foot) / span, np.ones(count))) * weight[:, None]
    # Vertices close to one line give the slope along it, and none across.
    east, north, _ = np.linalg.lstsq(matrix, (xyz[:, 2] - xyz[0, 2]) * weight, rcond=_LEAST_SPREAD)[0]
    return float(east / span), float(north / span)


def drawn_nearer(surface: Surface, feet: Floats, places: Floats, most: float, name: str) -> Floats:
    """Return places beyond a surface, those farther than *most* from its rim drawn nearer to that distance.

    Parameters
    ----------
    surface : Surface
        The surface to start from.
    feet : (m, 3) float64
        The nearest place on the rim to each.
    places : (m, 2) float64
        Beyond the surface.
    most : float
        The largest distance from the rim.
    name : str
        Of the boundary, for the message.

    Raises
    ------
    GeometryError
        Where one is farther from the surface than twice the width of this.
    """
    legs = places - feet[:, :2]
    lengths = np.hypot(*legs.T)
    farthest = min(float(lengths.max()), most)
    width = float(np.hypot(*np.ptp(surface.vertices[:, :2], axis=0)))
    if farthest > _ABSURD * width:
        unit = surface.units
        raise GeometryError(
            f"boundary {name}: the ground would be extrapolated {farthest:,.1f} {unit} beyond data that is "
            f"{width:,.1f} {unit} across. Draw the boundary nearer, or limit it, as in reach = {width / 10.0:.2g}"
        )
    is_far = lengths > most
    out = places.copy()
    out[is_far] = feet[is_far, :2] + legs[is_far] * (most / lengths[is_far])[:, None]
    return out


def dense_ring(ring: Floats, spacing: float) -> Floats:
    """Return a ring with places between its vertices, so that the ground can follow it.

    They are at most *spacing* apart, or more where that would be over MOST_ON_RING of them.

    Raises
    ------
    DataError
        For a spacing that is not above 0.
    """
    around = np.vstack((ring[:, :2], ring[:1, :2]))
    length = float(np.hypot(*np.diff(around, axis=0).T).sum())
    return divided(around, max(spacing, length / MOST_ON_RING) if spacing > 0.0 else spacing)[0][:-1]
