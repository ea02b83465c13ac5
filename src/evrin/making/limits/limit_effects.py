"""What each boundary does to a surface: rings that change nothing, and limits that take most of the points away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from evrin.kernels import Floats
from evrin.surface.surface import SourceLine
from evrin.tin.mesh import carving
from evrin.tin.mesh.limiting import Limit, is_kept
from evrin.tin.mesh.mesh_edits import living
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.query.inside_rings import is_inside_rings

_LEVELS = 16


@dataclass(frozen=True)
class LimitEffects:
    """For each limit, which of its rings change nothing, and how many points it takes away in its turn."""

    idle: list[list[bool]]
    taken: list[int]


def limit_effects(mesh: Mesh, limits: Sequence[Limit], points: Floats) -> LimitEffects:
    """Find out what limits would do to a mesh, by the middles and corners of its triangles, and places in each ring.

    Parameters
    ----------
    mesh : Mesh
        Before it is limited.
    limits : sequence of Limit
        In the order in which they apply.
    points : (n, 2) float64
        Of the survey.

    Returns
    -------
    LimitEffects
    """
    middles = np.empty((mesh.triangle_count, 2))
    middles = middles[: carving.middles(mesh.arrays, mesh.triangle_count, middles)]
    sampled = np.concatenate((middles, mesh.xy[: mesh.vertex_count][living(mesh)]))
    within = [place for limit in limits for ring in limit.rings for place in _places_in(ring)]
    extra = np.array(within).reshape(-1, 2)
    extra = extra[np.isfinite(mesh.heights(np.ascontiguousarray(extra)))]
    places = np.concatenate((sampled, extra))
    places = np.take(places, np.argsort(places[:, 0]), axis=0)
    inside = [is_inside_rings(places, limit.rings) for limit in limits]
    kept = is_kept(limits, inside, len(places))
    idle: list[list[bool]] = []
    for k, limit in enumerate(limits):
        idle.append([])
        for ring in limit.rings:
            low, high = np.searchsorted(places[:, 0], (ring[:, 0].min(), ring[:, 0].max()))
            if limit.keeps and len(limit.rings) == 1 and sum(each.keeps for each in limits) == 1:
                # Without its only ring, the limit itself is away.
                idle[-1].append(bool(inside[k].all()))
                continue
            part = [each[low:high] for each in inside]
            part[k] = part[k] ^ is_inside_rings(places[low:high], [ring])
            idle[-1].append(bool((is_kept(limits, part, high - low) == kept[low:high]).all()))
    return LimitEffects(idle, _taken(limits, points))


def _taken(limits: Sequence[Limit], points: Floats) -> list[int]:
    out = []
    inside = [is_inside_rings(points, limit.rings) for limit in limits]
    before = len(points)
    for k in range(len(limits)):
        left = int(is_kept(limits[: k + 1], inside[: k + 1], len(points)).sum())
        out.append(before - left)
        before = left
    return out


def _places_in(ring: Floats) -> list[tuple[float, float]]:
    """Places inside a ring: the middles of where lines between its vertices, from west to east, run through it."""
    heights = np.unique(ring[:, 1])
    levels = (heights[1:] + heights[:-1]) / 2.0
    levels = levels[np.linspace(0, len(levels) - 1, min(_LEVELS, len(levels))).astype(int)] if len(levels) else levels
    start, end = ring[:, :2], np.roll(ring[:, :2], -1, axis=0)
    out = []
    for y in levels.tolist():
        cut = (start[:, 1] < y) != (end[:, 1] < y)
        a, b = start[cut], end[cut]
        at = np.sort(a[:, 0] + (y - a[:, 1]) / (b[:, 1] - a[:, 1]) * (b[:, 0] - a[:, 0])).tolist()
        out += [((west + east) / 2.0, y) for west, east in zip(at[::2], at[1::2], strict=False)]
    return out


def limits_of(groups: Sequence[Sequence[SourceLine]]) -> list[Limit]:
    """Return boundaries as limits of a mesh.

    Parameters
    ----------
    groups : sequence of sequences of SourceLine
        The rings of a group have one effect, ``keep`` or ``cut``.
    """
    return [Limit(group[0].effect == "keep", [ring.points[:, :2] for ring in group]) for group in groups if group]
