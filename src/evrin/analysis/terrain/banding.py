"""Areas by band with usual limits where none are given."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.contours.contour_lines import levels_within
from evrin.analysis.terrain.slopes import SlopeUnit, aspect_bands, height_bands, slope_bands, slope_in
from evrin.base.errors import DataError
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd

SLOPE_LIMITS = (0.02, 0.05, 0.10, 0.20, 0.33, 0.50)


def areas_of(
    surface: Surface, by: str = "slope", limits: Sequence[float] = (), unit: SlopeUnit = "percent"
) -> pd.DataFrame:
    """Return plan and slope area by band of slope, height or aspect.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    by : {"slope", "height", "aspect"}
        What the bands are of.
    limits : sequence of float
        Slopes in *unit* from flatter to steeper, or heights; usual ones if not given.
    unit : {"percent", "degrees", "one_in", "ratio"}
        Unit of slopes.

    Returns
    -------
    DataFrame
        Columns ``from``, ``to``, ``triangles``, ``plan_area``, ``slope_area``, ``share_percent``.

    Raises
    ------
    DataError
        For something else that there are no bands of, limits that do not rise, or limits of aspect.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [3, 0, 0], [3, 4, 3], [0, 4, 3]])
    >>> areas_of(ramp, "height")["to"].tolist()
    [0.5, 1.0, 1.5, 2.0, 2.5, 3.0]
    """
    if by == "slope":
        bounds = np.asarray(limits if len(limits) else np.round(slope_in(SLOPE_LIMITS, unit), 6))
        return slope_bands(surface, bounds, unit)
    if by == "height":
        return height_bands(surface, limits if len(limits) else usual_levels(surface))
    if by == "aspect":
        if len(limits):
            raise DataError("aspect has the eight points of the compass for bands and takes no limits")
        return aspect_bands(surface)
    raise DataError(f"there are bands of slope, height and aspect, not of {by}")


def usual_levels(surface: Surface) -> list[float]:
    """Return round heights that divide a surface into about six bands."""
    low, high = float(surface.vertices[:, 2].min()), float(surface.vertices[:, 2].max())
    rough = max(high - low, 1e-6) / 6.0
    power = 10.0 ** np.floor(np.log10(rough))
    step = next(k * power for k in (1.0, 2.0, 5.0, 10.0) if k * power >= rough - 1e-12)
    inside = [level for level in levels_within(low, high, step).tolist() if low < level < high]
    return inside or [(low + high) / 2.0]


def usual_interval(surface: Surface) -> float:
    """Return a round contour interval that draws about two dozen levels.

    Examples
    --------
    >>> import evrin
    >>> usual_interval(evrin.triangulate([[0, 0, 0], [3, 0, 0], [3, 4, 6], [0, 4, 6]]))
    0.25
    """
    levels = usual_levels(surface)
    return round((levels[1] - levels[0]) / 4.0, 9) if len(levels) > 1 else 0.5
