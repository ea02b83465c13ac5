"""Points that lie almost on one another."""

from __future__ import annotations

from typing import Literal

import numpy as np
import scipy

from evrin.base.errors import DataError
from evrin.kernels import Flags, FloatRows, Floats, IndexRows, Indices, Mutable, as_index, kernel
from evrin.tin.exact.predicates import square

Policy = Literal["mean", "first", "last", "lowest", "highest"]


def kept_instead(xyz: Floats, within: float, policy: Policy = "first", firm: Flags | None = None) -> Indices:
    """Choose which points stay, so that no two that stay lie within a plan distance of each other.

    Parameters
    ----------
    xyz : (n, 3) float64
        The points.
    within : float
        How near counts as the same.
    policy : str
        Which of close ones stays: the first or last row, the lowest or the highest. ``mean`` keeps the
        south-westernmost; its height is left to the caller.
    firm : (n,) bool, optional
        Points that stay whatever lies near them, such as vertices of lines; others are merged into them first.

    Returns
    -------
    (n,) int64
        For each point the row of the one that is kept instead: itself where it is kept.

    Raises
    ------
    DataError
        For a distance that is not above 0.

    Examples
    --------
    >>> kept_instead(np.array([[0.0, 0, 1], [0.01, 0, 2], [5, 0, 3]]), 0.02, "highest").tolist()
    [1, 1, 2]
    """
    if not within > 0.0:
        raise DataError(f"within must be above 0; it is {within:g}")
    count = len(xyz)
    out = np.arange(count)
    if count < 2:
        return out
    tree = scipy.spatial.cKDTree(xyz[:, :2] - xyz[:, :2].min(axis=0))
    pairs = tree.query_pairs(within, output_type="ndarray").astype(np.int64)
    held = np.zeros(count, np.bool_) if firm is None else firm
    order = _order(xyz, policy, held)
    rank = np.empty(count, np.int64)
    rank[order] = np.arange(count)
    _give_way(xyz, np.vstack((pairs, pairs[:, ::-1])), order, rank, held, out)
    return out


@kernel
def _give_way(
    xyz: FloatRows, pairs: IndexRows, order: Indices, rank: Indices, firm: Flags, out: Mutable[Indices]
) -> None:
    """Merge each row in turn into the nearest one near it that came before it and stays."""
    starts = np.zeros(order.shape[0] + 1, np.int64)
    for p in range(pairs.shape[0]):
        starts[pairs[p, 0] + 1] += 1
    for k in range(1, starts.shape[0]):
        starts[k] += starts[k - 1]
    cursor = starts[:-1].copy()
    near = np.empty(pairs.shape[0], np.int64)
    for p in range(pairs.shape[0]):
        near[cursor[pairs[p, 0]]] = pairs[p, 1]
        cursor[pairs[p, 0]] += 1
    for row in order:
        if firm[row]:
            continue
        best, least = as_index(-1), np.inf
        for m in range(starts[row], starts[row + 1]):
            other = near[m]
            if out[other] != other or rank[other] > rank[row]:
                continue
            square_distance = square(xyz[row, 0] - xyz[other, 0], xyz[row, 1] - xyz[other, 1])
            if square_distance < least or (square_distance == least and rank[other] < rank[best]):
                best, least = other, square_distance
        if best >= 0:
            out[row] = best


def _order(xyz: Floats, policy: Policy, firm: Flags) -> Indices:
    row = np.arange(len(xyz))
    first = {
        "first": (row,),
        "last": (-row,),
        "lowest": (xyz[:, 1], xyz[:, 0], xyz[:, 2]),
        "highest": (xyz[:, 1], xyz[:, 0], -xyz[:, 2]),
        "mean": (xyz[:, 2], xyz[:, 1], xyz[:, 0]),
    }[policy]
    return np.lexsort((*first, ~firm))
