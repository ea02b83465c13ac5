"""Sources whose coordinates do not go together: exchanged, in other units, in degrees, or simply elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np

from evrin.kernels import Floats

Kind = Literal["degrees", "exchanged", "feet-beside-metres", "other-unit", "heights-in-feet", "apart"]
_FEET = 0.3048
# Inches for feet, inches for metres, and what is written in parts of a metre.
_OTHER_FACTORS = tuple(f for larger in (12.0, 1000.0 / 25.4, 1000.0, 100.0, 10.0) for f in (larger, 1.0 / larger))
_STEEPEST, _LEAST_SIZE, _NEAR_ORIGIN = 10.0, 0.02, 3.0
# Between the poles and the equator, with the highest ground and the deepest water.
_EARTH = (6_340_000.0, 6_400_000.0)
_HIGHEST_GROUND = 10_000.0


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
    def fits_degrees(self) -> bool:
        """Whether it would be a small place in longitude and latitude, and is not beside the origin."""
        size = float((self.high - self.low)[:2].max())
        reach = np.maximum(np.abs(self.low), np.abs(self.high))
        return bool(1.0 < reach[0] <= 180.0 and 1.0 < reach[1] <= 90.0 and 0.0 < size < 2.0)

    @property
    def is_in_degrees(self) -> bool:
        """Whether it is so small for what its heights differ by that it is in degrees; a small drawing is not."""
        size = float((self.high - self.low)[:2].max())
        relief = float(self.high[2] - self.low[2])
        is_steep = relief > _STEEPEST * size if relief > 0.0 else size < _LEAST_SIZE
        return self.fits_degrees and is_steep

    @property
    def is_near_origin(self) -> bool:
        """Whether it is about as near to the origin as it is wide, so that other units would hardly move it."""
        middle = (self.low + self.high)[:2] / 2.0
        return bool(np.hypot(*middle) < _NEAR_ORIGIN * float((self.high - self.low)[:2].max()))


class Located(NamedTuple):
    """Where a source is, and how much its file or its table states of that.

    Attributes
    ----------
    name : str
        Of the source.
    extent : Extent
        Where it lies.
    size : int
        How many things it holds.
    is_stated : bool
        Whether its unit or its reference system is stated.
    is_in_degrees : bool
        Whether it is stated to be in degrees.
    """

    name: str
    extent: Extent
    size: int
    is_stated: bool = False
    is_in_degrees: bool = False


def are_geocentric(xyz: Floats) -> bool:
    """Return whether places (n, 3) in metres are counted from the centre of the earth.

    Examples
    --------
    >>> import numpy as np
    >>> are_geocentric(np.array([[3_850_000.0, 650_000.0, 5_026_799.0]]))
    True
    >>> are_geocentric(np.array([[3_400_000.0, 5_400_000.0, 120.0]]))
    False
    """
    whole = xyz[np.isfinite(xyz).all(axis=1)]
    if not len(whole):
        return False
    far = np.linalg.norm(whole, axis=1)
    is_so = (far > _EARTH[0]) & (far < _EARTH[1]) & (np.abs(whole[:, 2]) > _HIGHEST_GROUND)
    return bool(is_so.mean() > 0.9)


def mismatches(located: Sequence[Located]) -> list[Mismatch]:
    """Find the sources that do not go with the rest.

    Of two that disagree, the one whose file states nothing is reported, or else the smaller.
    """
    pairs = []
    extents = [each.extent for each in located]
    order = sorted(range(len(located)), key=lambda k: (not located[k].is_stated, -located[k].size))
    in_degrees = [each.is_in_degrees or (each.extent.is_in_degrees and not each.is_stated) for each in located]
    for rank, k in enumerate(order):
        if in_degrees[k]:
            # What is stated is transformed where it is used; what only looks so is asked about.
            if not located[k].is_in_degrees:
                pairs.append(Mismatch(k, order[0], "degrees"))
            continue
        beside = [j for j in order[:rank] if not in_degrees[j]]
        if beside and (mismatch := _against(extents, k, beside)) is not None:
            pairs.append(mismatch)
    return pairs


def misplaced(extent: Extent, others: list[Extent]) -> Mismatch | None:
    """Return why a file is nowhere near any of others, the largest first; None where it meets one in plan.

    Examples
    --------
    >>> site = Extent(np.array([4000.0, 2800.0, 40.0]), np.array([4200.0, 2950.0, 50.0]))
    >>> misplaced(site.scaled(1 / 0.3048), [site]).kind
    'feet-beside-metres'
    """
    if any(extent.overlaps(each) for each in others):
        return None
    if extent.fits_degrees and not any(each.fits_degrees for each in others):
        return Mismatch(-1, 0, "degrees")
    against = _against([extent, *others], 0, list(range(1, len(others) + 1)))
    return None if against is None else Mismatch(-1, against.beside - 1, against.kind, against.factor)


def _against(extents: list[Extent], k: int, others: list[int]) -> Mismatch | None:
    one, first = extents[k], others[0]
    meeting = [j for j in others if one.overlaps(extents[j])]
    if meeting:
        return _heights_apart(extents, k, meeting)
    for j in others:
        if one.exchanged().overlaps(extents[j]):
            return Mismatch(k, j, "exchanged")
    if one.fits_degrees and not any(extents[j].fits_degrees for j in others):
        return Mismatch(k, first, "degrees")
    for factor in (_FEET, 1.0 / _FEET):
        for j in (j for j in others if not (one.is_near_origin or extents[j].is_near_origin)):
            if one.scaled(factor).overlaps(extents[j]):
                return Mismatch(k, j, "feet-beside-metres", factor)
    for factor in _OTHER_FACTORS:
        for j in (j for j in others if not (one.is_near_origin or extents[j].is_near_origin)):
            if one.scaled(factor).overlaps(extents[j]):
                return Mismatch(k, j, "other-unit", factor)
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
