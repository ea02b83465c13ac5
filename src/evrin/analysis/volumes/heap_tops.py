"""Several heaps that touch: whose each part of the whole is, by the valleys between their tops."""

from __future__ import annotations

import numpy as np
import scipy.ndimage

from evrin.kernels import Flags, Floats, Ints

# How far the saddle before a higher top lies below a heap's own, as a part of its height above the ground.
_SADDLE = 0.25
_LEVELS, _SMOOTHED = 60, 1.5


def parts_of(above: Floats, cells: Flags) -> Ints:
    """Return which heap each cell belongs to, from 1; 0 outside.

    A top is a heap of its own where one has to go down by a quarter of its height to reach a higher one. Between two
    the line runs along the valley, as water would part: a watershed, found by falling water in steps (as Vincent and
    Soille 1991 do by rising).

    Parameters
    ----------
    above : (rows, columns) float64
        Heights above the ground.
    cells : (rows, columns) bool
        Cells of the whole.

    Examples
    --------
    >>> above = np.zeros((21, 41))
    >>> row, column = np.indices(above.shape)
    >>> for top in (12, 28):
    ...     above = np.maximum(above, 9.0 - np.hypot(row - 10, column - top))
    >>> parts_of(above, above > 0.0)[10, [12, 28]].tolist()
    [1, 2]
    """
    smooth = np.where(cells, scipy.ndimage.gaussian_filter(np.where(cells, above, 0.0), _SMOOTHED), -np.inf)
    tops = _tops(smooth, cells)
    if len(tops) < 2:
        return np.asarray(cells, np.int32)
    label: Ints = np.zeros(cells.shape, np.int32)
    for number, top in enumerate(tops, 1):
        label.flat[top] = number
    # As the water falls, what comes out of it belongs to the heap that it comes out next to.
    for level in np.linspace(float(smooth[cells].max()), float(smooth[cells].min()), 2 * _LEVELS):
        nearest = scipy.ndimage.distance_transform_edt(label == 0, return_distances=False, return_indices=True)
        label = np.asarray(np.where(cells & (smooth >= level), label[tuple(nearest)], label), np.int32)
    return label


def _tops(smooth: Floats, cells: Flags) -> list[int]:
    """The cells of the tops, highest first."""
    heights = smooth.ravel()
    highest = float(smooth[cells].max())
    active: list[int] = []
    settled: list[int] = []
    for level in np.linspace(highest, max(float(smooth[cells].min()), 0.0), _LEVELS + 2)[1:-1]:
        label, count = scipy.ndimage.label(smooth > level, np.ones((3, 3)))
        members: dict[int, list[int]] = {number: [] for number in range(1, count + 1)}
        for top in active:
            members[int(label.flat[top])].append(top)
        active = []
        for number, inside in members.items():
            if not inside:
                active.append(int(np.argmax(np.where(label.ravel() == number, heights, -np.inf))))
                continue
            first, *rest = sorted(inside, key=lambda top: -heights[top])
            active.append(first)
            settled += [top for top in rest if heights[top] - level >= _SADDLE * heights[top]]
    return sorted([*active, *settled], key=lambda top: -heights[top]) if settled else active[:1]
