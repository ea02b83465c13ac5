"""Independent check points: how far a surface departs from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import ArrayLike

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.base.tolerances import CHANGED
from evrin.kernels import Flags, Floats
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False)
class CheckPoints:
    """Check points beside a surface.

    Attributes
    ----------
    table : DataFrame
        A row a point, in the order given: ``name``, ``easting``, ``northing``, ``measured``, ``surface``, ``deviation``
        (surface less measured; NaN off the surface), ``own`` (it is a vertex of the surface itself, so that it proves
        nothing: no figure counts it), ``within`` (the tolerance; missing where there is none).
    tolerance : float or None
        The largest deviation that passes; None if nothing is to be judged.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> checked = field.check_points([[4, 4, 1.52]], tolerance=0.05)
    >>> checked.passed, round(float(checked.deviations[0]), 3)
    (True, -0.02)
    """

    table: pd.DataFrame
    tolerance: float | None

    @property
    def deviations(self) -> Floats:
        """(k,) float64: the deviations of independent points on the surface."""
        return self._independent["deviation"].to_numpy()

    @property
    def own(self) -> int:
        """How many points are vertices of the surface itself, which no figure counts."""
        return int(self.table["own"].sum())

    @property
    def _independent(self) -> pd.DataFrame:
        return self.table[self.table["deviation"].notna() & ~self.table["own"]]

    @property
    def off_surface(self) -> int:
        """How many points lie off the surface."""
        return int(self.table["deviation"].isna().sum())

    @property
    def beyond(self) -> int:
        """How many points deviate by more than the tolerance."""
        return 0 if self.tolerance is None else int((np.abs(self.deviations) > self.tolerance).sum())

    @property
    def passed(self) -> bool | None:
        """Whether every independent point on the surface keeps the tolerance; None without either."""
        return None if self.tolerance is None or len(self.deviations) == 0 else self.beyond == 0

    def figures(self) -> Row:
        """Return the figures of the deviations; NaN where there are too few.

        Returns
        -------
        dict
            ``count``, ``off_surface``, ``own``, ``mean``, ``standard_deviation`` (n - 1), ``rmse``, ``accuracy_95``,
            ``percentile_95`` of the absolute deviations, ``largest`` (with its sign), ``largest_at`` (the point's
            name), ``tolerance``, ``beyond``, ``passed``.

        Notes
        -----
        ``accuracy_95`` is 1.96 times the RMSE: 95 % of the deviations lie within it where they are normal and without
        bias (FGDC-STD-007.3-1998, National Standard for Spatial Data Accuracy). Where they are not, as under trees,
        ``percentile_95`` is the figure to quote.
        """
        deviations = self.deviations
        enough = len(deviations) > 0
        rmse = float(np.sqrt(np.mean(deviations**2))) if enough else float("nan")
        independent = self._independent
        worst = independent.iloc[int(np.argmax(np.abs(deviations)))] if enough else None
        return {
            "count": len(deviations),
            "off_surface": self.off_surface,
            "own": self.own,
            "mean": float(deviations.mean()) if enough else float("nan"),
            "standard_deviation": float(deviations.std(ddof=1)) if len(deviations) > 1 else float("nan"),
            "rmse": rmse,
            "accuracy_95": 1.96 * rmse,
            "percentile_95": float(np.quantile(np.abs(deviations), 0.95)) if enough else float("nan"),
            "largest": float(worst["deviation"]) if worst is not None else float("nan"),
            "largest_at": str(worst["name"]) if worst is not None else "",
            "tolerance": self.tolerance,
            "beyond": self.beyond,
            "passed": self.passed,
        }


def check_points(
    surface: Surface, xyz: ArrayLike, names: Sequence[str] | None = None, tolerance: float | None = None
) -> CheckPoints:
    """Compare a surface with independent check points: `Surface.check_points`."""
    import pandas as pd

    measured = np.array(xyz, dtype=np.float64)
    if measured.ndim != 2 or measured.shape[1] != 3 or len(measured) == 0:
        raise DataError(f"check points must have shape (k, 3) with k at least 1; they have {measured.shape}")
    if not np.isfinite(measured).all():
        bad = int(np.argmax(~np.isfinite(measured).all(axis=1)))
        raise DataError(f"check point {names[bad] if names is not None else bad + 1} is not finite")
    if tolerance is not None and not tolerance >= 0.0:
        raise DataError(f"the tolerance must not be below 0; it is {tolerance:g}")
    called = [str(k) for k in range(1, len(measured) + 1)] if names is None else [str(name) for name in names]
    x, y, z = measured.T
    heights = surface.height(x, y)
    deviations = heights - z
    table = pd.DataFrame(
        {
            "name": called,
            "easting": x,
            "northing": y,
            "measured": z,
            "surface": heights,
            "deviation": deviations,
            "own": _is_vertex(surface, measured),
        }
    )
    if tolerance is not None:
        table["within"] = pd.Series(np.abs(deviations) <= tolerance, dtype=object).where(~np.isnan(deviations), None)
    return CheckPoints(table, tolerance)


def _is_vertex(surface: Surface, measured: Floats) -> Flags:
    """Which places are vertices of a surface, to the millimetre in plan and height."""
    tree = scipy.spatial.cKDTree(surface.vertices)
    return np.asarray(tree.query(measured)[0]) <= CHANGED.in_units(surface.units)
