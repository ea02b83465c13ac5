"""`triangulate`: from arrays of points, breaklines and boundaries to a surface."""

from __future__ import annotations

import logging
import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, cast

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.framed_points import places_in
from evrin.making.limits.cleaned_rings import cleaned_ring
from evrin.making.triangulation import Triangulation
from evrin.surface.surface import SourceLine, Surface

if TYPE_CHECKING:
    import pandas as pd

_LOG = logging.getLogger("evrin")
_LARGEST = 1e12


def as_points(points: ArrayLike, what: str = "points") -> Floats:
    """Return (n, 3) float64, the same where it is that, refusing wrong shapes and numbers that cannot be coordinates.

    Raises
    ------
    DataError
        Naming the first row at fault.
    """
    if hasattr(points, "columns"):
        points = places_in(cast("pd.DataFrame", points))
    try:
        array = np.require(points, np.float64, ["C_CONTIGUOUS", "WRITEABLE", "ENSUREARRAY"])
    except (TypeError, ValueError) as error:
        raise DataError(f"{what} must be numbers of shape (n, 3): {error}") from error
    if array.ndim != 2 or array.shape[1] != 3:
        raise DataError(f"{what} must have shape (n, 3): easting, northing, height; they have {array.shape}")
    # What is not finite shows in the smallest or the largest.
    low, high = (float(array.min()), float(array.max())) if len(array) else (0.0, 0.0)
    if not (math.isfinite(low) and math.isfinite(high)):
        bad = ~np.isfinite(array).all(axis=1)
        row = int(np.flatnonzero(bad)[0])
        raise DataError(f"{what}: row {row} is {array[row].tolist()}; every number must be finite ({bad.sum()} rows)")
    if max(-low, high) > _LARGEST:
        raise DataError(f"{what}: {max(-low, high):g} is not a coordinate; at most {_LARGEST:g} is allowed")
    return array


def as_line(points: ArrayLike, name: str, *, closed: bool = False, effect: str = "breakline") -> SourceLine:
    """Return a line from (k, 3), or from (k, 2) where its heights come from the ground.

    Raises
    ------
    DataError
        For a wrong shape, a place that is not finite, or too few vertices.
    """
    array = np.array(points, dtype=np.float64)
    if array.ndim != 2 or array.shape[1] not in (2, 3):
        raise DataError(f"{name} must have shape (k, 3) or (k, 2); it has {array.shape}")
    if array.shape[1] == 2:
        array = np.column_stack((array, np.full(len(array), np.nan)))
    if not np.isfinite(array[:, :2]).all() or np.isinf(array[:, 2]).any():
        raise DataError(f"{name}: a vertex is not finite")
    if closed and len(array) > 1 and (array[0, :2] == array[-1, :2]).all():
        array = array[:-1]
    if len(array) < (3 if closed else 2):
        raise DataError(f"{name} has {len(array)} vertices; it needs {3 if closed else 2}")
    return SourceLine(name, array, closed, effect)


def as_ring(points: ArrayLike, name: str, effect: str = "keep") -> SourceLine:
    """Return a closed ring without repeated vertices and spikes, which are logged.

    Raises
    ------
    DataError
        For a wrong shape, too few vertices, or one that is not finite.
    """
    ring = as_line(points, name, closed=True, effect=effect)
    clean, cleaning = cleaned_ring(ring.points, name)
    if str(cleaning):
        _LOG.info("%s: %s", name, cleaning)
    return replace(ring, points=clean)


def triangulate(
    points: ArrayLike,
    breaklines: Sequence[ArrayLike] = (),
    boundaries: Sequence[ArrayLike] = (),
    *,
    longest_edge: float | None = None,
    crisp: bool = True,
    name: str = "surface",
    units: str = "m",
    crs: str = "local",
) -> Surface:
    """Triangulate points, with breaklines no triangle crosses and boundaries that limit the surface.

    Parameters
    ----------
    points : (n, 3) array_like, DataFrame or GeoDataFrame
        Easting, northing, height. Points at one place merge; unlike heights there give their mean. Of a
        GeoDataFrame the reference system is not taken over; state it as *crs*.
    breaklines : sequence of (k, 3) or (k, 2) array_like
        With heights of their own, or on the ground between the points. Where two cross, the mean height is used.
    boundaries : sequence of (k, 2) or (k, 3) array_like
        Closed rings; what is inside an odd number of them is kept. Heights are not used.
    longest_edge : float, optional
        Triangles are removed from the rim inwards while they have a free edge longer than this.
    crisp : bool
        Cut triangles along the boundaries, or keep or remove each as a whole.
    name, units, crs : str
        Of the surface: ``m``, ``ft`` or ``ftUS``, and a reference system such as ``EPSG:25832``.

    Returns
    -------
    Surface
        The same, bit for bit, whatever the order of the rows.

    Raises
    ------
    DataError
        For input that is not finite numbers of the shapes above.
    GeometryError
        Where fewer than three places, or all on one line, or what boundaries leave, give no triangle.

    References
    ----------
    Lawson (1977), https://doi.org/10.1016/B978-0-12-587260-7.50011-X; Sloan (1993), `evrin.tin.mesh.forced`.

    Examples
    --------
    >>> import evrin
    >>> square = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2], [0, 4, 2]])
    >>> square
    <Surface 'surface': 4 vertices, 2 triangles>
    >>> square.plan_area
    16.0
    """
    lines = [as_line(line, f"breakline {k}") for k, line in enumerate(breaklines)]
    rings = [as_ring(ring, f"boundary {k}") for k, ring in enumerate(boundaries)]
    work = Triangulation(as_points(points), lines)
    if longest_edge is not None:
        if not longest_edge > 0.0:
            raise DataError(f"longest_edge must be above 0; it is {longest_edge}")
        work.mesh.trim(longest_edge)
    work.carve([rings], crisp=crisp)
    return work.surface(rings, name=name, units=units, crs=crs)[0]


def several(rings: Any) -> Sequence[ArrayLike]:
    """Return rings as a sequence, where they may be a single one: places instead of rings."""
    is_one = len(rings) > 0 and len(rings[0]) > 0 and np.ndim(rings[0][0]) == 0
    return [rings] if is_one else rings
