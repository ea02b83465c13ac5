"""Chainage along a line, and places at a chainage and an offset."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.along.stations import multiples_between
from evrin.base.errors import DataError
from evrin.kernels import Floats


@dataclass(frozen=True, eq=False)
class Alignment:
    """A line with chainage.

    Attributes
    ----------
    points : (k, 2) float64
        Its bends, without two the same in a row.
    start : float
        Chainage of the first.

    Examples
    --------
    >>> import evrin
    >>> line = evrin.Alignment.along([(0, 0), (10, 0), (10, 10)], start=100.0)
    >>> line.places([105.0]).tolist()
    [[5.0, 0.0]]
    """

    points: Floats
    start: float = 0.0

    @classmethod
    def along(cls, places: ArrayLike, start: float = 0.0) -> Self:
        """Take a line of places (k, 2) or (k, 3).

        Parameters
        ----------
        places : (k, 2) or (k, 3) array_like
            Coordinates in the units of the surface; heights are not used.
        start : float
            Chainage of the first place.

        Returns
        -------
        Alignment

        Raises
        ------
        DataError
            For a wrong shape, a number that is not finite, or a line without length.
        """
        line = np.array(places, dtype=np.float64)
        if line.ndim != 2 or line.shape[1] < 2 or len(line) < 2:
            raise DataError(f"a line runs along at least 2 places of shape (k, 2); this has shape {line.shape}")
        line = line[:, :2]
        if not np.isfinite(line).all() or not np.isfinite(start):
            raise DataError("a line's places and its first chainage must be finite")
        line = line[np.append(True, (np.diff(line, axis=0) != 0.0).any(axis=1))]
        if len(line) < 2:
            raise DataError("the line has no length")
        return cls(np.ascontiguousarray(line), float(start))

    @cached_property
    def bends(self) -> Floats:
        """(k,) float64: chainage of each bend, ends included."""
        return self.start + np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(self.points, axis=0).T))))

    @property
    def length(self) -> float:
        """Plan length."""
        return float(self.bends[-1] - self.bends[0])

    def stations(self, interval: float, *, ends: bool = True) -> Floats:
        """Return the chainages at multiples of an interval, with the ends of the line if wanted.

        Parameters
        ----------
        interval : float
            Distance between stations, in units of the line.
        ends : bool
            Whether the first and the last chainage are among them.

        Returns
        -------
        (n,) float64
            Chainages, rising.

        Raises
        ------
        DataError
            For an interval that is not above 0, or gives more than a million places.
        """
        first, last = float(self.bends[0]), float(self.bends[-1])
        regular = multiples_between(first, last, interval)
        return np.unique(np.concatenate((regular, [first, last]))) if ends else regular

    def places(self, chainage: ArrayLike, offset: ArrayLike = 0.0) -> Floats:
        """Return places (n, 2) at chainages and offsets, positive to the right.

        Parameters
        ----------
        chainage : (n,) array_like
            Distances along the line, in plan.
        offset : (n,) array_like or float
            Distance from the line, positive to the right.

        Returns
        -------
        (n, 2) float64
            Easting and northing.

        Examples
        --------
        >>> Alignment.along([(0, 0), (0, 10), (10, 10)]).places([5, 15], 2).tolist()
        [[2.0, 5.0], [5.0, 8.0]]
        """
        asked, aside = np.broadcast_arrays(np.asarray(chainage, np.float64), np.asarray(offset, np.float64))
        asked, aside = asked.ravel(), aside.ravel()
        leg, unit = self._legs(asked)
        on_line = self.points[leg] + (asked - self.bends[leg])[:, None] * unit
        return np.asarray(on_line + aside[:, None] * np.column_stack((unit[:, 1], -unit[:, 0])))

    def bearings_deg(self, chainage: ArrayLike) -> Floats:
        """Return the bearing (n,) of the line, clockwise from north; at a bend, that of the leg that begins there.

        Parameters
        ----------
        chainage : (n,) array_like
            Distances along the line, in plan.

        Returns
        -------
        (n,) float64
            Degrees, from 0 to 360.
        """
        unit = self._legs(np.asarray(chainage, np.float64).ravel())[1]
        return np.degrees(np.arctan2(unit[:, 0], unit[:, 1])) % 360.0

    def _legs(self, chainage: Floats) -> tuple[np.ndarray, Floats]:
        leg = np.clip(np.searchsorted(self.bends, chainage, side="right") - 1, 0, len(self.points) - 2)
        step = np.diff(self.points, axis=0)
        return leg, (step / np.hypot(*step.T)[:, None])[leg]

    def locate(self, places: ArrayLike) -> tuple[Floats, Floats]:
        """Return chainage (n,) and offset (n,), positive to the right, of the nearest place on the line.

        Beyond the ends the chainage is that of the end, and the offset the distance to it.

        Parameters
        ----------
        places : (n, 2) array_like
            Easting and northing.

        Returns
        -------
        chainage, offset : (n,) float64

        Examples
        --------
        >>> [each.tolist() for each in Alignment.along([(0, 0), (0, 10)], start=100).locate([(3, 4), (-1, 8)])]
        [[104.0, 108.0], [3.0, -1.0]]
        """
        asked = np.array(places, np.float64).reshape(-1, 2)
        chainage, offset = np.zeros(len(asked)), np.full(len(asked), np.inf)
        for k, step in enumerate(np.diff(self.points, axis=0)):
            offsets = asked - self.points[k]
            length = float(np.hypot(*step))
            along = np.clip(offsets @ step / length, 0.0, length)
            rest = offsets - (along / length)[:, None] * step
            aside = np.where(offsets @ np.array([step[1], -step[0]]) >= 0.0, 1.0, -1.0) * np.hypot(*rest.T)
            nearer = np.abs(aside) < np.abs(offset)
            chainage[nearer], offset[nearer] = self.bends[k] + along[nearer], aside[nearer]
        return chainage, offset
