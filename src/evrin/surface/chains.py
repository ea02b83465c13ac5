"""Directed edges, end to end as paths."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from evrin.kernels import Ints


def chained(tails: Sequence[int], heads: Sequence[int]) -> list[list[int]]:
    """Return paths made of edges from tail to head; a closed one ends where it begins.

    Parameters
    ----------
    tails, heads : sequence of int
        Where each edge begins and ends.

    Examples
    --------
    >>> chained([5, 1, 2, 7], [7, 2, 3, 5])
    [[1, 2, 3], [5, 7, 5]]
    """
    after: dict[int, list[int]] = {}
    for tail, head in zip(tails, heads, strict=True):
        after.setdefault(tail, []).append(head)
    ends = set(heads)
    # Open paths first, from where they begin; what is left then is closed.
    starts = [*sorted(after.keys() - ends), *sorted(after)]
    paths = []
    for start in starts:
        if start not in after:
            continue
        path = [start]
        while path[-1] in after:
            heads_here = after[path[-1]]
            path.append(heads_here.pop())
            if not heads_here:
                del after[path[-2]]
        paths.append(path)
    return paths


def loops_of(tails: Ints, heads: Ints) -> list[Ints]:
    """Return edges that form loops as these, none of them twice at one vertex.

    Parameters
    ----------
    tails, heads : (e,) int32
        Vertices from which edges lead and to which. At each vertex as many end as begin.

    Examples
    --------
    >>> [loop.tolist() for loop in loops_of(np.array([0, 1, 2, 2, 3, 4]), np.array([1, 2, 0, 3, 4, 2]))]
    [[2, 3, 4], [0, 1, 2]]
    """
    after: dict[int, list[int]] = {}
    for tail, head in zip(tails.tolist(), heads.tolist(), strict=True):
        after.setdefault(tail, []).append(head)
    loops = []
    while after:
        first = min(after)
        path, at = [first], {first: 0}
        while len(path) > 1 or first in after:
            vertex = _next(after, path[-1])
            if vertex not in at:
                at[vertex] = len(path)
                path.append(vertex)
                continue
            loops.append(np.array(path[at[vertex] :], np.int32))
            for left in path[at[vertex] + 1 :]:
                del at[left]
            del path[at[vertex] + 1 :]
    return loops


def _next(after: dict[int, list[int]], vertex: int) -> int:
    heads = after[vertex]
    head = heads.pop()
    if not heads:
        del after[vertex]
    return head
