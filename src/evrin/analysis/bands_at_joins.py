"""Ground beside a join, raised or lowered within a band so that there is no step."""

from __future__ import annotations

import numpy as np

from evrin.analysis.patches import Patch
from evrin.analysis.settling import cut_along
from evrin.kernels import Flags, FloatRows, Floats, Mutable, kernel

_TURN = np.pi / 16.0


@kernel
def _steps_near(places: FloatRows, segments: FloatRows, steps: FloatRows, width: float, out: Mutable[Floats]) -> None:
    """Write for each place the step at the nearest segment, less in proportion to its distance; nothing beyond."""
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        best = width * width
        out[i] = 0.0
        for s in range(segments.shape[0]):
            dx, dy = segments[s, 2] - segments[s, 0], segments[s, 3] - segments[s, 1]
            ex, ey = x - segments[s, 0], y - segments[s, 1]
            if abs(ex) > width + abs(dx) or abs(ey) > width + abs(dy):
                continue
            square = dx * dx + dy * dy
            part = min(max((ex * dx + ey * dy) / square, 0.0), 1.0) if square > 0.0 else 0.0
            ex, ey = ex - part * dx, ey - part * dy
            away = ex * ex + ey * ey
            if away < best:
                best = away
                step = steps[s, 0] + part * (steps[s, 1] - steps[s, 0])
                out[i] = step * (1.0 - np.sqrt(away) / width)


def met_within(under: Patch, newer: FloatRows, older: FloatRows, band: float) -> Patch:
    """Return *under* with its ground near a join raised or lowered to meet what is beyond, unchanged past the band.

    Parameters
    ----------
    under : Patch
    newer, older : (e, 2, 3) float64
        Ends of the edges of the join with the heights of either, the newer ground on the left.
    band : float
        Its width.
    """
    steps = newer[:, :, 2] - older[:, :, 2]
    segments = np.ascontiguousarray(newer[:, :, :2].reshape(-1, 4))
    cut = cut_along(under, _rim_of_band(segments, band))
    used = cut.used
    raised = np.empty(len(used))
    _steps_near(np.ascontiguousarray(cut.vertices[used, :2]), segments, np.ascontiguousarray(steps), band, raised)
    by = np.zeros(len(cut.vertices))
    by[used] = raised
    return cut.raised(by)


def _rim_of_band(segments: Floats, width: float) -> Floats:
    """Segments that hold all places at a distance on the right of a line, and round its vertices."""
    along = segments[:, 2:] - segments[:, :2]
    along /= np.hypot(along[:, 0], along[:, 1])[:, None]
    right = np.column_stack((along[:, 1], -along[:, 0])) * width
    beside = np.hstack((segments[:, :2] + right, segments[:, 2:] + right))
    # Round the ends, a polygon outside the circle.
    angle = np.arange(0.0, 2.0 * np.pi, _TURN)
    circle = np.column_stack((np.cos(angle), np.sin(angle))) * width / np.cos(_TURN / 2.0)
    centres = np.unique(np.concatenate((segments[:, :2], segments[:, 2:])), axis=0)
    arcs = np.hstack((circle, np.roll(circle, -1, axis=0)))
    round_ends = (np.tile(centres, 2)[:, None, :] + arcs[None, :, :]).reshape(-1, 4)
    middles = (round_ends[:, :2] + round_ends[:, 2:]) / 2.0
    return np.concatenate((beside, round_ends[_is_far(middles, segments, width)]))


def _is_far(places: Floats, segments: Floats, width: float) -> Flags:
    """Which places are no nearer to any segment than the width, except for rounding: others are inside the band."""
    out = np.empty(len(places))
    _steps_near(places, segments, np.ones((len(segments), 2)), width, out)
    return out <= 1e-3
