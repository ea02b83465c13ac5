"""Points that lie almost on one another."""

from __future__ import annotations

from typing import Literal

import numpy as np
import scipy

from evrin.errors import DataError
from evrin.tin.types import Flags, Floats, Indices

Policy = Literal["mean", "first", "last", "lowest", "highest"]


def stands_for(xyz: Floats, within: float, policy: Policy = "first", firm: Flags | None = None) -> Indices:
    """Choose which points stay, so that no two that stay lie within a plan distance of each other.

    Parameters
    ----------
    xyz : (n, 3) float64
    within : float
    policy : str
        Which of close ones stays: the first or last row, the lowest or the highest. ``mean`` keeps the
        south-westernmost; its height is the caller's affair.
    firm : (n,) bool, optional
        Points that stay whatever lies near them, such as vertices of lines; others give way to them first.

    Returns
    -------
    (n,) int64
        For each point the row of the one that stands for it: itself where it stays.

    Raises
    ------
    DataError
        For a distance that is not above 0.

    Examples
    --------
    >>> stands_for(np.array([[0.0, 0, 1], [0.01, 0, 2], [5, 0, 3]]), 0.02, "highest").tolist()
    [1, 1, 2]
    """
    if not within > 0.0:
        raise DataError(f"within must be above 0; it is {within:g}")
    count = len(xyz)
    out = np.arange(count)
    low = xyz[:, :2].min(axis=0) if count else np.zeros(2)
    pairs = (
        scipy.spatial.cKDTree(xyz[:, :2] - low).query_pairs(within, output_type="ndarray")
        if count
        else np.empty((0, 2), int)
    )
    if not len(pairs):
        return out
    held = np.zeros(count, np.bool_) if firm is None else firm
    rank = np.empty(count, np.int64)
    rank[_order(xyz, policy, held)] = np.arange(count)
    near: dict[int, list[int]] = {}
    for one, other in pairs.tolist():
        near.setdefault(one, []).append(other)
        near.setdefault(other, []).append(one)
    stays = np.ones(count, np.bool_)
    for row in sorted(near, key=rank.__getitem__):
        if held[row]:
            continue
        keepers = [other for other in near[row] if stays[other] and (rank[other] < rank[row])]
        if keepers:
            stays[row] = False
            away = [float(np.hypot(*(xyz[row, :2] - xyz[k, :2]))) for k in keepers]
            out[row] = min(zip(away, [int(rank[k]) for k in keepers], keepers, strict=True))[2]
    return out


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
