"""Ticks that point down into the depressions that contours enclose."""

from __future__ import annotations

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.kernels import Floats


def depression_ticks(contours: Contours, spacing: float, length: float) -> Floats:
    """Return ticks (k, 2, 2), from the line inwards, at about a spacing along each line around a depression.

    Examples
    --------
    >>> import evrin
    >>> bowl = evrin.triangulate([[0, 0, 2], [4, 0, 2], [4, 4, 2], [0, 4, 2], [2, 2, 0]])
    >>> lines = bowl.contours(levels=[1])
    >>> lines.is_depression.tolist(), depression_ticks(lines, 2.0, 0.5).round(3)[0].tolist()
    ([True], [[1.0, 2.0], [1.5, 2.0]])
    """
    ticks = [np.empty((0, 2, 2))]
    for number in np.flatnonzero(contours.is_depression).tolist():
        points = contours[number].points
        steps = np.diff(points, axis=0)
        along = np.concatenate(([0.0], np.cumsum(np.hypot(*steps.T))))
        count = max(4, int(along[-1] / spacing))
        at = (np.arange(count) + 0.5) * along[-1] / count
        leg = np.clip(np.searchsorted(along, at, side="right") - 1, 0, len(steps) - 1)
        unit = steps[leg] / np.hypot(*steps[leg].T)[:, None]
        foot = points[leg] + (at - along[leg])[:, None] * unit
        # Low ground is on the left of a contour.
        inwards = np.column_stack((-unit[:, 1], unit[:, 0]))
        ticks.append(np.stack((foot, foot + min(length, along[-1] / 8.0) * inwards), axis=1))
    return np.concatenate(ticks)
