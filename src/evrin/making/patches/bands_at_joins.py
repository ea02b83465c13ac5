"""Ground beside a join, raised or lowered within a band so that there is no step."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.kernels import Flags, FloatRows, Floats
from evrin.making.patches.patches import Patch
from evrin.making.patches.settling import cut_along
from evrin.tin.query.nearest_lines import nearest_segments

_TURN = np.pi / 12.0
_PARTS = 4
_ROUNDING = 1e-3
_SAGITTA = 1.0 - np.cos(_TURN / 2.0) + 1e-9


def met_within(under: Patch, newer: FloatRows, older: FloatRows, band: float) -> Patch:
    """Return *under* with its ground near a join raised or lowered to meet what is beyond, unchanged past the band.

    Its ground is cut into cells along and across the band, at whose corners the step is taken in proportion.

    Parameters
    ----------
    under : Patch
        The ground beside the join.
    newer, older : (e, 2, 3) float64
        Ends of the edges of the join with the heights of either, the newer ground on the left.
    band : float
        Its width.
    """
    steps = np.ascontiguousarray(newer[:, :, 2] - older[:, :, 2])
    segments = np.ascontiguousarray(newer[:, :, :2].reshape(-1, 4))
    cut = cut_along(under, _cells_of_band(segments, band))
    used = cut.used
    near = nearest_segments(cut.vertices[used, :2], segments, band)
    step = steps[near.rows, 0] + near.parts * (steps[near.rows, 1] - steps[near.rows, 0])
    by = np.zeros(len(cut.vertices))
    left = 1.0 - near.distances / band
    # Where the rim is a chord of a circle it is inside the band, and there must be no step at it.
    by[used] = np.where(left > _SAGITTA, step * left, 0.0)
    return cut.raised(by)


def _cells_of_band(segments: Floats, width: float) -> Floats:
    """Lines beside each segment and round its ends at parts of the width, and lines across between them."""
    corners = _corners(segments)
    sizes = np.array([len(corner.rays) for corner in corners])
    places = np.repeat(np.array([corner.place for corner in corners]), sizes, axis=0)
    rays = np.concatenate([corner.rays for corner in corners])
    goes_on = np.ones(len(rays), np.bool_)
    goes_on[np.cumsum(sizes) - 1] = False
    right = _right_of(segments)
    start, end = right.copy(), right.copy()
    for corner in corners:
        if corner.is_mitred:
            end[corner.before], start[corner.after] = corner.rays[0], corner.rays[0]
    parts = []
    for k in range(1, _PARTS + 1):
        out, before = width * k / _PARTS, width * (k - 1) / _PARTS
        beside = np.hstack((segments[:, :2] + start * out, segments[:, 2:] + end * out))
        tips = places + rays * out
        round_corners = np.hstack((tips[:-1], tips[1:]))[goes_on[:-1]]
        across = np.hstack((places + rays * before, tips))
        for lines, near in ((beside, out), (round_corners, out), (across, before)):
            parts.append(lines[_is_nearest(lines, near, out, segments, width)])
    return np.concatenate(parts)


class _Corner(NamedTuple):
    """A vertex of the lines, and as parts of the width the rays from it that divide the band."""

    place: Floats
    rays: Floats
    before: int
    after: int
    is_mitred: bool = False


def _corners(segments: Floats) -> list[_Corner]:
    right = _right_of(segments)
    ends: dict[tuple[float, float], tuple[list[int], list[int]]] = {}
    for row, (a, b, c, d) in enumerate(segments.tolist()):
        ends.setdefault((a, b), ([], []))[1].append(row)
        ends.setdefault((c, d), ([], []))[0].append(row)
    out = []
    for place, (before, after) in ends.items():
        if len(before) == len(after) == 1:
            out.append(_corner(np.array(place), before[0], after[0], right))
            continue
        # Where a line ends or several meet, what is round its end counts too.
        out += [_Corner(np.array(place), _fan(right[row], np.pi), row, row) for row in before]
        out += [_Corner(np.array(place), _fan(-right[row], np.pi), row, row) for row in after]
    return out


def _corner(place: Floats, before: int, after: int, right: Floats) -> _Corner:
    first, last = right[before], right[after]
    turn = float(np.arctan2(first[0] * last[1] - first[1] * last[0], first @ last))
    if turn > _TURN:
        return _Corner(place, _fan(first, turn), before, after)
    middle = first + last
    if turn >= 0.0:
        return _Corner(place, middle[None, :] / np.hypot(*middle), before, after, is_mitred=True)
    # Both sides are as near along this ray; at a sharp corner it would have no end.
    return _Corner(place, middle[None, :] / max(float(middle @ middle) / 2.0, 0.25), before, after)


def _fan(first: Floats, turn: float) -> Floats:
    angle = np.arctan2(first[1], first[0]) + np.linspace(0.0, turn, int(np.ceil(turn / _TURN)) + 1)
    return np.column_stack((np.cos(angle), np.sin(angle)))


def _right_of(segments: Floats) -> Floats:
    along = segments[:, 2:] - segments[:, :2]
    along /= np.hypot(along[:, 0], along[:, 1])[:, None]
    return np.column_stack((along[:, 1], -along[:, 0]))


def _is_nearest(lines: Floats, near: float, far: float, segments: Floats, width: float) -> Flags:
    """Which lines, that run from one distance of their own segment to another, are anywhere nearest to that."""
    out = np.zeros(len(lines), np.bool_)
    for part in (0.0, 0.5, 1.0):
        places = lines[:, :2] + part * (lines[:, 2:] - lines[:, :2])
        distances = nearest_segments(places, segments, width).distances
        out |= distances >= near + part * (far - near) - _ROUNDING * width
    return out
