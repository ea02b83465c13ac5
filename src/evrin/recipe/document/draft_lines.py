"""A line across contours, for a person to count their levels along."""

from __future__ import annotations

import numpy as np

from evrin.kernels import Floats

_DIRECTIONS, _MOST_LEGS = 16, 200_000


def across_contours(lines: list[Floats]) -> list[list[float]]:
    """Return two places of the line, through the middle of contours (k, 2), that crosses most of them.

    Examples
    --------
    >>> level = [np.array([[0.0, y], [50.0, y]]) for y in (0.0, 10.0, 20.0)]
    >>> across_contours(level)
    [[25.0, -11.5], [25.0, 31.5]]
    """
    ends, _ = _best_across(lines)
    return [[round(float(x), 1), round(float(y), 1)] for x, y in ends]


def most_crossed(lines: list[Floats]) -> int:
    """Return how many of some lines (k, 2) the straight line crosses that crosses most of them."""
    return _best_across(lines)[1]


def _best_across(lines: list[Floats]) -> tuple[tuple[Floats, Floats], int]:
    legs = np.concatenate([np.stack((line[:-1], line[1:]), axis=1) for line in lines if len(line) > 1])
    owner = np.concatenate([np.full(len(line) - 1, k) for k, line in enumerate(lines) if len(line) > 1])
    legs, owner = legs[:_MOST_LEGS], owner[:_MOST_LEGS]
    low, high = legs.reshape(-1, 2).min(axis=0), legs.reshape(-1, 2).max(axis=0)
    middle, reach = (low + high) / 2.0, 0.52 * float(np.hypot(*(high - low))) / 1.3
    best, most = np.array([0.0, 1.0]), -1
    for k in range(_DIRECTIONS):
        angle = np.pi * k / _DIRECTIONS + np.pi / 2.0
        way = np.array([np.cos(angle), np.sin(angle)])
        side = (legs - middle) @ np.array([-way[1], way[0]])
        crossing = (side[:, 0] < 0.0) != (side[:, 1] < 0.0)
        count = len(np.unique(owner[crossing]))
        if count > most:
            best, most = way, count
    return (middle - reach * best, middle + reach * best), most
