"""How steep the ground is, in every unit, and how much of it by band of slope, height or aspect."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, get_args

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd

SlopeUnit = Literal["ratio", "percent", "degrees", "one_in"]
SLOPE_UNITS: tuple[SlopeUnit, ...] = get_args(SlopeUnit)
COMPASS = ("N", "NE", "E", "SE", "S", "SW", "W", "NW")
LEVEL = 0.001


def slope_in(ratio: ArrayLike, unit: SlopeUnit) -> Floats:
    """Turn slopes, rise over run, into percent, degrees, or the run for a rise of 1.

    Examples
    --------
    >>> slope_in([0.0, 0.25, 1.0], "one_in").tolist(), slope_in(1.0, "percent").item()
    ([inf, 4.0, 1.0], 100.0)
    """
    values = np.asarray(ratio, np.float64)
    with np.errstate(divide="ignore"):
        return _known_unit(
            unit,
            {
                "ratio": lambda: values,
                "percent": lambda: 100.0 * values,
                "degrees": lambda: np.degrees(np.arctan(values)),
                "one_in": lambda: 1.0 / values,
            },
        )


def slope_from(values: ArrayLike, unit: SlopeUnit) -> Floats:
    """Turn slopes in some unit into rise over run.

    Examples
    --------
    >>> slope_from([20, 5], "one_in").tolist()
    [0.05, 0.2]
    """
    given = np.asarray(values, np.float64)
    with np.errstate(divide="ignore"):
        return _known_unit(
            unit,
            {
                "ratio": lambda: given,
                "percent": lambda: given / 100.0,
                "degrees": lambda: np.tan(np.radians(given)),
                "one_in": lambda: 1.0 / given,
            },
        )


def _known_unit(unit: str, turned: dict[str, object]) -> Floats:
    if unit not in turned:
        raise DataError(f"{unit!r} is not a unit of slope. Choose one of {', '.join(SLOPE_UNITS)}")
    return np.asarray(turned[unit]())  # type: ignore[operator]


def aspects(surface: Surface) -> Floats:
    """Return the bearing (m,) in degrees in which each triangle falls; NaN for one that is level.

    Clockwise from north, 0 up to 360. A triangle counts as level below a slope of 0.1 %.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [3, 0, 0], [3, 4, 3], [0, 4, 3]])
    >>> aspects(ramp).tolist()
    [180.0, 180.0]
    """
    east, north = surface.gradients.T
    bearing = np.degrees(np.arctan2(-east, -north)) % 360.0
    return np.where(surface.triangle_slopes >= LEVEL, bearing, np.nan)


def slope_bands(surface: Surface, limits: ArrayLike, unit: SlopeUnit = "ratio") -> pd.DataFrame:
    """Return the area of ground in each band of slope: `Surface.slope_bands`."""
    edges = slope_from(np.asarray(limits, np.float64).ravel(), unit)
    if len(edges) == 0 or not (edges > 0.0).all() or not (np.diff(edges) > 0.0).all():
        given = np.asarray(limits, np.float64).ravel().tolist()
        raise DataError(f"slope limits must rise from above 0, the steeper later; they are {given} ({unit})")
    slopes = surface.triangle_slopes
    real = np.isfinite(slopes)
    band = np.digitize(slopes, edges)
    marks = slope_in(np.concatenate(([0.0], edges, [np.inf])), unit)
    if unit == "degrees":
        marks[-1] = 90.0
    return _by_triangle(surface, band, real, {"from": marks[:-1], "to": marks[1:]})


def aspect_bands(surface: Surface) -> pd.DataFrame:
    """Return the area of ground that falls to each eighth of the compass, and of ground that is level.

    See `Surface.aspect_bands`.
    """
    bearing = aspects(surface)
    band = np.where(np.isnan(bearing), 8.0, np.floor((bearing + 22.5) % 360.0 / 45.0)).astype(np.int64)
    real = np.isfinite(surface.triangle_slopes)
    return _by_triangle(surface, band, real, {"falls": np.array([*COMPASS, "level"], object)})


def _by_triangle(surface: Surface, band: np.ndarray, real: Flags, heads: dict[str, np.ndarray]) -> pd.DataFrame:
    import pandas as pd

    count = len(next(iter(heads.values())))
    areas, slopes = surface.triangle_areas[real], surface.triangle_slopes[real]
    band = band[real]
    plan = np.bincount(band, areas, count)
    return pd.DataFrame(
        {
            **heads,
            "triangles": np.bincount(band, minlength=count),
            "plan_area": plan,
            "slope_area": np.bincount(band, areas * np.sqrt(1.0 + slopes**2), count),
            "share_percent": 100.0 * plan / plan.sum(),
        }
    )


def height_bands(surface: Surface, limits: ArrayLike) -> pd.DataFrame:
    """Return the area of ground in each band of height, triangles divided exactly where a limit crosses them.

    See `Surface.height_bands`.
    """
    import pandas as pd

    edges = np.asarray(limits, np.float64).ravel()
    if len(edges) == 0 or not np.isfinite(edges).all() or not (np.diff(edges) > 0.0).all():
        raise DataError(f"height limits must rise; they are {edges.tolist()}")
    corners = surface.vertices[surface.triangles, 2]
    corners.sort(axis=1)
    real = np.isfinite(surface.triangle_slopes)
    plan = np.where(real, surface.triangle_areas, 0.0)
    steep = plan * np.sqrt(1.0 + np.nan_to_num(surface.triangle_slopes) ** 2)
    parts = [_share_below(corners, level) for level in edges.tolist()]
    below_plan = np.array([0.0, *(float(plan @ part) for part in parts), float(plan.sum())])
    below_steep = np.array([0.0, *(float(steep @ part) for part in parts), float(steep.sum())])
    lowest, highest = float(corners[:, 0].min()), float(corners[:, 2].max())
    marks = np.concatenate(([min(lowest, edges[0])], edges, [max(highest, edges[-1])]))
    return pd.DataFrame(
        {
            "from": marks[:-1],
            "to": marks[1:],
            "plan_area": np.diff(below_plan),
            "slope_area": np.diff(below_steep),
            "share_percent": 100.0 * np.diff(below_plan) / below_plan[-1],
        }
    )


def _share_below(corners: Floats, level: float) -> Floats:
    """Share of each triangle's area that lies below a level; its corners' heights (m, 3) rise."""
    low, middle, high = corners.T
    with np.errstate(divide="ignore", invalid="ignore"):
        lower = (level - low) ** 2 / ((middle - low) * (high - low))
        upper = 1.0 - (high - level) ** 2 / ((high - low) * (high - middle))
    share = np.where(level < middle, lower, upper)
    return np.where(level <= low, 0.0, np.where(level >= high, 1.0, share))
