"""Directed edges, end to end as paths."""

from __future__ import annotations

from collections.abc import Sequence


def chained(tails: Sequence[int], heads: Sequence[int]) -> list[list[int]]:
    """Return paths made of edges from tail to head; a closed one ends where it begins.

    Parameters
    ----------
    tails, heads : sequence of int

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
