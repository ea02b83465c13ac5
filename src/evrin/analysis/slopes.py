"""How steep the ground is, by band."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import ArrayLike

from evrin.errors import DataError
from evrin.surface import Surface


def slope_bands(surface: Surface, limits: ArrayLike) -> pd.DataFrame:
    """Return the area of ground in each band of slope.

    Parameters
    ----------
    surface : Surface
    limits : (k,) array_like
        Rising limits, rise over run, above 0. Bands run from 0 to the first, between each two, and beyond the last;
        a slope on a limit counts in the steeper band.

    Returns
    -------
    DataFrame
        A row a band: ``from``, ``to`` (rise over run, the last infinite), ``triangles``, ``plan_area``,
        ``slope_area``, ``share_percent`` of the plan area.

    Raises
    ------
    DataError
        For limits that do not rise from above 0.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [3, 0, 0], [3, 4, 3], [0, 4, 3]])
    >>> ramp.slope_bands([0.5, 1.0])[["from", "plan_area", "slope_area"]].values.tolist()
    [[0.0, 0.0, 0.0], [0.5, 12.0, 15.0], [1.0, 0.0, 0.0]]
    """
    edges = np.asarray(limits, np.float64).ravel()
    if len(edges) == 0 or not (edges > 0.0).all() or not (np.diff(edges) > 0.0).all():
        raise DataError(f"slope limits must rise from above 0; they are {edges.tolist()}")
    slopes, areas = surface.triangle_slopes, surface.triangle_areas
    real = np.isfinite(slopes)
    band = np.digitize(slopes[real], edges)
    count = len(edges) + 1
    plan = np.bincount(band, areas[real], count)
    steep = np.bincount(band, areas[real] * np.sqrt(1.0 + slopes[real] ** 2), count)
    return pd.DataFrame(
        {
            "from": np.concatenate(([0.0], edges)),
            "to": np.concatenate((edges, [np.inf])),
            "triangles": np.bincount(band, minlength=count),
            "plan_area": plan,
            "slope_area": steep,
            "share_percent": 100.0 * plan / plan.sum(),
        }
    )
