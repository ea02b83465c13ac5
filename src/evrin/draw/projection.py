"""What of a surface is seen from a direction: parallel projection and hidden parts, sample by sample."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from evrin.analysis.terrain.visibility import paint, stroke
from evrin.base.errors import DataError
from evrin.kernels import Floats, Ints
from evrin.surface.surface import Surface

# Lines lie on the surface; this part of the picture's depth keeps them before it.
_BEFORE = 0.004
_SKIRT = 0.06
_EXAGGERATIONS = (1.0, 1.5, 2.0, 3.0, 5.0, 10.0, 20.0, 50.0)
_RELIEF_WANTED = 0.12


@dataclass(frozen=True)
class Viewpoint:
    """A direction to look from.

    Attributes
    ----------
    from_deg : float
        Bearing of the eye from the site, clockwise from north: 225 looks from the south-west.
    above_deg : float
        How far the eye is above the horizon, above 0 and up to 90.
    exaggeration : float
        By how much heights are stretched.
    """

    from_deg: float = 225.0
    above_deg: float = 30.0
    exaggeration: float = 1.0

    def __post_init__(self) -> None:
        if not 0.0 < self.above_deg <= 90.0:
            raise DataError(f"the eye must be above the horizon by up to 90 degrees; it is by {self.above_deg:g}")
        if not (self.exaggeration > 0.0 and np.isfinite(self.exaggeration)):
            raise DataError(f"the exaggeration must be above 0; it is {self.exaggeration:g}")

    def project(self, points: Floats) -> Floats:
        """Return (n, 3): right, up, and away from the eye, of points (n, 3) relative to some origin."""
        bearing, above = np.radians(self.from_deg), np.radians(self.above_deg)
        ahead = np.array([-np.sin(bearing), -np.cos(bearing)])
        right = points[:, :2] @ np.array([ahead[1], -ahead[0]])
        along, height = points[:, :2] @ ahead, points[:, 2] * self.exaggeration
        return np.column_stack(
            (
                right,
                along * np.sin(above) + height * np.cos(above),
                along * np.cos(above) - height * np.sin(above),
            )
        )


def usual_exaggeration(surface: Surface) -> float:
    """Return the usual factor that makes the relief about an eighth of the extent.

    Examples
    --------
    >>> import evrin
    >>> usual_exaggeration(evrin.triangulate([[0, 0, 0], [100, 0, 0], [100, 100, 2], [0, 100, 2]]))
    5.0
    """
    west, south, east, north = surface.extent
    relief = float(np.ptp(surface.vertices[:, 2]))
    wanted = _RELIEF_WANTED * max(east - west, north - south) / max(relief, 1e-9)
    return max((step for step in _EXAGGERATIONS if step <= wanted), default=1.0)


@dataclass(frozen=True, eq=False)
class View:
    """What is seen, sample by sample; row 0 is at the bottom.

    Attributes
    ----------
    triangle : (rows, columns) int32
        Triangle of the surface; the number of triangles for the cut around its edge; -1 for nothing.
    height : (rows, columns) float64
        Of the ground seen; NaN where there is none.
    line : (rows, columns) int32
        Entry of the line layers given, the later over the earlier; -1 for none.
    extent : (left, right, bottom, top)
        Of the picture in projected units.
    viewpoint : Viewpoint
        From where it is seen.
    base : float
        Height down to which the cut around the edge reaches.
    """

    triangle: Ints
    height: Floats
    line: Ints
    extent: tuple[float, float, float, float]
    viewpoint: Viewpoint
    base: float


def see(
    surface: Surface,
    viewpoint: Viewpoint,
    columns: int,
    rows: int,
    layers: Sequence[tuple[Sequence[Floats], float]] = (),
) -> View:
    """Return what is seen of a surface, and of lines draped on it.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    viewpoint : Viewpoint
        From where it is seen.
    columns, rows : int
        Samples of the picture; the surface fills it at equal scales.
    layers : sequence of (lines, width)
        Lines (k, 3) with their heights, and their width in samples.

    Examples
    --------
    >>> import evrin
    >>> step = evrin.triangulate([[0, 0, 0], [9, 0, 0], [9, 9, 0], [0, 9, 0], [4, 4, 6]])
    >>> seen = see(step, Viewpoint(180.0, 20.0), 200, 120)
    >>> sorted(set(seen.triangle.ravel().tolist()))
    [-1, 0, 1, 3, 4]
    """
    origin = np.append(surface.vertices[:, :2].mean(axis=0), surface.vertices[:, 2].mean())
    solid, triangles, base = _with_skirt(surface)
    seen = viewpoint.project(solid - origin)
    low, high = seen[:, :2].min(axis=0), seen[:, :2].max(axis=0)
    margin = 0.02 * float((high - low).max())
    scale = float(min((columns - 1) / (high[0] - low[0] + 2 * margin), (rows - 1) / (high[1] - low[1] + 2 * margin)))
    middle = (low + high) / 2.0
    corner = middle - np.array([columns - 1, rows - 1]) / scale / 2.0

    def samples(points: Floats) -> Floats:
        return np.column_stack(((points[:, :2] - corner) * scale, points[:, 2]))

    depth = np.full((rows, columns), np.inf)
    which = np.full((rows, columns), -1, np.int32)
    height = np.full((rows, columns), np.nan)
    line = np.full((rows, columns), -1, np.int32)
    paint(samples(seen), solid[:, 2], triangles, len(surface.triangles), depth, which, height)
    height[which >= len(surface.triangles)] = np.nan
    before = _BEFORE * float(np.ptp(seen[:, 2]) + 1e-12)
    for entry, (lines, width) in enumerate(layers):
        parts = [part for part in lines if len(part) > 1]
        if parts:
            projected = samples(viewpoint.project(np.concatenate(parts) - origin)) - np.array([0.0, 0.0, before])
            starts = np.concatenate(([0], np.cumsum([len(part) for part in parts]))).astype(np.int64)
            stroke(projected, starts, float(width), depth, entry, line)
    left, bottom = corner
    extent = (float(left), float(left + (columns - 1) / scale), float(bottom), float(bottom + (rows - 1) / scale))
    return View(triangle=which, height=height, line=line, extent=extent, viewpoint=viewpoint, base=base)


def _with_skirt(surface: Surface) -> tuple[Floats, Ints, float]:
    """Add upright triangles from the edge of the surface down to a level base."""
    heights = surface.vertices[:, 2]
    base = float(heights.min() - _SKIRT * max(np.ptp(heights), 1e-6))
    rim = np.flatnonzero(surface.mates < 0)
    a, b = surface.triangles[rim // 3, rim % 3], surface.triangles[rim // 3, (rim + 1) % 3]
    below = surface.vertices[np.concatenate((a, b))].copy()
    below[:, 2] = base
    count = len(surface.vertices)
    under_a, under_b = count + np.arange(len(a)), count + len(a) + np.arange(len(a))
    skirt = np.concatenate((np.column_stack((a, under_a, b)), np.column_stack((under_a, under_b, b))))
    return np.vstack((surface.vertices, below)), np.vstack((surface.triangles, skirt)).astype(np.int32), base
