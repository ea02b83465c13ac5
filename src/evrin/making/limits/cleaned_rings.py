"""Rings as given: cleaned before anything is cut along them, and looked at for crossings with themselves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from evrin.base.errors import DataError
from evrin.base.wording import counted
from evrin.kernels import FloatRows, Floats, Indices, Mutable, inner, kernel
from evrin.tin.exact.predicates import orientation


@dataclass(frozen=True)
class RingCleaning:
    """What was found in a ring and taken out of it.

    Attributes
    ----------
    repeated : int
        Vertices at the place of the one before, taken out.
    spikes : int
        Places where the ring ran out and back along one line, taken out.
    touching : int
        Vertices at which the ring meets itself without crossing; they stay.
    place : (float, float) or None
        Of the first of these.
    """

    repeated: int = 0
    spikes: int = 0
    touching: int = 0
    place: tuple[float, float] | None = None

    def __str__(self) -> str:
        """What was done, in words."""
        parts = []
        if self.repeated:
            parts.append(f"{counted(self.repeated, 'repeated vertex', 'repeated vertices')} removed")
        if self.spikes:
            parts.append(f"{counted(self.spikes, 'spike')} removed (out and back along one line)")
        if self.touching:
            parts.append(f"it meets itself at {counted(self.touching, 'vertex', 'vertices')}")
        return ", ".join(parts)


@kernel
def _keep_clean(ring: FloatRows, kept: Mutable[Indices], first: Mutable[Indices]) -> tuple[int, int, int]:
    """Fill *kept* with the rows that stay; return how many, how many were repeated, and how many tips of spikes."""
    size = repeated = spikes = 0
    n = ring.shape[0]
    k = 0
    # Where a spike was removed, its foot is there twice.
    is_foot = False
    while k < n:
        if size > 0 and _is_same(ring, kept[size - 1], k):
            if not is_foot:
                repeated += 1
                first[0] = k if first[0] < 0 else first[0]
            is_foot = False
            k += 1
        elif size > 1 and _is_spike(ring, kept[size - 2], kept[size - 1], k):
            spikes += 1
            first[0] = kept[size - 1] if first[0] < 0 else first[0]
            size -= 1
            is_foot = True
        else:
            is_foot = False
            kept[size] = k
            size += 1
            k += 1
    # Round the end the same, until nothing changes.
    start = 0
    while size - start > 2:
        if _is_same(ring, kept[size - 1], kept[start]):
            repeated += 0 if is_foot else 1
            is_foot = False
        elif _is_spike(ring, kept[size - 2], kept[size - 1], kept[start]):
            spikes += 1
            is_foot = True
        elif _is_spike(ring, kept[size - 1], kept[start], kept[start + 1]):
            spikes += 1
            first[0] = kept[start] if first[0] < 0 else first[0]
            start += 1
            is_foot = True
            continue
        else:
            break
        first[0] = kept[size - 1] if first[0] < 0 else first[0]
        size -= 1
    for k in range(start, size):
        kept[k - start] = kept[k]
    return size - start, repeated, spikes


@inner
def _is_same(ring: FloatRows, a: int, b: int) -> bool:
    return bool(ring[a, 0] == ring[b, 0] and ring[a, 1] == ring[b, 1])


@inner
def _is_spike(ring: FloatRows, a: int, tip: int, b: int) -> bool:
    """Whether the ring runs from *a* to a tip and back towards *b* along one line."""
    ax, ay, x, y, bx, by = ring[a, 0], ring[a, 1], ring[tip, 0], ring[tip, 1], ring[b, 0], ring[b, 1]
    return bool(orientation(ax, ay, x, y, bx, by) == 0.0 and (ax - x) * (bx - x) + (ay - y) * (by - y) > 0.0)


def _from_westernmost(ring: Floats) -> Indices:
    """Row numbers that start at the westernmost vertex and go the way that comes first in the order of places."""
    xy = ring[:, :2].tolist()
    n = len(xy)
    west = min(xy)
    ways = [(k + step * np.arange(n)) % n for k in range(n) if xy[k] == west for step in (1, -1)]
    return min(ways, key=lambda way: [xy[k] for k in way.tolist()])


def cleaned_ring(ring: Floats, name: str) -> tuple[Floats, RingCleaning]:
    """Take repeated vertices and spikes out of a closed ring.

    Vertices in line with their neighbours stay: the surface gets a vertex at each.

    Parameters
    ----------
    ring : (k, 2) or (k, 3) float64
        The first vertex need not be repeated.
    name : str
        Of the ring, for messages.

    Returns
    -------
    ring : (n, 2) or (n, 3) float64
    cleaning : RingCleaning

    Raises
    ------
    DataError
        Where no ring is left.

    Examples
    --------
    >>> ring, cleaning = cleaned_ring(np.array([[0.0, 0], [4, 0], [4, 0], [4, 4], [4, 9], [4, 4], [0, 4]]), "limit")
    >>> len(ring), str(cleaning)
    (4, '1 repeated vertex removed, 1 spike removed (out and back along one line)')
    """
    kept, first = np.empty(len(ring), np.int64), np.full(1, -1, np.int64)
    count, repeated, spikes = _keep_clean(np.ascontiguousarray(ring[:, :2]), kept, first)
    if repeated or spikes:
        # Spikes can be taken out in more than one way: the choice does not depend on where the ring begins.
        ring = ring[_from_westernmost(ring)]
        first[0] = -1
        count, repeated, spikes = _keep_clean(np.ascontiguousarray(ring[:, :2]), kept, first)
    if count < 3:
        x, y = ring[0, :2]
        raise DataError(f"{name}, from ({x:.3f}, {y:.3f}), encloses no area: it runs out and back along the same line")
    clean = ring[kept[:count]]
    places, times = np.unique(clean[:, :2], axis=0, return_counts=True)
    where = ring[first[0], :2] if first[0] >= 0 else places[times > 1][0] if (times > 1).any() else None
    place = None if where is None else (float(where[0]), float(where[1]))
    return clean, RingCleaning(int(repeated), int(spikes), int((times > 1).sum()), place)


@kernel
def _find_crossing(ring: FloatRows, order: Indices, west: Floats, east: Floats, place: Mutable[Floats]) -> int:
    n = ring.shape[0]
    best = n
    for p in range(n):
        i = order[p]
        for q in range(p + 1, n):
            j = order[q]
            if west[j] > east[i]:
                break
            side = min(i, j)
            if side < best and _sides_cross(ring, side, max(i, j), place):
                best = side
    return best if best < n else -1


@inner
def _side(ring: FloatRows, a: int, b: int, c: int) -> float:
    return orientation(ring[a, 0], ring[a, 1], ring[b, 0], ring[b, 1], ring[c, 0], ring[c, 1])


@inner
def _set(place: Mutable[Floats], x: float, y: float) -> bool:
    place[0], place[1] = x, y
    return True


@inner
def _sides_cross(ring: FloatRows, i: int, j: int, place: Mutable[Floats]) -> bool:
    """Whether the ring crosses itself where side *j* meets side *i*, at their first vertices or between."""
    n = ring.shape[0]
    a, b, c, d = i, (i + 1) % n, j, (j + 1) % n
    if max(ring[a, 1], ring[b, 1]) < min(ring[c, 1], ring[d, 1]) or max(ring[c, 1], ring[d, 1]) < min(
        ring[a, 1], ring[b, 1]
    ):
        return False
    if _is_same(ring, a, c):
        crosses = _wedges_cross(ring, (a + n - 1) % n, a, b, (c + n - 1) % n, d)
        return crosses and _set(place, ring[a, 0], ring[a, 1])
    if b == c or d == a:
        return False
    c_side, d_side = _side(ring, a, b, c), _side(ring, a, b, d)
    a_side, b_side = _side(ring, c, d, a), _side(ring, c, d, b)
    if c_side == 0.0 and a_side * b_side < 0.0:
        p_side = _side(ring, a, b, (c + n - 1) % n)
        return p_side * d_side < 0.0 and _set(place, ring[c, 0], ring[c, 1])
    if a_side == 0.0 and c_side * d_side < 0.0:
        p_side = _side(ring, c, d, (a + n - 1) % n)
        return p_side * b_side < 0.0 and _set(place, ring[a, 0], ring[a, 1])
    if c_side * d_side < 0.0 and a_side * b_side < 0.0:
        part = a_side / (a_side - b_side)
        x, y = ring[a, 0] + part * (ring[b, 0] - ring[a, 0]), ring[a, 1] + part * (ring[b, 1] - ring[a, 1])
        return _set(place, x, y)
    return False


@inner
def _is_within(ring: FloatRows, v: int, start: int, end: int, c: int) -> bool:
    """Whether *c* lies in the wedge at *v* that turns counter-clockwise from *start* to *end*."""
    if _side(ring, v, start, end) > 0.0:
        return _side(ring, v, start, c) > 0.0 and _side(ring, v, c, end) > 0.0
    return not (_side(ring, v, end, c) >= 0.0 and _side(ring, v, c, start) >= 0.0)


@inner
def _wedges_cross(ring: FloatRows, before: int, v: int, after: int, one: int, other: int) -> bool:
    """Whether the way *one*-*v*-*other* crosses *before*-*v*-*after*; ways that share a direction only touch."""
    for c in (one, other):
        for e in (before, after):
            along = (ring[c, 0] - ring[v, 0]) * (ring[e, 0] - ring[v, 0]) + (ring[c, 1] - ring[v, 1]) * (
                ring[e, 1] - ring[v, 1]
            )
            if _side(ring, v, e, c) == 0.0 and along > 0.0:
                return False
    return _is_within(ring, v, after, before, one) != _is_within(ring, v, after, before, other)


def self_crossing(ring: Floats) -> tuple[int, tuple[float, float]] | None:
    """Return the first side on which a closed ring crosses itself, and where, or None; touching does not count.

    Parameters
    ----------
    ring : (k, 2) or (k, 3) float64
        The first vertex is not repeated.

    Examples
    --------
    >>> self_crossing(np.array([[0.0, 0], [4, 4], [4, 0], [0, 4]]))
    (0, (2.0, 2.0))
    >>> self_crossing(np.array([[0.0, 0], [2, 2], [4, 0], [4, 4], [2, 2], [0, 4]])) is None
    True
    """
    xy = np.ascontiguousarray(ring[:, :2])
    ends = np.roll(xy[:, 0], -1)
    west, east = np.minimum(xy[:, 0], ends), np.maximum(xy[:, 0], ends)
    place = np.empty(2)
    side = int(_find_crossing(xy, np.argsort(west, kind="stable"), west, east, place))
    return (side, (float(place[0]), float(place[1]))) if side >= 0 else None
