"""Edges that run across a ridge or along the wrong side of a valley: the other diagonal fits better.

Two triangles that share an edge could as well share the other diagonal of the quadrilateral that they make. Where the
two diagonals cross, each gives a height, and so does the plane of each triangle beyond the four sides. An edge is in
doubt where the other diagonal is by far the nearer to every one of the four planes.

The measure is Evrin's own. That a surface can be better with diagonals chosen by heights instead of by places is from

References
----------
N. Dyn, D. Levin and S. Rippa (1990), Data dependent triangulations for piecewise linear interpolation, IMA Journal of
Numerical Analysis 10(1), 137-154.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from evrin.base.tolerances import DOUBTFUL_EDGE
from evrin.kernels import Flags, FloatRows, Floats, IntRows, Ints, Mutable, as_index, inner, kernel
from evrin.surface.surface import Surface

_NEARER = 0.5
_TIMES_USUAL = 8.0
_INSIDE = 0.02
_FEW = 10_000


@dataclass(frozen=True, eq=False)
class DoubtfulEdges:
    """Edges in doubt, the most first.

    Attributes
    ----------
    ends : (k, 2) int32
        Vertices of each.
    joins : (k, 2) int32
        The two vertices that its flip would join.
    places : (k, 2) float64
        Where the diagonals cross.
    changes : (k,) float64
        By how much a flip lifts the ground there.
    """

    ends: Ints
    joins: Ints
    places: Floats
    changes: Floats


@inner
def _crossing(vertices: FloatRows, a: int, b: int, c: int, d: int) -> tuple[float, float]:
    """How far along *ab* and along *cd* the two meet; NaN where they do not meet well inside both."""
    ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
    wx, wy = vertices[d, 0] - vertices[c, 0], vertices[d, 1] - vertices[c, 1]
    across = ux * wy - uy * wx
    px, py = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
    if across != 0.0:
        along, other = (px * wy - py * wx) / across, (px * uy - py * ux) / across
        if _INSIDE < along < 1.0 - _INSIDE and _INSIDE < other < 1.0 - _INSIDE:
            return along, other
    return np.nan, np.nan


@inner
def _is_asked(mate: Ints, edge_lines: IntRows, t: int, k: int) -> bool:
    """Whether a half-edge is the first of a free edge between two triangles."""
    return bool(mate[3 * t + k] > 3 * t + k and edge_lines[t, k] < 0)


@inner
def _change(vertices: FloatRows, triangles: IntRows, mate: Ints, t: int, k: int) -> float:
    """By how much the flip of an edge lifts the crossing, NaN where it cannot be flipped."""
    e = mate[3 * t + k]
    a, b, c = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
    d = triangles[e // 3, (e % 3 + 2) % 3]
    along, other = _crossing(vertices, a, b, c, d)
    now = vertices[a, 2] + along * (vertices[b, 2] - vertices[a, 2])
    return float(vertices[c, 2] + other * (vertices[d, 2] - vertices[c, 2]) - now)


@kernel
def _sample(
    vertices: FloatRows, triangles: IntRows, mate: Ints, edge_lines: IntRows, step: int, sizes: Mutable[Floats]
) -> int:
    """List by how much the flips of every so many free edges would change the ground; return how many do at all."""
    count = seen = 0
    for t in range(triangles.shape[0]):
        for k in range(3):
            if _is_asked(mate, edge_lines, t, k):
                seen += 1
                if seen % step == 0:
                    size = abs(_change(vertices, triangles, mate, t, k))
                    if size > 0.0:
                        sizes[count] = size
                        count += 1
    return count


@kernel
def _changes(
    vertices: FloatRows,
    triangles: IntRows,
    mate: Ints,
    edge_lines: IntRows,
    least: float,
    halves: Mutable[Ints],
    changes: Mutable[Floats],
) -> int:
    """List the free edges whose flip changes the ground by more than *least*, by a half of each, and how it does."""
    count = 0
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        for k in range(3):
            if not _is_asked(mate, edge_lines, t, k):
                continue
            e = mate[3 * t + k]
            z = vertices[triangles[e // 3, (e % 3 + 2) % 3], 2]
            low = min(vertices[a, 2], vertices[b, 2], vertices[c, 2], z)
            high = max(vertices[a, 2], vertices[b, 2], vertices[c, 2], z)
            # Both diagonals stay between the heights of the corners, so most need not cross to be known.
            if (high - low) * (1.0 + 1e-9) > least:
                change = _change(vertices, triangles, mate, t, k)
                if abs(change) > least:
                    halves[count], changes[count] = 3 * t + k, change
                    count += 1
    return count


@kernel
def _in_doubt(
    vertices: FloatRows,
    triangles: IntRows,
    mate: Ints,
    edge_lines: IntRows,
    asked: Ints,
    changes: Floats,
    places: Mutable[FloatRows],
    gradients: FloatRows,
    out: Mutable[Flags],
) -> None:
    """Return of which edges the planes beyond all four sides fit the other diagonal better."""
    for row in range(asked.shape[0]):
        h = as_index(asked[row])
        e = as_index(mate[h])
        a, b = triangles[h // 3, h % 3], triangles[h // 3, (h % 3 + 1) % 3]
        c, d = triangles[h // 3, (h % 3 + 2) % 3], triangles[e // 3, (e % 3 + 2) % 3]
        along, _ = _crossing(vertices, a, b, c, d)
        x = vertices[a, 0] + along * (vertices[b, 0] - vertices[a, 0])
        y = vertices[a, 1] + along * (vertices[b, 1] - vertices[a, 1])
        places[row, 0], places[row, 1] = x, y
        now = vertices[a, 2] + along * (vertices[b, 2] - vertices[a, 2])
        agreed = 0
        for half in (h, e):
            for turn in range(1, 3):
                side = half // 3 * 3 + (half % 3 + turn) % 3
                beyond = mate[side]
                if beyond < 0 or edge_lines[side // 3, side % 3] >= 0:
                    continue
                t = beyond // 3
                v = triangles[t, 0]
                dx, dy = x - vertices[v, 0], y - vertices[v, 1]
                given = vertices[v, 2] + gradients[t, 0] * dx + gradients[t, 1] * dy
                if abs(now + changes[row] - given) < _NEARER * abs(now - given):
                    agreed += 1
        out[row] = agreed == 4


def find_doubtful_edges(surface: Surface, least: float | None = None) -> DoubtfulEdges:
    """Return free edges where the other diagonal fits every triangle around better.

    Parameters
    ----------
    surface : Surface
        The surface that is examined.
    least : float, optional
        In the surface's units, 0.15 m if not given. Smaller changes of height at the crossing, and those below eight
        times what is usual on the surface, are not reported.

    Examples
    --------
    >>> import evrin
    >>> x, y = (each.ravel() for each in np.meshgrid(np.arange(0.0, 5.0), np.arange(0.0, 9.0, 2.0)))
    >>> ridge = evrin.triangulate(np.column_stack((x, y, 3.0 - np.abs(x - 2.0))))
    >>> len(find_doubtful_edges(ridge).changes)
    0
    """
    smallest = DOUBTFUL_EDGE.in_units(surface.units) if least is None else least
    given = (surface.vertices, surface.triangles, surface.mates, surface.edge_lines)
    halves = np.empty(len(surface.mates) // 2 + 1, np.int32)
    changes = np.empty(len(halves))
    # Every seventh edge is enough to know what is usual.
    changes_known = changes[: _sample(*given, 1 if len(halves) < _FEW else 7, changes)]
    usual = float(np.median(changes_known)) if len(changes_known) else 0.0
    count = _changes(*given, max(smallest, _TIMES_USUAL * usual), halves, changes)
    asked, changes = halves[:count], changes[:count]
    out = np.zeros(len(asked), np.bool_)
    places = np.empty((len(asked), 2))
    _in_doubt(
        *given,
        asked,
        changes,
        places,
        surface.gradients,
        out,
    )
    edges = np.flatnonzero(out)
    edges = edges[np.argsort(-np.abs(changes[edges]), kind="stable")]
    doubtful = asked[edges]
    t, k = doubtful // 3, doubtful % 3
    u, j = surface.mates[doubtful] // 3, surface.mates[doubtful] % 3
    corner = surface.triangles
    return DoubtfulEdges(
        np.column_stack((corner[t, k], corner[t, (k + 1) % 3])),
        np.column_stack((corner[t, (k + 2) % 3], corner[u, (j + 2) % 3])),
        places[edges],
        changes[edges],
    )
