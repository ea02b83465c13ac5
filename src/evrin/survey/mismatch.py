"""Sources whose coordinates do not go together: exchanged, in other units, in degrees, or simply elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from evrin.tin.types import Floats

Kind = Literal["degrees", "exchanged", "feet-beside-metres", "heights-in-feet", "apart"]
_FEET = 0.3048


@dataclass(frozen=True)
class Mismatch:
    """A source that does not go with another: its number, the other's, what is wrong, and the factor if that is it."""

    source: int
    beside: int
    kind: Kind
    factor: float = 1.0


@dataclass(frozen=True, eq=False)
class Extent:
    """Where the middle 96 parts of a hundred of a source lie: west, south, lowest, and east, north, highest."""

    low: Floats
    high: Floats

    @classmethod
    def of(cls, xyz: Floats) -> Extent:
        """Measure places (n, 3), heights NaN where there are none."""
        with np.errstate(invalid="ignore"):
            z = xyz[np.isfinite(xyz[:, 2]), 2]
            low, high = np.quantile(xyz[:, :2], [0.02, 0.98], axis=0)
            levels = np.quantile(z, [0.02, 0.98]) if len(z) else np.array([np.nan, np.nan])
        return cls(np.append(low, levels[0]), np.append(high, levels[1]))

    def scaled(self, factor: float) -> Extent:
        """Return the extent in other units."""
        return Extent(self.low * factor, self.high * factor)

    def exchanged(self) -> Extent:
        """Return the extent with easting and northing exchanged."""
        return Extent(self.low[[1, 0, 2]], self.high[[1, 0, 2]])

    def overlaps(self, other: Extent) -> bool:
        """Whether the two meet in plan, or nearly."""
        room = 0.1 * max(float((self.high - self.low)[:2].max()), float((other.high - other.low)[:2].max()))
        return bool((self.low[:2] <= other.high[:2] + room).all() and (other.low[:2] <= self.high[:2] + room).all())

    @property
    def is_in_degrees(self) -> bool:
        """Whether it would be a small place in longitude and latitude."""
        size = float((self.high - self.low)[:2].max())
        fits = np.abs(self.low[0]) <= 180.0 and np.abs(self.high[0]) <= 180.0 and (np.abs(self.high[1]) <= 90.0)
        return bool(fits and np.abs(self.low[1]) <= 90.0 and 0.0 < size < 2.0)


def mismatches(extents: list[Extent], weights: list[int]) -> list[Mismatch]:
    """Find the sources that do not go with the largest of the rest.

    Parameters
    ----------
    extents : list of Extent
    weights : list of int
        How many things each source holds; where two disagree, the smaller is the one reported.
    """
    found = []
    order = sorted(range(len(extents)), key=lambda k: -weights[k])
    for rank, k in enumerate(order):
        if extents[k].is_in_degrees:
            found.append(Mismatch(k, order[0], "degrees"))
            continue
        beside = [j for j in order[:rank] if not extents[j].is_in_degrees]
        if beside and (mismatch := _against(extents, k, beside)) is not None:
            found.append(mismatch)
    return found


def misplaced(extent: Extent, others: list[Extent]) -> Mismatch | None:
    """Return why a file is nowhere near any of others, the largest first; None where it meets one in plan.

    Examples
    --------
    >>> site = Extent(np.array([4000.0, 2800.0, 40.0]), np.array([4200.0, 2950.0, 50.0]))
    >>> misplaced(site.scaled(1 / 0.3048), [site]).kind
    'feet-beside-metres'
    """
    if extent.is_in_degrees and not any(each.is_in_degrees for each in others):
        return Mismatch(-1, 0, "degrees")
    if any(extent.overlaps(each) for each in others):
        return None
    found = _against([extent, *others], 0, list(range(1, len(others) + 1)))
    return None if found is None else Mismatch(-1, found.beside - 1, found.kind, found.factor)


def _against(extents: list[Extent], k: int, others: list[int]) -> Mismatch | None:
    one, first = extents[k], others[0]
    meeting = [j for j in others if one.overlaps(extents[j])]
    if meeting:
        return _heights_apart(extents, k, meeting)
    for j in others:
        if one.exchanged().overlaps(extents[j]):
            return Mismatch(k, j, "exchanged")
    for factor in (_FEET, 1.0 / _FEET):
        for j in others:
            if one.scaled(factor).overlaps(extents[j]):
                return Mismatch(k, j, "feet-beside-metres", factor)
    return Mismatch(k, first, "apart")


def _heights_apart(extents: list[Extent], k: int, others: list[int]) -> Mismatch | None:
    """Heights that agree only if one of the two is in feet."""
    one = extents[k]
    for j in others:
        other = extents[j]
        room = 0.5 * max(float(one.high[2] - one.low[2]), float(other.high[2] - other.low[2]), 1.0)
        if not (one.low[2] > other.high[2] + room or other.low[2] > one.high[2] + room):
            return None
    for factor in (_FEET, 1.0 / _FEET):
        low, high = one.low[2] * factor, one.high[2] * factor
        other = extents[others[0]]
        room = 0.5 * max(float(other.high[2] - other.low[2]), 1.0)
        if low <= other.high[2] + room and other.low[2] <= high + room:
            return Mismatch(k, others[0], "heights-in-feet", factor)
    return None
