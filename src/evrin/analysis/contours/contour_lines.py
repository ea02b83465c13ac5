"""Contour lines: straight from triangle to triangle, joined."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from evrin.analysis.contours.contour_tracing import crossed_triangles, trace_levels
from evrin.analysis.contours.smoothing import smoothed
from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.kernels import Flags, Floats, Indices, Ints
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import geopandas

_MOST_LEVELS = 100_000
_MOST_PIECES = 50_000_000


@dataclass(frozen=True)
class Contour:
    """One joined line: its level, places (k, 2), and whether it is closed, an index contour, around a depression.

    Parameters
    ----------
    level : float
        Its height.
    points : (k, 2) float64
        Easting and northing of its places.
    is_closed : bool
        Whether it ends where it began.
    is_index : bool
        Whether it is an index contour.
    is_depression : bool
        Whether it encloses lower ground.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> line = next(iter(field.contours(levels=[1.5])))
    >>> line.level, line.is_closed
    (1.5, False)
    """

    level: float
    points: Floats
    is_closed: bool
    is_index: bool
    is_depression: bool = False


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
        Which levels have index contours.
    units, crs : str
        Unit of all lengths, and reference system.
    interval : float or None
        Distance between levels, where they were asked for by one.
    smoothed : float
        The share of its corridor that each line was allowed for smoothing; 0 for lines as the triangles give them.
    label_height, label_spacing : float or None
        Height of the digits and distance between the labels of one line, in units of the ground, wherever the contours
        are drawn; None for what suits the drawing.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> lines = field.contours(0.5)
    >>> lines.levels.tolist(), len(lines)
    ([1.0, 1.5, 2.0], 2)
    """

    levels: Floats
    points: Floats
    starts: NDArray[np.int64]
    level_of: Ints
    is_index: Flags
    units: str = "m"
    crs: str = "local"
    interval: float | None = None
    smoothed: float = 0.0
    label_height: float | None = None
    label_spacing: float | None = None

    def to_geodataframe(self) -> geopandas.GeoDataFrame:
        """Return the contours as a GeoDataFrame of lines with heights.

        Returns
        -------
        GeoDataFrame
            ``level`` of each line, and ``index``: whether it is an index contour.

        Raises
        ------
        MissingPackageError
            If geopandas or shapely is not installed.
        """
        from evrin.formats.gis.geo_frames import contour_frame

        return contour_frame(self)

    def _repr_html_(self) -> str:
        from evrin.report.snippets import contours_snippet

        return contours_snippet(self)

    def __len__(self) -> int:
        return len(self.level_of)

    def __repr__(self) -> str:
        return f"<Contours: {len(self):,} lines on {len(self.levels):,} levels, {len(self.points):,} places>"

    def __iter__(self) -> Iterator[Contour]:
        for i in range(len(self)):
            yield self[i]

    def __getitem__(self, i: int) -> Contour:
        points = self.points[self.starts[i] : self.starts[i + 1]]
        level = int(self.level_of[i])
        closed = len(points) > 2 and bool((points[0] == points[-1]).all())
        index = bool(self.is_index[level])
        return Contour(float(self.levels[level]), points, closed, index, bool(self.is_depression[i]))

    @cached_property
    def is_depression(self) -> Flags:
        """(n,) bool: closed lines whose ground falls inwards.

        High ground is on the right of a line, so that one that runs anticlockwise has the low ground inside.
        """
        if len(self) == 0:
            return np.empty(0, np.bool_)
        first, last = self.points[self.starts[:-1]], self.points[self.starts[1:] - 1]
        # Places relative to the start of their own line, so that nothing is lost at full coordinates.
        x, y = (self.points - np.repeat(first, np.diff(self.starts), axis=0)).T
        twice = np.append(x[:-1] * y[1:] - x[1:] * y[:-1], 0.0)
        twice[self.starts[1:] - 1] = 0.0
        area = np.add.reduceat(twice, self.starts[:-1])
        return np.asarray((first == last).all(axis=1) & (area > 0.0))

    @property
    def lengths(self) -> Floats:
        """(n,) float64: plan length of each line."""
        steps = np.hypot(*np.diff(self.points, axis=0).T) if len(self.points) > 1 else np.empty(0)
        along = np.concatenate(([0.0], np.cumsum(steps)))
        return along[self.starts[1:] - 1] - along[self.starts[:-1]]


