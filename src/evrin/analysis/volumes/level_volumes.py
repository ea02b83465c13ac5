"""Level, area and volume: what a surface holds below and above any level, exact at each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.contours.contour_lines import levels_within
from evrin.base.errors import DataError
from evrin.kernels import Floats, Ints
from evrin.making.combining.clipping import within_areas
from evrin.making.limits.limit_cells import AreasGiven, as_areas
from evrin.surface.surface import Surface
from evrin.tin.overlay.level_sums import sums_below

if TYPE_CHECKING:
    import pandas as pd

_MOST = 100_000


@dataclass(frozen=True, eq=False)
class LevelVolumes:
    """What lies between a surface and levels: asked at any level, and exact there.

    Attributes
    ----------
    surface : Surface
        Within its limit.
    area, slope_area : float
        Of all of it, plan and on the ground.
    moment : float
        Its heights times plan area: the volume above the level 0 less that below it.

    Examples
    --------
    >>> import evrin
    >>> bowl = evrin.triangulate([[0, 0, 3], [6, 0, 3], [6, 6, 3], [0, 6, 3], [3, 3, 0]], name="bowl")
    >>> bowl.level_volumes().table(1.0)["volume_below"].round(6).tolist()
    [0.0, 1.333333, 10.666667, 36.0]
    """

    surface: Surface
    area: float
    slope_area: float
    moment: float

    @classmethod
    def of(cls, surface: Surface) -> LevelVolumes:
        """Return the sums over a surface.

        Parameters
        ----------
        surface : Surface
            The surface to examine.

        Returns
        -------
        LevelVolumes
        """
        means = surface.vertices[:, 2][surface.triangles].mean(axis=1)
        return cls(surface, surface.plan_area, surface.slope_area, float((surface.triangle_areas * means).sum()))

    def sums_below(self, levels: ArrayLike) -> Floats:
        """Return plan area, volume and area on the ground that lie below each level.

        Parameters
        ----------
        levels : (n,) array_like
            The levels, in any order.

        Returns
        -------
        (n, 3) float64

        Raises
        ------
        DataError
            For no level, or one that is not finite.
        """
        return _sums(self.surface.vertices, self.surface.triangles, levels)

    def area_below(self, levels: ArrayLike) -> Floats:
        """Return the plan area that lies below each level.

        Parameters
        ----------
        levels : (n,) array_like
            The levels, in any order.

        Returns
        -------
        (n,) float64
        """
        return self.sums_below(levels)[:, 0]

    def volume_below(self, levels: ArrayLike) -> Floats:
        """Return the volume between each level and the ground below it, such as water in a pond.

        Parameters
        ----------
        levels : (n,) array_like
            The levels, in any order.

        Returns
        -------
        (n,) float64
        """
        return self.sums_below(levels)[:, 1]

    def volume_above(self, levels: ArrayLike) -> Floats:
        """Return the volume between the ground and each level below it, such as a heap.

        Parameters
        ----------
        levels : (n,) array_like
            The levels, in any order.

        Returns
        -------
        (n,) float64
        """
        turned = self.surface.vertices * np.array([1.0, 1.0, -1.0])
        return _sums(turned, self.surface.triangles, -np.asarray(levels, np.float64))[:, 1]

    def table(self, interval: float | None = None, levels: ArrayLike | None = None) -> pd.DataFrame:
        """Return a row for each level.

        Parameters
        ----------
        interval : float, optional
            Levels at its multiples, from that below the lowest ground to that above the highest.
        levels : (n,) array_like, optional
            Levels to use instead.

        Returns
        -------
        DataFrame
            Columns ``level``, ``area_below``, ``volume_below``, ``area_above``, ``volume_above``.

        Raises
        ------
        DataError
            For neither or both, an interval that is not above 0, or more than 100,000 levels.
        """
        import pandas as pd

        if (interval is None) == (levels is None):
            raise DataError("give either interval= or levels=")
        asked = np.asarray(levels, np.float64) if interval is None else self._levels_at(interval)
        below = self.sums_below(asked)
        columns = {"level": asked, "area_below": below[:, 0], "volume_below": below[:, 1]}
        return pd.DataFrame(
            {
                **columns,
                "area_above": np.maximum(self.area - below[:, 0], 0.0),
                "volume_above": self.volume_above(asked),
            }
        )

    def _levels_at(self, interval: float | None) -> Floats:
        heights = self.surface.vertices[:, 2][self.surface.triangles]
        low, high = float(heights.min()), float(heights.max())
        if interval is None or not 0.0 < interval <= 1e9 or (high - low) / interval > _MOST:
            raise DataError(f"an interval of levels must be above 0 and give no more than {_MOST:,}; it is {interval}")
        first, last = np.floor(low / interval + 1e-9), np.ceil(high / interval - 1e-9)
        inside = levels_within(low, high, interval)
        ends = np.array([first * interval, last * interval])
        return np.unique(np.round(np.concatenate((ends, inside)), 9))


def _sums(vertices: Floats, triangles: Ints, levels: ArrayLike) -> Floats:
    asked = np.atleast_1d(np.asarray(levels, np.float64))
    if asked.ndim != 1 or not len(asked) or not np.isfinite(asked).all() or np.abs(asked).max() > 1e12:
        raise DataError("levels must be heights, finite and at least one")
    order = np.argsort(asked, kind="stable")
    out, back = np.zeros((len(asked), 3)), np.empty((len(asked), 3))
    sums_below(vertices, triangles, asked[order], out)
    back[order] = out
    return back


def level_volumes(surface: Surface, within: AreasGiven = ()) -> LevelVolumes:
    """Return what a surface holds below and above levels, within areas where any are given: `Surface.level_volumes`."""
    return LevelVolumes.of(within_areas(surface, as_areas(within)))
