"""How long work takes, and two kinds of work in turn."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable

import numpy as np

REPEATS = 3


def seconds(work: Callable[[], object], repeats: int = REPEATS) -> float:
    """Return the best of several times, so that another load on the machine counts least."""
    best = float("inf")
    for _ in range(repeats):
        gc.collect()
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best


def side_by_side(own: Callable[[], object], other: Callable[[], object], rounds: int = 1) -> tuple[float, float]:
    """Return the median of each, run in turn: the machine's own changes of speed then fall on both."""
    own_times, other_times = [seconds(own, 1), seconds(own, 1)], []
    for _ in range(rounds):
        other_times.append(seconds(other, 1))
        own_times += [seconds(own, 1), seconds(own, 1)]
    return float(np.median(own_times)), float(np.median(other_times))
