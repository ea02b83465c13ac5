"""Small shapes that repeat in a drawing: crosses, ticks, circles and squares that mark spots."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import scipy
from numpy.typing import NDArray

from evrin.kernels import Flags, Floats, Indices
from evrin.survey.contents import Line

# In metres: a mark on a plan at 1:1000 is 3 mm; heights of one mark are those of one spot.
_LARGEST, _FLAT = 3.0, 1e-6
_FEWEST_ALIKE = 5
_DIGITS = 3
# Letters stand in rows, each by the next; spots do not.
_BESIDE = 1.6
_LETTERING = 0.5
_TEXT_REACH = 2.5
_MOST_PAIRS = 20_000_000


class Symbols(NamedTuple):
    """Symbols among the lines of a drawing.

    Attributes
    ----------
    places : (n, 3) float64
        The centre of each, at the height of its lines.
    lines : list of (k,) int64
        The lines that each consists of.
    """

    places: Floats
    lines: list[Indices]


def symbols_among(lines: Sequence[Line], numbers: Floats, metre: float) -> Symbols:
    """Find the small flat shapes that repeat, and mark spots: those at a height, or with a number beside.

    Shapes are alike if they agree once moved and turned. What is drawn closely in rows is lettering, and a single
    stroke is a symbol only beside a number; both would else be taken from dashes and from texts that were exploded.

    Parameters
    ----------
    lines : sequence of Line
        All lines of the drawing.
    numbers : (k, 2) float64
        Where texts are that give a height.
    metre : float
        How long a metre is in the unit of the drawing.

    Returns
    -------
    Symbols

    Examples
    --------
    >>> from evrin.surface import Shots
    >>> arms = [np.array([[-1.0, 0, 9], [1, 0, 9]]), np.array([[0.0, -1, 9], [0, 1, 9]])]
    >>> shots = Shots.of_file("plan.dxf", [1, 2])
    >>> crosses = [Line("spots", arm + [10.0 * k, 0, 0], shots) for k in range(6) for arm in arms]
    >>> symbols_among(crosses, np.empty((0, 2)), metre=1.0).places[:2].tolist()
    [[0.0, 0.0, 9.0], [10.0, 0.0, 9.0]]
    """
    beside = scipy.spatial.cKDTree(numbers) if len(numbers) else None
    left, found = _small_and_flat(lines, metre), list[_Shape]()
    # Around one centre first, so that two crosses that touch stay two.
    for around_one_centre in (True, False):
        if len(left) < _FEWEST_ALIKE:
            break
        shapes = _shapes(lines, left, _LARGEST * metre, around_one_centre=around_one_centre)
        found += _repeated(shapes, beside)
        left = np.setdiff1d(left, np.concatenate([np.empty(0, np.int64), *(shape.lines for shape in found)]))
    found.sort(key=lambda shape: int(shape.lines[0]))
    return Symbols(np.array([shape.centre for shape in found]).reshape(-1, 3), [shape.lines for shape in found])


def _repeated(shapes: list[_Shape], beside: scipy.spatial.cKDTree | None) -> list[_Shape]:
    """The shapes that repeat and mark spots."""
    if not shapes:
        return []
    every = scipy.spatial.cKDTree(np.array([shape.centre[:2] for shape in shapes]))
    groups: defaultdict[tuple[object, ...], list[_Shape]] = defaultdict(list)
    for shape in shapes:
        groups[shape.signature].append(shape)
    return [
        shape
        for alike in groups.values()
        if len(alike) >= _FEWEST_ALIKE and _mark_spots(alike, every, beside)
        for shape in alike
    ]


class _Shape(NamedTuple):
    """Lines that touch, as one shape."""

    lines: Indices
    centre: Floats
    size: float
    signature: tuple[object, ...]


def _small_and_flat(lines: Sequence[Line], metre: float) -> Indices:
    """The lines that are small and at one height."""
    counts = np.array([len(line.xyz) for line in lines], np.int64)
    if not len(counts):
        return np.empty(0, np.int64)
    xyz = np.concatenate([line.xyz for line in lines])
    starts = np.cumsum(counts) - counts
    span = np.maximum.reduceat(xyz, starts) - np.minimum.reduceat(xyz, starts)
    is_small: Flags = (span[:, :2].max(axis=1) <= _LARGEST * metre) & (span[:, :2].max(axis=1) > 0.0)
    return np.flatnonzero(is_small & (np.nan_to_num(span[:, 2]) <= _FLAT * metre))


def _shapes(lines: Sequence[Line], small: Indices, largest: float, *, around_one_centre: bool) -> list[_Shape]:
    """Small lines joined to shapes where they touch, or have one centre; those of larger ones are left out."""
    chains = _joined_at_ends(lines, small)
    # The pieces of a line that was exploded make up a long one, which is dealt with before any two are compared.
    chains = [chain for chain in chains if _size(*_box(lines, chain)) <= largest]
    if not chains:
        return []
    boxes = np.array([_box(lines, chain) for chain in chains])
    middle, half = (boxes[:, 0] + boxes[:, 1]) / 2.0, (boxes[:, 1] - boxes[:, 0]) / 2.0
    slack = 1e-9 * float(np.abs(middle).max(initial=1.0))
    tree, reach = scipy.spatial.cKDTree(middle), slack if around_one_centre else 2.0 * float(half.max())
    if tree.count_neighbors(tree, reach, p=np.inf) > _MOST_PAIRS:
        return []
    near = tree.query_pairs(reach, p=np.inf, output_type="ndarray")
    meets = (np.abs(middle[near[:, 0]] - middle[near[:, 1]]) <= half[near[:, 0]] + half[near[:, 1]] + slack).all(axis=1)
    parts = [np.concatenate([chains[k] for k in part.tolist()]) for part in _components(near[meets], len(chains))]
    return [shape for part in parts if (shape := _shape(lines, part)).size <= largest]


def _joined_at_ends(lines: Sequence[Line], small: Indices) -> list[Indices]:
    """Lines that follow one another, end at end."""
    ends = np.array([lines[k].xyz[[0, -1], :2] for k in small.tolist()]).reshape(-1, 2)
    _, place = np.unique(ends, axis=0, return_inverse=True)
    count = int(place.max(initial=-1)) + 1
    edges = np.column_stack((np.arange(len(ends)) // 2, len(small) + place.ravel()))
    parts = _components(edges, len(small) + count)
    return [small[part[part < len(small)]] for part in parts]


def _components(pairs: NDArray[np.integer], count: int) -> list[NDArray[np.int64]]:
    """Numbers that are joined by pairs, part by part."""
    graph = scipy.sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    _, group = scipy.sparse.csgraph.connected_components(graph, directed=False)
    order = np.argsort(group, kind="stable")
    return np.split(order, np.flatnonzero(np.diff(group[order])) + 1)


def _box(lines: Sequence[Line], members: Indices) -> tuple[Floats, Floats]:
    corners = np.concatenate([lines[k].xyz[:, :2] for k in members.tolist()])
    return corners.min(axis=0), corners.max(axis=0)


def _size(low: Floats, high: Floats) -> float:
    return float((high - low).max())


def _shape(lines: Sequence[Line], members: Indices) -> _Shape:
    corners = np.concatenate([lines[k].xyz for k in members.tolist()])
    size = _size(*_box(lines, members))
    centre = np.append(corners[:, :2].mean(axis=0), corners[0, 2])
    # Distances from the centre stay the same wherever the shape is and however it is turned.
    out = np.sort(np.hypot(*(corners[:, :2] - centre[:2]).T))
    signature = (tuple(sorted(len(lines[k].xyz) for k in members.tolist())), *np.round(out, _DIGITS).tolist())
    return _Shape(np.sort(members), centre, size, signature)


def _mark_spots(alike: list[_Shape], every: scipy.spatial.cKDTree, beside: scipy.spatial.cKDTree | None) -> bool:
    """Whether shapes that are alike mark spots: no letters, no dashes, and at a height or beside a number."""
    places = np.array([shape.centre for shape in alike])
    size = alike[0].size
    if every.n > 1:
        to_next = np.asarray(every.query(places[:, :2], k=2)[0])[:, 1]
        if (to_next <= _BESIDE * size).mean() > _LETTERING:
            return False
    has_number = np.zeros(len(alike), np.bool_)
    if beside is not None:
        has_number = np.asarray(beside.query(places[:, :2])[0]) <= _TEXT_REACH * size
    is_stroke = len(alike[0].lines) == 1 and alike[0].signature[0] == (2,)
    is_high = np.isfinite(places[:, 2]) & (np.abs(places[:, 2]) > 1e-9)
    return bool(2 * has_number.sum() > len(alike) or (not is_stroke and 2 * is_high.sum() > len(alike)))
