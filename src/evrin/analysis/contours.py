"""Contour lines: straight from triangle to triangle, joined."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from evrin.analysis.tracing import crossed_triangles, trace_levels
from evrin.errors import DataError
from evrin.surface import Surface
from evrin.tin.types import Flags, Floats, Ints

_MOST_LEVELS = 100_000


@dataclass(frozen=True)
class Contour:
    """One joined line: its level, places (k, 2), whether it is closed and whether it is an index contour."""

    level: float
    points: Floats
    is_closed: bool
    is_index: bool


@dataclass(frozen=True, eq=False)
class Contours:
    """Joined contour lines of a surface.

    Attributes
    ----------
    levels : (l,) float64
        The levels asked for, rising.
    points : (p, 2) float64
        All places, line after line; high ground is on the right. A closed line ends where it began.
    starts : (n + 1,) int64
        Line *i* is ``points[starts[i]:starts[i + 1]]``.
    level_of : (n,) int32
        Entry of *levels* for each line.
    is_index : (l,) bool
    units, crs : str
    """

    levels: Floats
    points: Floats
    starts: NDArray[np.int64]
    level_of: Ints
    is_index: Flags
    units: str = "m"
    crs: str = "local"

    def __len__(self) -> int:
        return len(self.level_of)

    def __iter__(self) -> Iterator[Contour]:
        for i in range(len(self)):
            yield self[i]

    def __getitem__(self, i: int) -> Contour:
        points = self.points[self.starts[i] : self.starts[i + 1]]
        level = int(self.level_of[i])
        closed = len(points) > 2 and bool((points[0] == points[-1]).all())
        return Contour(float(self.levels[level]), points, closed, bool(self.is_index[level]))

    @property
    def lengths(self) -> Floats:
        """(n,) float64: plan length of each line."""
        steps = np.hypot(*np.diff(self.points, axis=0).T) if len(self.points) > 1 else np.empty(0)
        along = np.concatenate(([0.0], np.cumsum(steps)))
        return along[self.starts[1:] - 1] - along[self.starts[:-1]]


def levels_within(lowest: float, highest: float, interval: float) -> Floats:
    """Return the multiples of *interval* from *lowest* to *highest*.

    Raises
    ------
    DataError
        For an interval that is not above 0, or that gives more than 100,000 levels.

    Examples
    --------
    >>> levels_within(9.9, 11.1, 0.5)
    array([10. , 10.5, 11. ])
    """
    if not (interval > 0.0 and np.isfinite(interval)):
        raise DataError(f"the contour interval must be above 0; it is {interval:g}")
    first, last = np.ceil(lowest / interval), np.floor(highest / interval)
    if last - first >= _MOST_LEVELS:
        raise DataError(
            f"an interval of {interval:g} gives {last - first + 1:,.0f} levels between {lowest:g} and {highest:g}; "
            f"choose one of at least {(highest - lowest) / _MOST_LEVELS:.3g}"
        )
    decimals = max(0, 9 - int(np.floor(np.log10(interval))))
    return np.round(np.arange(first, last + 1) * interval, min(decimals, 12))


def usual_index(interval: float) -> float:
    """Return four or five intervals, whichever is the rounder number.

    Examples
    --------
    >>> usual_index(0.25), usual_index(1.0)
    (1.0, 5.0)
    """
    mantissa = interval / 10.0 ** np.floor(np.log10(interval))
    return interval * (4.0 if abs(mantissa - 2.5) < 1e-9 else 5.0)


def contours(
    surface: Surface,
    interval: float | None = None,
    *,
    levels: ArrayLike | None = None,
    index: float | None = None,
) -> Contours:
    """Return the contours of a surface, joined, as straight lines across its triangles.

    A contour bounds the ground at or above its level. Where vertices or whole triangles lie on the level exactly, the
    line runs along the lower edge of that ground: round a flat top, not across it; a flat floor has none.

    Parameters
    ----------
    surface : Surface
    interval : float, optional
        Levels are its multiples.
    levels : array_like, optional
        Levels to draw instead.
    index : float, optional
        Levels that are multiples of this are index contours; see `usual_index` for what counts if not given.

    Returns
    -------
    Contours
        By rising level; high ground on the right.

    Raises
    ------
    DataError
        Where neither or both of *interval* and *levels* are given, or they make no sense.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
    >>> [(line.level, line.points[0].tolist(), line.points[-1].tolist()) for line in ramp.contours(levels=[1])]
    [(1.0, [10.0, 5.0], [0.0, 5.0])]
    """
    if (interval is None) == (levels is None):
        raise DataError("give either interval= or levels=")
    if interval is not None:
        heights = surface.vertices[:, 2]
        chosen = levels_within(float(heights.min()), float(heights.max()), interval)
    else:
        chosen = np.unique(np.asarray(levels, dtype=np.float64).ravel())
        if not np.isfinite(chosen).all():
            raise DataError("levels must be finite")
    step = index if index is not None else usual_index(interval) if interval is not None else 0.0
    if step < 0.0:
        raise DataError(f"the index interval must be above 0; it is {step:g}")
    is_index = _is_multiple(chosen, step) if step > 0.0 else np.zeros(len(chosen), np.bool_)
    if len(chosen) == 0:
        nothing = np.zeros(1, np.int64)
        return Contours(chosen, np.empty((0, 2)), nothing, np.empty(0, np.int32), is_index, surface.units, surface.crs)
    starts, members = crossed_triangles(surface.vertices, surface.triangles, chosen)
    # A line through k triangles has k + 1 places, and none crosses fewer than one triangle.
    points = np.empty((2 * len(members), 2))
    ends = np.empty(len(members), np.int64)
    level_of = np.empty(len(members), np.int32)
    count = trace_levels(
        surface.vertices, surface.triangles, surface.mates, chosen, starts, members, points, ends, level_of
    )
    bounds = np.concatenate((np.zeros(1, np.int64), ends[:count]))
    return Contours(
        chosen, points[: bounds[-1]].copy(), bounds, level_of[:count].copy(), is_index, surface.units, surface.crs
    )


def _is_multiple(levels: Floats, step: float) -> Flags:
    return np.abs(levels / step - np.round(levels / step)) < 1e-6
