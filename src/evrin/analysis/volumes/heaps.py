"""The volume of a heap above the ground under it, which nobody sees: by four bases from what surrounds its toe."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.volumes.cut_and_fill import Factors, Volume, volume_above
from evrin.analysis.volumes.smooth_sheet import smooth_sheet
from evrin.analysis.volumes.toe import find_toe
from evrin.analysis.volumes.volume_spread import Spread
from evrin.base.errors import DataError, GeometryError
from evrin.kernels import Floats
from evrin.making.from_arrays import as_ring, triangulate
from evrin.making.pads.planes import Plane
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd

SMOOTH, TRIANGLES, PLANE, LOWEST = "smooth sheet", "triangles across", "fitted plane", "lowest of the toe"


@dataclass(frozen=True, eq=False)
class HeapVolume:
    """A heap above four bases.

    Attributes
    ----------
    toe : (k, 3) float64
        Closed, on the surface.
    is_found : bool
        Whether the toe was found, not given.
    bases : dict of str to Surface or Plane
        The smooth sheet first, which the volume rests on.
    volumes : dict of str to Volume
        By base.

    Examples
    --------
    >>> import numpy as np
    >>> import evrin
    >>> x, y = (axis.ravel() for axis in np.mgrid[-20:20.5:1, -20:20.5:1])
    >>> heap = evrin.triangulate(np.column_stack((x, y, np.maximum(4 - 0.5 * np.hypot(x, y), 0))))
    >>> found = heap.heap_volume((0.0, 0.0))
    >>> found.table["base"].tolist()
    ['smooth sheet', 'triangles across', 'fitted plane', 'lowest of the toe']
    """

    toe: Floats
    is_found: bool
    bases: dict[str, Surface | Plane]
    volumes: dict[str, Volume]

    @property
    def volume(self) -> float:
        """Of the heap above the smooth sheet."""
        return self.volumes[SMOOTH].total.net

    @property
    def base_spread(self) -> float:
        """Half the range of the three bases that follow the ground, of which the lowest of the toe is none."""
        nets = [self.volumes[name].total.net for name in (SMOOTH, TRIANGLES, PLANE)]
        return (max(nets) - min(nets)) / 2.0

    @property
    def spread(self) -> Spread:
        """Standard deviations that the heights of the surface leave."""
        return self.volumes[SMOOTH].total.net_spread

    @property
    def within_95(self) -> float:
        """Half the width of what holds the truth with a probability of 95 percent, the spread of the bases with it."""
        return float(np.hypot(self.spread.within_95, self.base_spread))

    @property
    def table(self) -> pd.DataFrame:
        """A row for each base: ``base``, ``volume``, ``above``, ``below``, ``difference_percent``."""
        import pandas as pd

        rows = []
        for name, volume in self.volumes.items():
            total = volume.total
            more = 100.0 * (total.net / self.volume - 1.0) if self.volume > 0.0 else np.nan
            rows.append((name, total.net, total.fill, total.cut, more))
        return pd.DataFrame(rows, columns=["base", "volume", "above", "below", "difference_percent"])


def heap_volume(
    surface: Surface,
    heap: ArrayLike | Sequence[float],
    *,
    reach: float | None = None,
    factors: Factors | None = None,
    spread: float | None = None,
    shared_spread: float | None = None,
) -> HeapVolume:
    """Return the volume of a heap above the ground under it: `Surface.heap_volume`."""
    asked = np.asarray(heap, np.float64)
    is_found = asked.ndim == 1
    ring = find_toe(surface, asked.tolist(), reach) if is_found else as_ring(asked, "the toe").points
    toe = _on_surface(surface, ring)
    smooth = smooth_sheet(surface, toe).renamed(name=SMOOTH)
    closed = np.vstack((toe, toe[:1]))
    across = triangulate(toe, [closed], [toe[:, :2]], units=surface.units, crs=surface.crs)
    bases: dict[str, Surface | Plane] = {
        SMOOTH: smooth,
        TRIANGLES: across.renamed(name=TRIANGLES),
        PLANE: Plane.through(toe),
        LOWEST: Plane.level(float(toe[:, 2].min())),
    }
    volumes = {}
    for name, base in bases.items():
        volumes[name] = volume_above(
            surface,
            base,
            {"heap": toe[:, :2]},
            factors=factors,
            spread=spread,
            base_spread=0.0,
            shared_spread=shared_spread,
        )
    return HeapVolume(toe, is_found, bases, volumes)


def _on_surface(surface: Surface, ring: Floats) -> Floats:
    """A ring laid on a surface, with a place wherever it crosses an edge; counter-clockwise."""
    closed = np.vstack((ring, ring[:1]))[:, :2]
    along = surface.profile(closed)
    if np.isnan(along.heights).any():
        raise GeometryError("part of the toe lies off the surface; draw it within, on the ground round the heap")
    places = along.points[:-1]
    apart = np.append(True, np.hypot(*np.diff(places[:, :2], axis=0).T) > 1e-6)
    places = places[apart]
    if len(places) < 3:
        raise DataError("the toe has no area")
    x, y = places[:, 0] - places[0, 0], places[:, 1] - places[0, 1]
    is_turned = (x * np.roll(y, -1) - y * np.roll(x, -1)).sum() < 0.0
    return np.ascontiguousarray(places[::-1] if is_turned else places)
