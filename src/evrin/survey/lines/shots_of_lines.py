"""Which of the shots near plan lines each line passes through."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy

from evrin.base.tolerances import DRAWN_THROUGH, HEIGHTS_AGREE
from evrin.kernels import Flags, Floats, Indices

# Five times the lower quartile of distances that are spread evenly from 0 is a little more than the largest of them,
# and stays so where up to three shots of four belong to no line at all.
_QUARTILES_WIDE = 5.0
_FEWEST_TO_JUDGE = 4
_TIMES_RESIDUAL = 4.0


class PlanLine(NamedTuple):
    """A line in plan that is to take its heights from shots.

    Attributes
    ----------
    xy : (k, 2) float64
        Its vertices as drawn.
    closed : bool
        Whether it ends where it begins.
    codes : frozenset of str
        Field codes that it goes by, such as its layer, in small letters; empty if none is known.
    group : int
        Lines of one group are drawn with one accuracy, as those of one file are.
    reach : float or None
        How far from the line its shots lie at most; None if the data decides.
    """

    xy: Floats
    closed: bool
    codes: frozenset[str] = frozenset()
    group: int = 0
    reach: float | None = None


@dataclass(frozen=True, eq=False)
class ShotsOfLines:
    """Which shots each line passes through.

    Attributes
    ----------
    of_line : list of (s,) int64
        Shots of each line.
    offsets : list of (s,) float64
        How far to the left of the line as drawn each of them lies.
    accuracy : dict of int to float
        How near to their shots the lines of each group are drawn.
    farthest : dict of int to float
        The largest distance from a line of each group to a shot of it.
    shared : list of (int, int, int)
        A shot and two lines that both pass through it, though they are apart there.
    beside : list of (int, int, float, float)
        A shot, the line that it is nearest to without being a shot of it, and how far it is from that line in plan and
        in height.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.survey.lines.shots_of_lines import PlanLine, shots_of_lines
    >>> foot = PlanLine(np.array([[0.0, 0.0], [10.0, 0.0]]), False)
    >>> top = PlanLine(np.array([[0.0, 0.03], [10.0, 0.03]]), False)
    >>> shots = np.array([[0.0, 0.0, 5.0], [0.0, 0.03, 5.1], [10.0, 0.0, 5.0], [10.0, 0.03, 5.1]])
    >>> [rows.tolist() for rows in shots_of_lines([foot, top], shots, [""] * 4, reach=0.1, metre=1.0).of_line]
    [[0, 2], [1, 3]]
    """

    of_line: list[Indices]
    offsets: list[Floats]
    accuracy: dict[int, float]
    farthest: dict[int, float]
    shared: list[tuple[int, int, int]]
    beside: list[tuple[int, int, float, float]]


@dataclass(frozen=True, eq=False)
class _Near:
    """Pairs of a line and a shot within reach of it, each once, in the order of lines."""

    line: Indices
    shot: Indices
    offset: Floats
    chainage: Floats

    @property
    def distance(self) -> Floats:
        return np.abs(self.offset)

    def only(self, flags: Flags) -> _Near:
        return _Near(self.line[flags], self.shot[flags], self.offset[flags], self.chainage[flags])


def shots_of_lines(
    lines: Sequence[PlanLine],
    shots: Floats,
    codes: Sequence[str],
    *,
    reach: float,
    metre: float,
    tree: scipy.spatial.cKDTree | None = None,
) -> ShotsOfLines:
    """Share out shots among the lines that pass them.

    A shot is one of the line that it is nearest to, among those that go by its code if there are such lines. Other
    lines pass through it, too, if they are as near to it as lines of their file are drawn to their shots: lines that
    meet share a shot. A shot that lies farther from the line than that, and does not fit the heights of the shots
    that lie nearer, is beside the line.

    Parameters
    ----------
    lines : sequence of PlanLine
        The lines.
    shots : (n, 3) float64
        Where heights come from.
    codes : sequence of str
        The code of each shot in small letters, without a string number; empty if it has none.
    reach : float
        The largest distance of a shot from a line that states none.
    metre : float
        How long a metre is in the unit of the coordinates.
    tree : scipy.spatial.cKDTree, optional
        Over the places of the shots.

    Returns
    -------
    ShotsOfLines
    """
    tree = tree if tree is not None else scipy.spatial.cKDTree(shots[:, :2])
    near = _pairs(lines, shots, tree, reach)
    group = np.array([line.group for line in lines], np.int64)[near.line]
    least = DRAWN_THROUGH.metres * metre
    is_best = _best(near, lines, codes, least)
    accuracy = {
        number: max(_QUARTILES_WIDE * float(np.quantile(near.distance[is_best & (group == number)], 0.25)), least)
        for number in np.unique(group).tolist()
    }
    is_drawn_through = near.distance <= np.array([accuracy[number] for number in group.tolist()])
    is_end = _is_nearest_to(near, [line.xy[:0] if line.closed else line.xy[[0, -1]] for line in lines], tree)
    is_own = is_best | is_end | (is_drawn_through & ~_is_coded_otherwise(near, lines, codes))
    is_firm = is_own & (is_drawn_through | _is_nearest_to(near, [line.xy for line in lines], tree))
    misfit = _misfits(near, is_firm, lines, shots, HEIGHTS_AGREE.metres * metre, reach)
    is_off = is_own & ~is_firm & np.isfinite(misfit)
    beside = [
        (int(shot), int(line), float(distance), float(off))
        for shot, line, distance, off in zip(
            near.shot[is_off], near.line[is_off], near.distance[is_off], misfit[is_off], strict=True
        )
    ]
    is_own &= ~is_off
    own = near.only(is_own)
    bounds = np.searchsorted(own.line, np.arange(len(lines) + 1))
    return ShotsOfLines(
        np.split(own.shot, bounds[1:-1]),
        np.split(own.offset, bounds[1:-1]),
        accuracy,
        {number: float(near.distance[is_own & (group == number)].max(initial=0.0)) for number in accuracy},
        _shared(own, least),
        beside,
    )


def _pairs(lines: Sequence[PlanLine], shots: Floats, tree: scipy.spatial.cKDTree, reach: float) -> _Near:
    """Every line with every shot within its reach."""
    parts: list[tuple[Indices, Indices, Floats, Floats]] = []
    for number, line in enumerate(lines):
        ends = np.vstack((line.xy, line.xy[:1])) if line.closed else line.xy
        if len(ends) < 2:
            ends = np.vstack((ends, ends))[:2]
        start, leg = ends[:-1], np.diff(ends, axis=0)
        length = np.hypot(*leg.T)
        within = reach if line.reach is None else line.reach
        lists = tree.query_ball_point(start + leg / 2.0, length / 2.0 + within)
        legs = np.repeat(np.arange(len(leg)), [len(each) for each in lists])
        if not len(legs):
            continue
        shot = np.concatenate([np.array(each, np.int64) for each in lists])
        offset = shots[shot, :2] - start[legs]
        square = np.maximum(length[legs] ** 2, np.finfo(float).tiny)
        part = np.clip((offset * leg[legs]).sum(axis=1) / square, 0.0, 1.0)
        distance = np.hypot(*(offset - part[:, None] * leg[legs]).T)
        is_right = leg[legs, 0] * offset[:, 1] < leg[legs, 1] * offset[:, 0]
        chainage = (np.cumsum(length) - length)[legs] + part * length[legs]
        order = np.lexsort((distance, shot))
        is_first = np.append(True, np.diff(shot[order]) != 0) & (distance[order] <= within)
        order = order[is_first]
        signed = np.where(is_right, -distance, distance)
        parts.append((np.full(len(order), number), shot[order], signed[order], chainage[order]))
    if not parts:
        empty = np.empty(0, np.int64)
        return _Near(empty, empty, np.empty(0), np.empty(0))
    line_of, shot_of, offsets, chainages = (np.concatenate(column) for column in zip(*parts, strict=True))
    return _Near(line_of, shot_of, offsets, chainages)


def _best(near: _Near, lines: Sequence[PlanLine], codes: Sequence[str], least: float) -> Flags:
    """The pairs in which a line is the nearest to a shot, among those that go by its code if there are such."""
    has_code = np.array(
        [
            bool(codes[k]) and codes[k] in lines[j].codes
            for k, j in zip(near.shot.tolist(), near.line.tolist(), strict=True)
        ],
        np.bool_,
    )
    order = np.lexsort((near.distance, ~has_code, near.shot))
    is_first = np.append(True, np.diff(near.shot[order]) != 0)[: len(order)]
    best = np.empty(len(order), np.int64)
    best[order] = order[is_first][np.cumsum(is_first) - 1]
    is_as_near: Flags = (has_code == has_code[best]) & (near.distance <= near.distance[best] + least)
    return is_as_near


def _is_coded_otherwise(near: _Near, lines: Sequence[PlanLine], codes: Sequence[str]) -> Flags:
    """The pairs of a shot with a line that goes by the code of other shots."""
    shot_codes = set(codes)
    is_coded = [bool(line.codes & shot_codes) for line in lines]
    pairs = zip(near.shot.tolist(), near.line.tolist(), strict=True)
    return np.array([is_coded[line] and codes[shot] not in lines[line].codes for shot, line in pairs], np.bool_)


def _is_nearest_to(near: _Near, vertices: Sequence[Floats], tree: scipy.spatial.cKDTree) -> Flags:
    """The pairs in which the shot is the one nearest to a vertex, of those given for the line."""
    line = np.repeat(np.arange(len(vertices)), [len(each) for each in vertices])
    nearest = tree.query(np.concatenate([*vertices, np.empty((0, 2))]))[1]
    key = np.asarray(near.line * tree.n + near.shot)
    return np.isin(key, line * tree.n + nearest)


def _misfits(
    near: _Near, is_firm: Flags, lines: Sequence[PlanLine], shots: Floats, least: float, beyond: float
) -> Floats:
    """By how much a shot is off the heights of the firm shots on either side of it; NaN where it fits them."""
    out = np.full(len(near.line), np.nan)
    bounds = np.searchsorted(near.line, np.arange(len(lines) + 1))
    for line, first, last in zip(lines, bounds[:-1].tolist(), bounds[1:].tolist(), strict=True):
        rows = np.arange(first, last)
        firm = rows[is_firm[first:last]]
        firm = firm[np.argsort(near.chainage[firm], kind="stable")]
        if line.reach is not None or len(firm) < _FEWEST_TO_JUDGE:
            continue
        along, heights = near.chainage[firm], shots[near.shot[firm], 2]
        off = shots[near.shot[rows], 2] - _carried_on(near.chainage[rows], along, heights)
        is_near = (near.chainage[rows] > along[0] - beyond) & (near.chainage[rows] < along[-1] + beyond)
        is_off = ~is_firm[rows] & is_near & (np.abs(off) > max(least, _TIMES_RESIDUAL * _residual(along, heights)))
        out[rows[is_off]] = off[is_off]
    return out


def _carried_on(chainages: Floats, along: Floats, heights: Floats) -> Floats:
    """Heights between places along a line, and beyond its ends at the grade that it has there."""
    out = np.interp(chainages, along, heights)
    for end, before in ((0, 1), (-1, -2)):
        run = along[end] - along[before]
        is_beyond = (chainages < along[0]) if end == 0 else (chainages > along[-1])
        if run != 0.0:
            grade = (heights[end] - heights[before]) / run
            out[is_beyond] = heights[end] + grade * (chainages[is_beyond] - along[end])
    return out


def _residual(along: Floats, heights: Floats) -> float:
    """How far a height usually is from the straight line between its neighbours."""
    before, after = along[1:-1] - along[:-2], along[2:] - along[1:-1]
    total = before + after
    inner = np.where(
        total > 0.0, (heights[:-2] * after + heights[2:] * before) / np.where(total > 0.0, total, 1.0), 0.0
    )
    return float(np.median(np.abs(np.where(total > 0.0, heights[1:-1] - inner, 0.0))))


def _shared(own: _Near, least: float) -> list[tuple[int, int, int]]:
    """Shots that two lines pass through, of pairs of lines that share several and are apart there."""
    order = np.lexsort((own.line, own.shot))
    shot, line, distance = own.shot[order], own.line[order], own.distance[order]
    pairs: dict[tuple[int, int], list[tuple[int, float]]] = {}
    starts = np.flatnonzero(np.append(True, np.diff(shot) != 0)[: len(shot)])
    for first, last in zip(starts.tolist(), [*starts[1:].tolist(), len(shot)], strict=True):
        for one in range(first, last):
            for other in range(one + 1, last):
                apart = abs(float(distance[one] - distance[other]))
                pairs.setdefault((int(line[one]), int(line[other])), []).append((int(shot[one]), apart))
    return [
        (row, one, other)
        for (one, other), rows in pairs.items()
        if len(rows) > 1 and max(apart for _, apart in rows) > least
        for row, _ in rows
    ]
