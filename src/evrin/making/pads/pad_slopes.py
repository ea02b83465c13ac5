"""The slopes round a pad: strips square to its sides, fans or mitres at its corners, berms on the way."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import FlagRows, FloatRows, Floats, Indices, Ints, Mutable, inner, kernel
from evrin.making.shared_vertices import distinct_rows

# Beyond this turn a sharp corner would run out far; it is made round.
_MOST_TURN = np.radians(150.0)
_APART = 1e-9
# However short, a round corner's chords turn by no more than this, so that none is steeper by more than a hundredth.
_WIDEST = np.pi / 12.0
ROUND, SHARP = "round", "sharp"


@dataclass(frozen=True)
class Slopes:
    """How slopes run from a pad to the ground.

    Attributes
    ----------
    cut, fill : float or sequence of float
        Run for one of rise, 2 for 1 in 2; or one for each side of the outline.
    corners : str
        ``"round"``, or ``"sharp"`` for planes that run on to where they meet.
    berm_every, berm_width : float
        A level berm of a width at every so much height; none for 0.
    chord : float
        How far a round corner's chords may lie inside its circle.

    Examples
    --------
    >>> from evrin.making import Slopes
    >>> Slopes(cut=1.5, fill=2.0).runs(True, 4).tolist()
    [2.0, 2.0, 2.0, 2.0]
    """

    cut: float | Sequence[float] = 2.0
    fill: float | Sequence[float] = 2.0
    corners: str = ROUND
    berm_every: float = 0.0
    berm_width: float = 0.0
    chord: float = 0.01

    def __post_init__(self) -> None:
        for name in ("cut", "fill"):
            runs = np.atleast_1d(np.asarray(getattr(self, name), np.float64))
            if runs.ndim != 1 or not len(runs) or not ((runs >= 0.01) & (runs <= 1000.0)).all():
                raise DataError(
                    f"{name} slopes must run between 0.01 and 1000 for one of rise; they are {runs.tolist()}"
                )
        if self.corners not in (ROUND, SHARP):
            raise DataError(f"corners must be {ROUND} or {SHARP}; they are {self.corners!r}")
        if (self.berm_every > 0.0) != (self.berm_width > 0.0):
            raise DataError("a berm needs both a height, berm_every, and a width, berm_width")
        for name, least in (("berm_every", 0.0), ("berm_width", 0.0), ("chord", 1e-6)):
            value = getattr(self, name)
            if not least <= value <= 1e4:
                raise DataError(f"{name} must lie between {least:g} and 1e4; it is {value:g}")
        if 0.0 < self.berm_every < 0.01:
            raise DataError(f"berm_every must be at least 0.01; it is {self.berm_every:g}")

    def runs(self, is_fill: bool, sides: int) -> Floats:
        """Return the run for one of rise of each side.

        Parameters
        ----------
        is_fill : bool
            Whether slopes of fill are meant, not of cut.
        sides : int
            Number of sides of the outline.

        Returns
        -------
        (sides,) float64

        Raises
        ------
        DataError
            Where there is neither one for all nor one for each.
        """
        given = np.atleast_1d(np.asarray(self.fill if is_fill else self.cut, np.float64))
        if len(given) not in (1, sides):
            what = "fill" if is_fill else "cut"
            raise DataError(f"{len(given)} {what} slopes for {sides} sides of the outline; give one, or one for each")
        return np.broadcast_to(given, sides).copy() if len(given) == 1 else given

    def levels(self, height: float) -> tuple[Floats, Floats]:
        """Return heights along a slope up to one, and the width of berms passed on the way to each.

        Parameters
        ----------
        height : float
            How far up or down the slope reaches.

        Returns
        -------
        heights, berms : (k,) float64

        Raises
        ------
        DataError
            Where there would be more than ten thousand berms.
        """
        if self.berm_every <= 0.0:
            return np.array([0.0, height]), np.zeros(2)
        count = int(np.ceil(height / self.berm_every))
        if count > 10_000:
            raise DataError(
                f"a slope {height:g} high with a berm every {self.berm_every:g} has {count} berms; give more"
            )
        steps = np.arange(1, count + 1) * self.berm_every
        heights = np.concatenate(([0.0], np.repeat(steps, 2)))
        berms = np.concatenate(([0.0], np.repeat(np.arange(count), 2) * self.berm_width))
        berms[2::2] += self.berm_width
        return heights, berms


def slope_sheets(ring: Floats, slopes: Slopes, height: float, *, is_fill: bool) -> list[tuple[Floats, Ints]]:
    """Return the slopes round a ring up to a height as sheets, none of which lies upon itself.

    Parameters
    ----------
    ring : (k, 3) float64
        Counter-clockwise.
    slopes : Slopes
        From the sides to the ground.
    height : float
        How far up or down they reach.
    is_fill : bool
        Whether slopes fall from the ring.

    Returns
    -------
    list of (vertices (n, 3) float64, triangles (m, 3) int32)
        Together, the highest of them is the slope of a fill, the lowest that of a cut.
    """
    runs = slopes.runs(is_fill, len(ring))
    heights, berms = slopes.levels(height)
    rise = -heights if is_fill else heights
    after = np.roll(ring, -1, axis=0)
    along = after[:, :2] - ring[:, :2]
    lengths = np.hypot(along[:, 0], along[:, 1])
    along = along / lengths[:, None]
    outward = np.column_stack((along[:, 1], -along[:, 0]))
    offsets = runs[:, None] * heights + berms
    pieces: list[list[Floats]] = []
    for k in range(len(ring)):
        start = _ray(ring[k], outward[k], offsets[k], rise)
        end = _ray(after[k], outward[k], offsets[k], rise)
        pieces.append([start, end])
        before = k - 1
        turn = float(
            np.arctan2(along[before, 0] * along[k, 1] - along[before, 1] * along[k, 0], along[before] @ along[k])
        )
        if turn > _APART:
            pieces.append(
                _corner(ring[k], outward[before], outward[k], offsets[before], offsets[k], rise, turn, slopes)
            )
    return [_sheet(group) for group in _apart(pieces)]


def _ray(place: Floats, way: Floats, offset: Floats, rise: Floats) -> Floats:
    return np.column_stack((place[:2] + offset[:, None] * way, place[2] + rise))


def _corner(
    place: Floats, first: Floats, last: Floats, near: Floats, far: Floats, rise: Floats, turn: float, slopes: Slopes
) -> list[Floats]:
    """Rays of a corner, from the strip before it to the one after it."""
    ends = [_ray(place, first, near, rise), _ray(place, last, far, rise)]
    if slopes.corners == SHARP and turn <= _MOST_TURN:
        tip = np.linalg.solve(np.vstack((first, last)), np.vstack((near, far))).T
        is_ahead = tip[-1] @ np.array([-first[1], first[0]]) >= 0.0 and tip[-1] @ np.array([last[1], -last[0]]) >= 0.0
        if is_ahead:
            return [ends[0], np.column_stack((place[:2] + tip, place[2] + rise)), ends[1]]
    largest = max(float(near[-1]), float(far[-1]))
    widest = 2.0 * np.arccos(max(1.0 - slopes.chord / largest, 0.0)) if largest > 0.0 else turn
    count = max(int(np.ceil(turn / np.clip(widest, 1e-3, _WIDEST))), 1)
    rays = [ends[0]]
    for part in np.linspace(0.0, 1.0, count + 1)[1:-1].tolist():
        cosine, sine = np.cos(part * turn), np.sin(part * turn)
        way = np.array([first[0] * cosine - first[1] * sine, first[0] * sine + first[1] * cosine])
        rays.append(_ray(place, way, near + part * (far - near), rise))
    return [*rays, ends[1]]


def _apart(pieces: list[list[Floats]]) -> list[list[list[Floats]]]:
    """Put pieces into as few groups as come up, so that in none one lies upon another."""
    hulls = [_hull(piece) for piece in pieces]
    starts = np.cumsum([0, *map(len, hulls)])
    clash = np.zeros((len(pieces), len(pieces)), np.bool_)
    _fill_clashes(np.concatenate(hulls), starts, clash)
    groups: list[list[int]] = []
    for k in range(len(pieces)):
        free = (group for group in groups if not clash[k, group].any())
        group = next(free, None)
        if group is None:
            groups.append([k])
        else:
            group.append(k)
    return [[pieces[k] for k in group] for group in groups]


def _hull(piece: list[Floats]) -> Floats:
    """The outline of a piece in plan, which is convex."""
    outer = [ray[-1, :2] for ray in piece]
    is_strip = bool((piece[0][0] != piece[-1][0]).any())
    return np.array([piece[0][0, :2], *outer, *([piece[-1][0, :2]] if is_strip else [])])


@inner
def _is_beside(points: FloatRows, start: int, stop: int, first: int, last: int) -> bool:
    """Whether one side of a convex outline has all of another beyond it."""
    for k in range(start, stop):
        after = k + 1 if k + 1 < stop else start
        dx, dy = points[after, 0] - points[k, 0], points[after, 1] - points[k, 1]
        slack = _APART * (abs(dx) + abs(dy))
        within = False
        for n in range(first, last):
            within |= dx * (points[n, 1] - points[k, 1]) - dy * (points[n, 0] - points[k, 0]) > slack
        if not within:
            return True
    return False


@kernel
def _fill_clashes(points: FloatRows, starts: Indices, out: Mutable[FlagRows]) -> None:
    """Write which convex outlines, counter-clockwise, share area: no side of either has all of the other beyond it."""
    for one in range(starts.shape[0] - 1):
        for other in range(one):
            a, b, c, d = starts[one], starts[one + 1], starts[other], starts[other + 1]
            if not (_is_beside(points, a, b, c, d) or _is_beside(points, c, d, a, b)):
                out[one, other] = out[other, one] = True


def _sheet(pieces: list[list[Floats]]) -> tuple[Floats, Ints]:
    """Pieces as triangles that share their vertices."""
    corners = []
    for piece in pieces:
        for left, right in pairwise(piece):
            a, b, c, d = left[:-1], left[1:], right[1:], right[:-1]
            corners += [np.stack((a, b, c), axis=1), np.stack((a, c, d), axis=1)]
    loose = np.concatenate(corners)
    firsts, number = distinct_rows(np.ascontiguousarray(loose.reshape(-1, 3)))
    triangles = number.reshape(-1, 3)
    a, b, c = (loose[:, k, :2] for k in range(3))
    twice = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    triangles = np.where(twice[:, None] < 0.0, triangles[:, [0, 2, 1]], triangles)
    return loose.reshape(-1, 3)[firsts], triangles[np.abs(twice) > 0.0].astype(np.int32)
