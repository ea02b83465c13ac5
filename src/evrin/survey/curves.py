"""Arcs and smooth curves as vertices, no chord of which strays farther from the curve than asked."""

from __future__ import annotations

import numpy as np
import scipy

from evrin.kernels import Floats

_MOST_STEPS = 4000


def arc_through(start: Floats, end: Floats, centre: Floats, clockwise: bool, chord: float) -> Floats:
    """Return an arc from *start* to *end* around a centre.

    Parameters
    ----------
    start, end : (3,) float64
        Heights run evenly along the arc.
    centre : (2,) float64
        Of the circle.
    clockwise : bool
        Seen from above.
    chord : float
        The farthest that a chord may lie from the arc.

    Returns
    -------
    (k, 3) float64
        From *start* to *end*, both exactly as given.

    Examples
    --------
    >>> half = arc_through(np.array([1.0, 0, 5]), np.array([-1.0, 0, 7]), np.zeros(2), False, 0.3)
    >>> half.round(3).tolist()
    [[1.0, 0.0, 5.0], [0.0, 1.0, 6.0], [-1.0, 0.0, 7.0]]
    """
    first_leg, back = start[:2] - centre, end[:2] - centre
    first, last = np.arctan2(first_leg[1], first_leg[0]), np.arctan2(back[1], back[0])
    turn = (first - last if clockwise else last - first) % (2.0 * np.pi)
    radius, end_radius = float(np.hypot(*first_leg)), float(np.hypot(*back))
    count = _steps(turn, max(radius, end_radius), chord)
    part = np.linspace(0.0, 1.0, count + 1)
    angle = first + (-turn if clockwise else turn) * part
    reach = radius + (end_radius - radius) * part
    arc = np.column_stack(
        (centre[0] + reach * np.cos(angle), centre[1] + reach * np.sin(angle), start[2] + (end[2] - start[2]) * part)
    )
    arc[0], arc[-1] = start, end
    return arc


def _steps(turn: float, radius: float, chord: float) -> int:
    if radius <= 0.0 or turn <= 0.0:
        return 1
    half = np.arccos(max(1.0 - min(chord / radius, 1.0), -1.0))
    return int(min(max(np.ceil(turn / (2.0 * half)), 1), _MOST_STEPS)) if half > 0.0 else _MOST_STEPS


def arc_by_three(start: Floats, middle: Floats, end: Floats, chord: float) -> Floats:
    """Return the arc through three places (3,), as two arcs that meet in the middle one.

    Three places on one straight line give that line.
    """
    a, b = middle[:2] - start[:2], end[:2] - start[:2]
    twice = 2.0 * (a[0] * b[1] - a[1] * b[0])
    if abs(twice) <= 1e-9 * float(a @ a + b @ b):
        return np.array([start, middle, end])
    square_a, square_b = float(a @ a), float(b @ b)
    offset = np.array([b[1] * square_a - a[1] * square_b, a[0] * square_b - b[0] * square_a]) / twice
    centre = start[:2] + offset
    clockwise = bool(twice < 0.0)
    return np.concatenate(
        (
            arc_through(start, middle, centre, clockwise, chord),
            arc_through(middle, end, centre, clockwise, chord)[1:],
        )
    )


def smooth_through(places: Floats, chord: float) -> Floats:
    """Return a natural cubic spline through places (k, 3), by length along the chords, as vertices."""
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(places[:, :2], axis=0).T))))
    if len(places) < 3 or (np.diff(along) == 0.0).any():
        return places
    curve = scipy.interpolate.CubicSpline(along, places, bc_type="natural")
    # A chord of length h strays from a curve by at most its curvature times h² / 8.
    bend = np.hypot(*curve(along, 2)[:, :2].T)
    out = [places[:1]]
    for k in range(len(places) - 1):
        length = along[k + 1] - along[k]
        sharpest = max(bend[k], bend[k + 1])
        count = int(min(max(np.ceil(length * np.sqrt(sharpest / (8.0 * chord))), 1), _MOST_STEPS))
        out += [curve(np.linspace(along[k], along[k + 1], count + 1)[1:-1]), places[k + 1 : k + 2]]
    return np.concatenate(out)
