"""Pieces of lines joined end to end, and levels passed along them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import scipy

from evrin.kernels import Floats, Indices
from evrin.survey.lines.strands import Strand

_NEAREST = 12


def joined_end_to_end(strands: Sequence[Strand], within: float) -> list[Strand]:
    """Join pieces whose ends are close to each other; the nearest ends first, and each end once.

    Pieces of different levels are not joined; one without a level takes that of the piece it is joined to. A line whose
    own two ends are that close, and which has four vertices or more, is closed.

    Parameters
    ----------
    strands : sequence of Strand
        Heights NaN where there is no level.
    within : float
        How far apart ends may be.

    Returns
    -------
    list of Strand
        In the order in which their first pieces came, with the names of these.

    Examples
    --------
    >>> one = Strand.made("a", np.array([[0.0, 0, 41], [5, 0, 41]]))
    >>> other = Strand.made("b", np.array([[9.0, 0, np.nan], [5.02, 0, np.nan]]))
    >>> [line.xyz.tolist() for line in joined_end_to_end([one, other], 0.05)]
    [[[0.0, 0.0, 41.0], [5.0, 0.0, 41.0], [5.02, 0.0, 41.0], [9.0, 0.0, 41.0]]]
    """
    partner = _partners(strands, within)
    out: list[Strand] = []
    done = np.zeros(len(strands), np.bool_)
    for k in range(len(strands)):
        if done[k]:
            continue
        chain = _chain(k, partner)
        done[[piece for piece, _ in chain]] = True
        out.append(_one_line(strands, chain, within))
    return out


def _partners(strands: Sequence[Strand], within: float) -> Indices:
    """The end that each end is joined to, -1 for none; ends ``2k`` and ``2k + 1`` are the first and last of line k."""
    partner = np.full(2 * len(strands), -1, np.int64)
    open_ones = [k for k, strand in enumerate(strands) if not strand.closed and len(strand) > 1]
    if not open_ones:
        return partner
    ends = np.array([end for k in open_ones for end in (2 * k, 2 * k + 1)])
    places = np.array([strands[end // 2].xyz[-(end % 2), :2] for end in ends.tolist()])
    apart, pairs = _near_pairs(places, within)
    level = np.array([_level(strand.xyz) for strand in strands])
    root = np.arange(len(strands))
    for row in np.lexsort((pairs[:, 1], pairs[:, 0], apart)).tolist():
        one, other = ends[pairs[row]].tolist()
        if partner[one] >= 0 or partner[other] >= 0 or one // 2 == other // 2:
            continue
        a, b = _root(root, one // 2), _root(root, other // 2)
        if np.isfinite(level[a]) and np.isfinite(level[b]) and level[a] != level[b]:
            continue
        partner[one], partner[other] = other, one
        if a != b:
            root[b] = a
            level[a] = level[b] if np.isnan(level[a]) else level[a]
    return partner


def _near_pairs(places: Floats, within: float) -> tuple[Floats, Indices]:
    """Pairs of places that are close, and how far apart: of each place with the nearest few."""
    count = min(_NEAREST, len(places))
    neighbours = scipy.spatial.cKDTree(places).query(places, k=np.arange(1, count + 1))
    apart, near = np.asarray(neighbours[0]), np.asarray(neighbours[1])
    pairs = np.column_stack((np.repeat(np.arange(len(places)), count), near.ravel()))
    close = pairs[(apart.ravel() <= within) & (pairs[:, 0] != pairs[:, 1])]
    pairs = np.unique(np.sort(close, axis=1), axis=0)
    return np.hypot(*(places[pairs[:, 0]] - places[pairs[:, 1]]).T), pairs


def _root(root: Indices, k: int) -> int:
    while root[k] != k:
        root[k] = root[root[k]]
        k = int(root[k])
    return k


def _chain(first: int, partner: Indices) -> list[tuple[int, bool]]:
    """The pieces of the line that one is in, in order, and whether each is turned round."""
    end = 2 * first
    seen = {first}
    # Back to where the line begins, or once round.
    while partner[end] >= 0 and int(partner[end]) // 2 not in seen:
        end = int(partner[end]) ^ 1
        seen.add(end // 2)
    chain = [(end // 2, end % 2 == 1)]
    along = {end // 2}
    end ^= 1
    while partner[end] >= 0 and int(partner[end]) // 2 not in along:
        end = int(partner[end])
        chain.append((end // 2, end % 2 == 1))
        along.add(end // 2)
        end ^= 1
    return chain


def _one_line(strands: Sequence[Strand], chain: list[tuple[int, bool]], within: float) -> Strand:
    pieces = [strands[k].take(np.arange(len(strands[k]))[::-1]) if back else strands[k] for k, back in chain]
    head = strands[min(k for k, _ in chain)]
    if len(pieces) == 1 and head.closed:
        return head
    xyz, rows = np.concatenate([piece.xyz for piece in pieces]), np.concatenate([piece.rows for piece in pieces])
    levels = [_level(piece.xyz) for piece in pieces]
    heights = [level for level in levels if np.isfinite(level)]
    if len(pieces) > 1 and heights:
        xyz[np.isnan(xyz[:, 2]), 2] = heights[0]
    closed = len(xyz) > 3 and float(np.hypot(*(xyz[0, :2] - xyz[-1, :2]))) <= within
    return replace(head, xyz=xyz, rows=rows, closed=closed)


def _level(xyz: Floats) -> float:
    """The one height of a line; NaN where it has none, or several."""
    heights = np.unique(xyz[np.isfinite(xyz[:, 2]), 2])
    return float(heights[0]) if len(heights) == 1 else float("nan")
