"""Cross-sections: profiles across a line, at chainages along it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.along.alignment import Alignment
from evrin.analysis.along.profiles import Profile, profile
from evrin.base.errors import DataError
from evrin.surface.frame import check_same_frame
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd

_MOST = 5_000


@dataclass(frozen=True, eq=False)
class Section:
    """Surfaces across a line at one chainage.

    Attributes
    ----------
    chainage : float
        Where it crosses the line.
    centre : (float, float)
        Easting and northing on the line.
    bearing_deg : float
        Direction in which the section runs, from its left end, clockwise from north.
    profiles : dict of str to Profile
        By surface name; chainages in them are offsets from the line, negative on the left.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> (section,) = field.sections([(0, 4), (8, 4)], stations=[4.0], left=2, right=2)
    >>> section.bearing_deg, section.table()["height"].tolist()
    (180.0, [1.75, 1.5, 1.5, 1.25])
    """

    chainage: float
    centre: tuple[float, float]
    bearing_deg: float
    profiles: dict[str, Profile]

    def table(self, interval: float | None = None) -> pd.DataFrame:
        """Return rows of all surfaces: ``chainage``, ``offset``, ``easting``, ``northing``, ``height``, ``surface``.

        Parameters
        ----------
        interval : float, optional
            Distance between rows; without it a row wherever the ground changes.

        Returns
        -------
        DataFrame
        """
        import pandas as pd

        parts = []
        for name, ground in self.profiles.items():
            rows = ground.table(interval).rename(columns={"chainage": "offset"})
            rows.insert(0, "chainage", self.chainage)
            parts.append(rows[["chainage", "offset", "easting", "northing", "height"]].assign(surface=name))
        return pd.concat(parts, ignore_index=True)


def cross_sections(
    surfaces: Mapping[str, Surface] | Surface,
    along: Alignment | Sequence[tuple[float, float]] | ArrayLike,
    interval: float | None = None,
    *,
    left: float,
    right: float,
    angle_deg: float = 90.0,
    stations: ArrayLike | None = None,
    at_bends: bool = False,
) -> list[Section]:
    """Return cross-sections of one or more surfaces.

    Parameters
    ----------
    surfaces : Surface, or mapping of str to Surface
        One surface, or several by the names that sections show.
    along : Alignment, or (k, 2) array_like
        The line that sections cross.
    interval : float, optional
        Distance between sections: at its multiples in chainage, and at both ends of the line.
    left, right : float
        How far sections reach to either side, seen in the direction of the line.
    angle_deg : float
        Between the line and the sections, clockwise; 90 for square sections.
    stations : array_like, optional
        Chainages to use instead of an interval.
    at_bends : bool
        Whether there are sections at the line's bends as well; there, they halve the angle.

    Returns
    -------
    list of Section

    Raises
    ------
    DataError
        For a width that is not above 0, an angle outside 0 to 180, more than 5,000 sections, chainages off the line,
        surfaces in unlike units or reference systems, or neither or both of *interval* and *stations*.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
    >>> [(s.chainage, s.profiles["surface"].heights.tolist()) for s in
    ...  cross_sections(ramp, [(0, 5), (10, 5)], stations=[5], left=5, right=5)]
    [(5.0, [2.0, 1.0, 0.0])]
    """
    line = along if isinstance(along, Alignment) else Alignment.along(along)
    grounds = {surfaces.name: surfaces} if isinstance(surfaces, Surface) else dict(surfaces)
    if not (left >= 0.0 and right >= 0.0 and left + right > 0.0):
        raise DataError(f"a section needs a width; left is {left:g} and right {right:g}")
    if not 0.0 < angle_deg < 180.0:
        raise DataError(f"the angle between line and sections lies between 0 and 180 degrees; it is {angle_deg:g}")
    check_same_frame({name: ground.frame for name, ground in grounds.items()})
    chainages = _chainages(line, interval, stations, at_bends)
    bearings = (line.bearings_deg(chainages) + _half_turns(line, chainages) + angle_deg) % 360.0
    sections = []
    for chainage, centre, bearing in zip(chainages.tolist(), line.places(chainages), bearings.tolist(), strict=True):
        unit = np.array([np.sin(np.radians(bearing)), np.cos(np.radians(bearing))])
        across = [centre - left * unit, centre + right * unit]
        if left > 0.0 and right > 0.0:
            across.insert(1, centre)
        profiles = {name: profile(ground, np.array(across), start=-left) for name, ground in grounds.items()}
        sections.append(Section(chainage, (float(centre[0]), float(centre[1])), bearing, profiles))
    return sections


def _chainages(line: Alignment, interval: float | None, stations: ArrayLike | None, at_bends: bool) -> np.ndarray:
    if (interval is None) == (stations is None):
        raise DataError("give either interval= or stations=")
    if interval is not None and interval > 0.0 and line.length / interval > _MOST:
        raise DataError(f"an interval of {interval:g} gives more than {_MOST:,} sections; choose a wider one")
    chainages = line.stations(interval) if interval is not None else np.unique(np.asarray(stations, np.float64).ravel())
    first, last = float(line.bends[0]), float(line.bends[-1])
    if len(chainages) == 0 or not ((chainages >= first) & (chainages <= last)).all():
        raise DataError(f"chainages must lie on the line, {first:g} to {last:g}; they are {chainages.tolist()}")
    if not at_bends:
        return chainages
    apart = np.abs(chainages[:, None] - line.bends).min(axis=1) > 1e-6
    return np.unique(np.concatenate((chainages[apart], line.bends)))


def _half_turns(line: Alignment, chainages: np.ndarray) -> np.ndarray:
    """At an inner bend, half the turn back towards the leg before; elsewhere nothing."""
    out = np.zeros(len(chainages))
    inner = line.bends[1:-1]
    bearing = line.bearings_deg(line.bends[:-1])
    turn = (np.diff(bearing) + 180.0) % 360.0 - 180.0
    for k, bend in enumerate(inner.tolist()):
        out[chainages == bend] = -turn[k] / 2.0
    return out