def levels_within(lowest: float, highest: float, interval: float, base: float = 0.0) -> Floats:
    """Return the levels from *lowest* to *highest* that lie whole intervals above or below *base*.

    Parameters
    ----------
    lowest, highest : float
        Between which levels are wanted.
    interval : float
        Distance between levels; more than 0.
    base : float
        A height that is a level.

    Returns
    -------
    (n,) float64
        Rising.

    Raises
    ------
    DataError
        For an interval that is not above 0, or that gives more than 100,000 levels.

    Examples
    --------
    >>> levels_within(9.9, 11.1, 0.5)
    array([10. , 10.5, 11. ])
    >>> levels_within(9.9, 11.1, 0.5, base=0.2)
    array([10.2, 10.7])
    """
    if not (interval > 0.0 and np.isfinite(interval)):
        raise DataError(f"the contour interval must be above 0; it is {interval:g}")
    if highest < lowest:
        return np.empty(0)
    first, last = np.ceil((lowest - base) / interval), np.floor((highest - base) / interval)
    if last - first >= _MOST_LEVELS:
        raise DataError(
            f"an interval of {interval:g} gives {last - first + 1:,.0f} levels between {lowest:g} and {highest:g}; "
            f"choose one of at least {(highest - lowest) / _MOST_LEVELS:.3g}"
        )
    decimals = max(0, 9 - int(np.floor(np.log10(interval))))
    return np.round(base + np.arange(first, last + 1) * interval, min(decimals, 12))


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
    base: float = 0.0,
    lowest: float | None = None,
    highest: float | None = None,
    smooth: float = 0.0,
) -> Contours:
    """Return the contours of a surface, joined: straight lines across its triangles, or smoothed.

    See `Surface.contours`.
    """
    heights, is_index = _checked_levels(surface, interval, levels, index, base, lowest, highest, smooth)
    facts: Row = {
        "is_index": is_index,
        "units": surface.units,
        "crs": surface.crs,
        "interval": interval,
        "smoothed": smooth,
    }
    _check_pieces(surface, heights)
    if len(heights) == 0:
        return Contours(heights, np.empty((0, 2)), np.zeros(1, np.int64), np.empty(0, np.int32), **facts)
    return Contours(heights, *_traced(surface, heights, smooth), **facts)


def _checked_levels(
    surface: Surface,
    interval: float | None,
    levels: ArrayLike | None,
    index: float | None,
    base: float,
    lowest: float | None,
    highest: float | None,
    smooth: float,
) -> tuple[Floats, Flags]:
    """The levels to draw, and which of them are index contours."""
    if (interval is None) == (levels is None):
        raise DataError("give either interval= or levels=")
    if not 0.0 <= smooth <= 1.0:
        raise DataError(f"smoothing runs from 0 to 1; it is {smooth:g}")
    heights = _levels(surface, interval, levels, base, lowest, highest)
    step = index if index is not None else usual_index(interval) if interval is not None else 0.0
    if step < 0.0:
        raise DataError(f"the index interval must be above 0; it is {step:g}")
    return heights, multiples(heights - base, step) if step > 0.0 else np.zeros(len(heights), np.bool_)


def _traced(surface: Surface, levels: Floats, smooth: float) -> tuple[Floats, Indices, Ints]:
    """Places, bounds and levels of all lines, smoothed where that is asked for."""
    starts, members = crossed_triangles(surface.vertices, surface.triangles, levels)
    # A line through k triangles has k + 1 places, and none crosses fewer than one triangle.
    points = np.empty((2 * len(members), 2))
    edges = np.empty((2 * len(members) if smooth > 0.0 else 0, 2), np.int32)
    ends = np.empty(len(members), np.int64)
    level_of = np.empty(len(members), np.int32)
    mesh = surface.vertices, surface.triangles, surface.mates
    whole = np.empty((0, 4), np.int32)
    count = trace_levels(*mesh, levels, starts, members, points, edges, ends, level_of, whole)
    bounds = np.concatenate((np.zeros(1, np.int64), ends[:count]))
    lines = points[: bounds[-1]]
    level_of = level_of[:count].copy()
    if smooth > 0.0:
        lines, bounds = smoothed(surface, levels, lines, edges[: bounds[-1]], bounds, level_of, smooth)
    return lines.copy(), bounds, level_of


def _levels(
    surface: Surface,
    interval: float | None,
    levels: ArrayLike | None,
    base: float,
    lowest: float | None,
    highest: float | None,
) -> Floats:
    heights = surface.vertices[:, 2]
    low = float(heights.min()) if lowest is None else max(float(heights.min()), lowest)
    high = float(heights.max()) if highest is None else min(float(heights.max()), highest)
    if lowest is not None and highest is not None and lowest > highest:
        raise DataError(f"the lowest level, {lowest:g}, lies above the highest, {highest:g}")
    if interval is not None:
        return levels_within(low, high, interval, base)
    listed = np.unique(np.asarray(levels, dtype=np.float64).ravel())
    if not np.isfinite(listed).all():
        raise DataError("levels must be finite")
    below = -np.inf if lowest is None else lowest
    above = np.inf if highest is None else highest
    return listed[(listed >= below) & (listed <= above)]


def _check_pieces(surface: Surface, levels: Floats) -> None:
    """Refuse levels so dense that drawing them would take minutes and gigabytes."""
    heights = surface.vertices[:, 2][surface.triangles]
    crossed = np.searchsorted(levels, heights.max(axis=1), "right") - np.searchsorted(levels, heights.min(axis=1))
    pieces = int(crossed.sum())
    if pieces > _MOST_PIECES:
        raise DataError(
            f"these {len(levels):,} levels would give contours of {pieces:,} pieces; at most {_MOST_PIECES:,} are "
            "drawn. Choose a wider interval or a range of levels."
        )


def multiples(levels: Floats, step: float) -> Flags:
    """Return which levels are whole multiples of a step.

    Examples
    --------
    >>> multiples(np.array([0.5, 1.0]), 1.0).tolist()
    [False, True]
    """
    return np.abs(levels / step - np.round(levels / step)) < 1e-6
