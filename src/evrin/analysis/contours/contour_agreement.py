"""How well a surface's contours keep to the contours that it was given, or to any others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.contours.contour_lines import Contours, contours
from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.line_division import divided
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.query.nearest_lines import distances_to_lines

if TYPE_CHECKING:
    import pandas as pd

_PLACES_A_LINE = 40
_SAME_HEIGHT = 1e-9


@dataclass(frozen=True, eq=False)
class ContourFit:
    """Given contours beside those of a surface.

    Attributes
    ----------
    table : DataFrame
        A row a level: ``level``, ``lines``, ``length``, ``places``, ``mean``, ``largest``, and the ``easting`` and
        ``northing`` of the largest distance. NaN where the surface has no contour of that level.
    places : (k, 2) float64
        Where the distance was measured: along the given contours, as far as the surface reaches. It is 0 where the
        surface has the level there, as it has all over level ground.
    levels, distances : (k,) float64
        Level of each place, and its distance from the surface's own contour.
    own : Contours
        The surface's contours at the same levels.
    given : list of (n, 2) float64
        The given contours.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import contour_fit
    >>> import numpy as np
    >>> old = evrin.SourceLine("old", np.array([[1.0, 4, 1.5], [7, 4, 1.5]]))
    >>> contour_fit(field, [old]).largest
    0.0
    """

    table: pd.DataFrame
    places: Floats
    levels: Floats
    distances: Floats
    own: Contours
    given: list[Floats]

    @property
    def mean(self) -> float:
        """Mean distance over all places, NaN where none could be measured."""
        measured = self.distances[np.isfinite(self.distances)]
        return float(measured.mean()) if len(measured) else float("nan")

    @property
    def largest(self) -> float:
        """Largest distance of all."""
        measured = self.distances[np.isfinite(self.distances)]
        return float(measured.max()) if len(measured) else float("nan")


def level_of(line: SourceLine) -> float:
    """Return the one height that all vertices of a line have; NaN where there is none."""
    heights = line.points[np.isfinite(line.points[:, 2]), 2]
    return float(heights[0]) if len(heights) and (heights == heights[0]).all() else float("nan")


def contour_fit(surface: Surface, given: Sequence[SourceLine], spacing: float | None = None) -> ContourFit:
    """Return how far given contours lie from the surface's own, level by level.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    given : sequence of SourceLine
        Lines of one height each; others are ignored.
    spacing : float, optional
        Distance between the places along them at which it is measured, their vertices included; a fortieth of the
        mean length if not given.

    Returns
    -------
    ContourFit

    Raises
    ------
    DataError
        Where no line given has one height.

    Examples
    --------
    >>> import evrin
    >>> from evrin.surface import SourceLine
    >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
    >>> old = SourceLine("old", np.array([[2.0, 5.5, 1.0], [8.0, 5.5, 1.0]]))
    >>> fit = contour_fit(ramp, [old])
    >>> fit.mean, fit.largest
    (0.5, 0.5)
    """
    lines = [(level_of(line), line) for line in given if len(line.points) > 1]
    lines = [(level, line) for level, line in lines if np.isfinite(level)]
    if not lines:
        raise DataError("none of the lines given has one height of its own, so none is a contour")
    rings = [np.vstack((line.points, line.points[:1])) if line.closed else line.points for _, line in lines]
    lengths = np.array([float(np.hypot(*np.diff(ring[:, :2], axis=0).T).sum()) for ring in rings])
    step = spacing if spacing is not None else max(float(lengths.mean()) / _PLACES_A_LINE, 1e-9)
    if not step > 0.0:
        raise DataError(f"the spacing must be above 0; it is {step:g}")
    parts = [divided(np.ascontiguousarray(ring[:, :2]), step)[0] for ring in rings]
    heights = np.array([level for level, _ in lines])
    places = np.concatenate(parts)
    levels = np.repeat(heights, [len(part) for part in parts])
    inside = surface.triangles_at(*places.T) >= 0
    places, levels = places[inside], levels[inside]
    own = contours(surface, levels=heights)
    table, distances = _by_level(surface, own, places, levels, heights, lengths)
    drawn = [
        np.vstack((line.points, line.points[:1]))[:, :2] if line.closed else line.points[:, :2] for _, line in lines
    ]
    return ContourFit(table=table, places=places, levels=levels, distances=distances, own=own, given=drawn)


def _by_level(
    surface: Surface, own: Contours, places: Floats, levels: Floats, heights: Floats, lengths: Floats
) -> tuple[pd.DataFrame, Floats]:
    """A row for each level, and the distance of each place from the surface's own contour of its level."""
    import pandas as pd

    distances = np.full(len(places), np.nan)
    rows = []
    for k, level in enumerate(own.levels.tolist()):
        here = np.flatnonzero(levels == level)
        distances[here] = _to_level(own, k, places[here])
        # On ground that is level at that height a contour may run anywhere, and the given one does so rightly.
        lies_there = np.abs(surface.height(*places[here].T) - level) <= _SAME_HEIGHT * max(1.0, abs(level))
        distances[here[lies_there]] = 0.0
        drawn = heights == level
        row = [level, int(drawn.sum()), float(lengths[drawn].sum()), len(here)]
        measured = here[np.isfinite(distances[here])]
        if len(measured):
            worst = int(measured[np.argmax(distances[measured])])
            rows.append([*row, float(distances[measured].mean()), float(distances[worst]), *places[worst].tolist()])
        else:
            rows.append([*row, *[float("nan")] * 4])
    columns = ["level", "lines", "length", "places", "mean", "largest", "easting", "northing"]
    return pd.DataFrame(rows, columns=columns), distances


def _to_level(own: Contours, level: int, places: Floats) -> Floats:
    on_level = np.flatnonzero(own.level_of == level)
    if len(on_level) == 0:
        return np.full(len(places), np.nan)
    # Lines are in the order of their levels, so those of one level are one stretch.
    first, last = own.starts[on_level[0]], own.starts[on_level[-1] + 1]
    return distances_to_lines(places, own.points[first:last], own.starts[on_level[0] : on_level[-1] + 2] - first)
