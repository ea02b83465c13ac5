"""Levels for bare contours: counted along a line drawn across them."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats, Indices
from evrin.survey.lines.cutting import nearest_on
from evrin.survey.lines.strands import Strand

Place = tuple[float, float]


@dataclass(frozen=True)
class Ladder:
    """A line drawn across contours: the first it meets has level *start*, each further one *step* more."""

    along: tuple[Place, ...]
    start: float
    step: float


@dataclass(frozen=True)
class LevelClash:
    """A contour that was to have two levels: its number, the place, and both."""

    line: int
    place: Place
    levels: tuple[float, float]


@dataclass(frozen=True, eq=False)
class Levelled:
    """Levels by line, NaN where no ladder meets it, and where ladders disagree; the first level is used there.

    ``unmet`` has the ladders and corrections that meet no contour: the place, and which.
    """

    levels: Floats
    clashes: list[LevelClash]
    unmet: list[tuple[Place, str]] = field(default_factory=list)


def levels_along(
    strands: Sequence[Strand],
    ladders: Sequence[Ladder],
    corrections: Sequence[tuple[Place, float]] = (),
    reach: float = np.inf,
) -> Levelled:
    """Give bare contours their levels.

    Parameters
    ----------
    strands : sequence of Strand
        Their heights are not used.
    ladders : sequence of Ladder
        Lines across the contours, up or down. Where one meets the same contour a second time, it counts on all the
        same, and the disagreement is reported.
    corrections : sequence of ((float, float), float)
        The contour nearest to a place has this level, whatever a ladder gives.
    reach : float
        How far that contour may be from the place.

    Returns
    -------
    Levelled

    Raises
    ------
    DataError
        Where a ladder has no step.

    Examples
    --------
    >>> lines = [Strand.made(f"c{k}", np.array([[0.0, k, np.nan], [9, k, np.nan]])) for k in range(3)]
    >>> levels_along(lines, [Ladder(((4.0, -1.0), (4.0, 3.0)), 42.0, 0.5)]).levels.tolist()
    [42.0, 42.5, 43.0]
    """
    levels = np.full(len(strands), np.nan)
    clashes: list[LevelClash] = []
    unmet: list[tuple[Place, str]] = []
    owners, legs = _legs(strands)
    for ladder in ladders:
        if ladder.step == 0.0:
            raise DataError("a ladder of contours needs a step up or down; it is 0")
        met, places = _meetings(ladder, owners, legs)
        if not len(met):
            unmet.append((ladder.along[0], f"the ladder from {ladder.along[0]} to {ladder.along[-1]} meets no contour"))
        for count, (line, place) in enumerate(zip(met.tolist(), places.tolist(), strict=True)):
            level = ladder.start + count * ladder.step
            if np.isnan(levels[line]):
                levels[line] = level
            elif levels[line] != level:
                clashes.append(LevelClash(line, (place[0], place[1]), (float(levels[line]), level)))
    for at, level in corrections:
        distances = [nearest_on(strand, at)[1] for strand in strands]
        line = int(np.argmin(distances)) if strands else -1
        if line < 0 or distances[line] > reach:
            nearest = f"the nearest is {distances[line]:.3f} away" if strands else "there is none"
            unmet.append((at, f"set_level to {level:g} meets no contour: {nearest}"))
            continue
        levels[line] = level
        clashes = [clash for clash in clashes if clash.line != line]
    return Levelled(levels, clashes, unmet)


def _legs(strands: Sequence[Strand]) -> tuple[Indices, Floats]:
    """All legs of all lines as rows of easting, northing, easting, northing, and whose each is."""
    around = [strand.around()[:, :2] for strand in strands]
    legs = [np.hstack((places[:-1], places[1:])) for places in around]
    owners = np.repeat(np.arange(len(strands)), [len(each) for each in legs])
    return owners, np.concatenate([np.empty((0, 4)), *legs])


def _meetings(ladder: Ladder, owners: Indices, legs: Floats) -> tuple[Indices, Floats]:
    """Which lines a ladder meets, in order along it, and where."""
    lines: list[Indices] = [np.empty(0, np.int64)]
    places: list[Floats] = [np.empty((0, 2))]
    rungs = np.array(ladder.along)
    for k, (start, end) in enumerate(itertools.pairwise(rungs), 2):
        leg = end - start
        a, b = legs[:, :2] - start, legs[:, 2:] - start
        from_a, from_b = leg[0] * a[:, 1] - leg[1] * a[:, 0], leg[0] * b[:, 1] - leg[1] * b[:, 0]
        meets = np.flatnonzero((from_a > 0.0) != (from_b > 0.0))
        across = from_a[meets] / (from_a[meets] - from_b[meets])
        place = a[meets] + across[:, None] * (b[meets] - a[meets])
        part = (place @ leg) / float(leg @ leg)
        # A contour at a bend belongs to the leg that begins there; one at the very end has no other.
        on = (part >= 0.0) & ((part < 1.0) | ((part == 1.0) & (k == len(rungs))))
        order = np.argsort(part[on], kind="stable")
        lines.append(owners[meets[on]][order])
        places.append(place[on][order] + start)
    return np.concatenate(lines), np.concatenate(places)
