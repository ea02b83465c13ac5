"""Kernels side by side: each core takes a part of the rows."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_Answer = TypeVar("_Answer")
_SMALL = 100_000


def side_by_side(work: Callable[[int, int], _Answer], count: int) -> list[_Answer]:
    """Do work on the rows from one number to another, all of them at once or a part on each core.

    Parameters
    ----------
    work : callable
        Takes the first row and the one after the last.
    count : int
        How many rows there are.

    Returns
    -------
    list
        What each part gave, in order.

    Examples
    --------
    >>> side_by_side(lambda first, stop: stop - first, 12)
    [12]
    """
    parts = (os.cpu_count() or 1) if count >= _SMALL else 1
    if parts == 1:
        return [work(0, count)]
    edges = [count * k // parts for k in range(parts + 1)]
    with ThreadPoolExecutor(parts) as threads:
        return list(threads.map(work, edges[:-1], edges[1:]))
