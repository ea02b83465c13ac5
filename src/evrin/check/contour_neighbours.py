"""Contours beside one another on a surface: which fit no neighbour, and between which some seem to be missing."""

from __future__ import annotations

from collections import defaultdict
from typing import NamedTuple

import numpy as np
import scipy

from evrin.kernels import Floats, Indices
from evrin.surface.surface import Surface

_FEWEST_EDGES = 3
_OUT_OF_STEP = 1.5
_LOOKED_AT = 12
_AT_ONCE = 4096
_NEAREST = 400
_AROUND = 6
_SPARED = 3
_FEWEST_LEVELS, _MOST_OFF, _ON_STEP = 6, 2, 0.02


class WideGap(NamedTuple):
    """A gap between two contours wider than those around: the contours, the place, and the step around."""

    between: tuple[int, int]
    place: tuple[float, float]
    step: float


class ContourNeighbours:
    """Which contours are neighbours, through how many edges of a surface, and where.

    What is usual is asked of the neighbourhood, as one map can have contours at two intervals: a gap is too wide where
    of the six nearest pairs of other neighbours fewer than three are as far apart.

    Parameters
    ----------
    surface : Surface
        The surface that the contours went into.

    Attributes
    ----------
    levels : (n,) float64
        Of the lines of the surface, NaN for those that are no contours.
    """

    def __init__(self, surface: Surface) -> None:
        self.levels = np.array(
            [_level(line.points) if line.effect == "contour" else np.nan for line in surface.lines] or [np.nan]
        )
        line_of = np.full(len(surface.vertices), -1, np.int64)
        for k in range(3):
            owner = surface.edge_lines[:, k]
            has_level = (owner >= 0) & np.isfinite(self.levels)[owner]
            line_of[surface.triangles[has_level, k]] = line_of[surface.triangles[has_level, (k + 1) % 3]] = owner[
                has_level
            ]
        half = np.flatnonzero((surface.mates >= 0) & (np.arange(len(surface.mates)) < surface.mates))
        tails, heads = surface.triangles[half // 3, half % 3], surface.triangles[half // 3, (half + 1) % 3]
        one, other = line_of[tails], line_of[heads]
        # Loops at one level are beside each other on every ridge.
        between = (one >= 0) & (other >= 0) & (self.levels[one] != self.levels[other])
        edges = np.sort(np.column_stack((one, other))[between], axis=1)
        self._middles = (surface.vertices[tails[between], :2] + surface.vertices[heads[between], :2]) / 2.0
        self._pairs, inverse, self._counts = np.unique(edges, axis=0, return_inverse=True, return_counts=True)
        self._pair_of: Indices = inverse.ravel()
        self._apart = np.abs(self.levels[self._pairs[:, 0]] - self.levels[self._pairs[:, 1]]).round(6)
        self._beside: dict[int, list[int]] = defaultdict(list)
        for k, (first, second) in enumerate(self._pairs.tolist()):
            self._beside[first].append(k)
            self._beside[second].append(k)

    def levels_beside(self, number: int) -> list[float]:
        """Return the levels of a contour's neighbours, the lowest first.

        Parameters
        ----------
        number : int
            Of the contour.
        """
        return sorted({float(self.levels[self._other(k, number)]) for k in self._beside[number]})

    def odd_ones(self) -> list[int]:
        """Return contours that are out of step with most of what is around them, which is in step by itself."""
        shares: dict[int, float] = {}
        for number, pairs in sorted(self._beside.items()):
            step = self._step_without(number)
            out = sum(int(self._counts[k]) for k in pairs if self._apart[k] > _OUT_OF_STEP * step)
            share = out / sum(int(self._counts[k]) for k in pairs)
            beside = self.levels_beside(number)
            if step > 0.0 and share > 0.5 and beside[-1] - beside[0] <= 2.0 * _OUT_OF_STEP * step:
                shares[number] = share
        # Of an odd one and its neighbours only the odd one is out of step.
        return [
            number
            for number, share in shares.items()
            if not any(
                (shares[other], -other) > (share, -number)
                for other in (self._other(k, number) for k in self._beside[number])
                if other in shares
            )
        ]

    def off_interval(self) -> tuple[list[int], float]:
        """Return contours at levels that no other shares and the interval of all others steps over, and that interval.

        Where several levels are between those of the interval, they are supplementary contours.
        """
        given = np.flatnonzero(np.isfinite(self.levels))
        levels, count = np.unique(self.levels[given].round(6), return_counts=True)
        if len(levels) < _FEWEST_LEVELS:
            return [], 0.0
        step = float(np.median(np.diff(levels[count > 1] if (count > 1).sum() >= _FEWEST_LEVELS else levels)))
        parts = levels / step - np.floor(levels / step + 1e-6)
        # Levels need not be multiples of the interval: they start from that of most.
        base = float(parts[np.argmax([(np.abs(parts - part) < _ON_STEP).sum() for part in parts])])
        off = np.abs((parts - base + 0.5) % 1.0 - 0.5) > _ON_STEP
        if not off.any() or off.sum() > _MOST_OFF or (count[off] > 1).any():
            return [], step
        return given[np.isin(self.levels[given].round(6), levels[off])].tolist(), step

    def wide_gaps(self) -> list[WideGap]:
        """Return gaps between neighbours that are wider than those around."""
        if not len(self._pairs):
            return []
        least = float(self._apart.min())
        tree = scipy.spatial.cKDTree(self._middles)
        out = []
        asked = np.flatnonzero((self._apart > _OUT_OF_STEP * least) & (self._counts >= _FEWEST_EDGES))
        order = np.argsort(self._pair_of, kind="stable")
        starts = np.searchsorted(self._pair_of[order], np.arange(len(self._pairs) + 1))
        samples = []
        for k in asked.tolist():
            edges = order[starts[k] : starts[k + 1]]
            samples.append(edges[np.linspace(0, len(edges) - 1, min(len(edges), _LOOKED_AT)).astype(np.int64)])
        widths = self._steps_around(tree, samples)
        for k, edges, steps in zip(asked.tolist(), samples, widths, strict=True):
            wide = edges[self._apart[k] > _OUT_OF_STEP * steps]
            if len(wide) >= _FEWEST_EDGES:
                x, y = self._middles[wide[len(wide) // 2]].tolist()
                one, other = self._pairs[k].tolist()
                out.append(WideGap((one, other), (x, y), float(np.median(steps[np.isin(edges, wide)]))))
        return out

    def _steps_around(self, tree: scipy.spatial.cKDTree, samples: list[Indices]) -> list[Floats]:
        """For each sample of edges, how far apart other neighbours are at each."""
        edges = np.concatenate([np.empty(0, np.int64), *samples])
        steps = np.empty(len(edges))
        count = np.arange(1, min(_NEAREST, len(self._middles)) + 1)
        for start in range(0, len(edges), _AT_ONCE):
            part = edges[start : start + _AT_ONCE]
            near = np.asarray(tree.query(self._middles[part], k=count)[1])
            for row, edge in enumerate(part.tolist()):
                steps[start + row] = self._step_among(self._pair_of[near[row]], int(self._pair_of[edge]))
        return np.split(steps, np.cumsum([len(each) for each in samples])[:-1]) if samples else []

    def _step_among(self, others: Indices, pair: int) -> float:
        """How far apart the nearest other pairs are; infinite where several are as far apart as this pair."""
        distinct = list(dict.fromkeys(others[others != pair].tolist()))[:_AROUND]
        apart = np.sort(self._apart[distinct])
        if len(apart) < _SPARED or (apart * _OUT_OF_STEP > self._apart[pair]).sum() >= _SPARED:
            return float("inf")
        return float(apart[len(apart) // 2])

    def _step_without(self, number: int) -> float:
        """The step among a contour's neighbours and theirs, itself left aside: the upper quartile, or of all."""
        pairs = {k for beside in self._beside[number] for k in self._beside[self._other(beside, number)]}
        apart = [float(self._apart[k]) for k in pairs if number not in self._pairs[k]]
        steps = np.sort(apart if len(apart) > 1 else self._apart)
        return float(steps[(3 * len(steps)) // 4 if len(steps) > 3 else len(steps) // 2])

    def _other(self, pair: int, number: int) -> int:
        one, other = self._pairs[pair].tolist()
        return int(other if one == number else one)


def _level(points: Floats) -> float:
    heights = points[np.isfinite(points[:, 2]), 2]
    return float(heights[0]) if len(heights) and (heights == heights[0]).all() else np.nan
