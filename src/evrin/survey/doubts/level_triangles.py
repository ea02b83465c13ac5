"""Flat triangles between the loops of one contour: found, and fixed by flips and by points along the middle line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from evrin.base.wording import counted
from evrin.kernels import Flags, Floats, Indices
from evrin.making.triangulation import Triangulation
from evrin.surface.components import joined_parts, on_lines
from evrin.surface.surface import Surface
from evrin.tin.query.flatness import flat_flips, flat_triangles

_NEAR = 8
_LONGEST = 1.25


@dataclass(frozen=True)
class FlatFixes:
    """What fixing did: flat triangles before, after the flips, and at the end; flips and points added."""

    before: int
    after_flips: int
    after: int
    flips: int
    points: int

    def described(self) -> str:
        """Return it in words."""
        points = f", {counted(self.points, 'point')} added along middle lines" if self.points else ""
        return (
            f"{counted(self.before, 'flat triangle')}, {counted(self.flips, 'flip')} left {self.after_flips:,}"
            f"{points}; {self.after:,} remain"
        )


def level_triangles(surface: Surface, effect: str) -> Flags:
    """Return which triangles are level with all three corners on lines of some effect, such as contours or shores."""
    if not any(line.effect == effect for line in surface.lines):
        return np.zeros(len(surface.triangles), np.bool_)
    on = on_lines(surface, (effect,))
    z = surface.vertices[surface.triangles, 2]
    level: Flags = on[surface.triangles].all(axis=1) & (z == z[:, :1]).all(axis=1)
    return level


def find_flats(surface: Surface) -> Indices:
    """Return the triangles whose corners all lie on contours of one level, and so are flat where the ground is not.

    Areas that are held level, such as water, are meant to be flat and are left alone.

    Parameters
    ----------
    surface : Surface
        The surface that is examined.

    Returns
    -------
    Indices

    Examples
    --------
    >>> import evrin
    >>> from evrin.survey import find_flats
    >>> find_flats(evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1]])).tolist()
    []
    """
    return np.flatnonzero(level_triangles(surface, "contour"))


def fix_flats(work: Triangulation, *, with_points: bool = True) -> FlatFixes:
    """Fix flat triangles in place.

    First free edges between a flat triangle and one that is not are flipped where that leaves fewer flat ones. Then,
    where *with_points* asks for it, a vertex is put on the middle line of each flat area that stays, halfway across
    every free edge inside it, its height interpolated from the slopes outside: the ground leaves the contour with the
    slope it has there and levels off towards the middle line like a parabola, so that it rises, or falls, by half of
    slope times distance, and never by more than three quarters of the step to the next contour.

    Parameters
    ----------
    work : Triangulation
        Whose contours are lines with effect ``"contour"``.
    with_points : bool
        Whether points may be added along the middle line.

    Returns
    -------
    FlatFixes

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.making import Triangulation
    >>> from evrin.survey import fix_flats
    >>> work = Triangulation(np.array([[0.0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]]))
    >>> fix_flats(work).before
    0
    """
    on = _on_contours(work)
    flat = _flat(work, on)
    before = int(flat.sum())
    flips = _flip(work, on)
    flat = _flat(work, on)
    after_flips = int(flat.sum())
    points = 0
    if with_points and after_flips:
        points = _put_points(work, flat)
        # What is left are corners cut off by a contour's bends, which new vertices may now let flip.
        flips += _flip(work, on)
    return FlatFixes(before, after_flips, int(_flat(work, on).sum()), flips, points)


def _flip(work: Triangulation, on: Flags) -> int:
    mesh = work.mesh
    on_contour = _padded(on, mesh.vertex_count)
    return int(flat_flips(mesh.arrays, mesh.triangle_count, on_contour, _LONGEST))


def _padded(on: Flags, count: int) -> Flags:
    return np.append(on, np.zeros(count - len(on), np.bool_))


def _on_contours(work: Triangulation) -> Flags:
    """Which mesh vertices are on contours."""
    on = np.zeros(work.mesh.vertex_count, np.bool_)
    is_contour = np.array([line.effect == "contour" for line in work.lines] + [False], np.bool_)
    owner = np.append(work.line_of_segment, -1)
    half = 3 * work.mesh.triangle_count
    fixed = work.mesh.fixed[:half]
    line = owner[np.where((fixed > 0) & (fixed <= len(work.line_of_segment)), fixed - 1, -1)]
    on_contour = np.flatnonzero(is_contour[np.where((line >= 0) & (line < len(is_contour)), line, -1)])
    on[work.mesh.corner[on_contour]] = True
    return on


def _flat(work: Triangulation, on: Flags) -> Flags:
    mesh = work.mesh
    on_contour = _padded(on, mesh.vertex_count)
    out: Flags = flat_triangles(mesh.arrays, mesh.triangle_count, on_contour)
    return out


def _put_points(work: Triangulation, flat: Flags) -> int:
    mesh = work.mesh
    area = _areas(work, flat)
    half = np.flatnonzero(np.repeat(flat, 3))
    mates = mesh.mate[half]
    shared = (mesh.fixed[half] == 0) & flat[mates // 3] & (half < mates)
    half = half[shared]
    if not len(half):
        return 0
    tails, heads = mesh.corner[half], mesh.corner[half - half % 3 + (half + 1) % 3]
    middles = (mesh.xy[tails] + mesh.xy[heads]) / 2.0
    levels = mesh.z[tails]
    rims = _Rims(work, flat, area)
    rise = rims.rise(middles, area[half // 3])
    useful = rise != 0.0
    before = mesh.vertex_count
    mesh.insert(np.ascontiguousarray(middles[useful]), levels[useful] + rise[useful])
    new = range(before, mesh.vertex_count)
    work.made |= dict.fromkeys(new, "added on the middle line of flat ground, height interpolated from its slopes")
    return mesh.vertex_count - before


def _areas(work: Triangulation, flat: Flags) -> Indices:
    """Number the flat areas: triangles joined by free edges."""
    mesh = work.mesh
    rows = np.flatnonzero(flat)
    number = np.full(mesh.triangle_count, -1, np.int64)
    number[rows] = np.arange(len(rows))
    half = (3 * rows[:, None] + np.arange(3)).ravel()
    across = mesh.mate[half] // 3
    joined = (mesh.fixed[half] == 0) & flat[across]
    pairs = np.column_stack((number[half[joined] // 3], number[across[joined]]))
    out = np.full(mesh.triangle_count, -1, np.int64)
    out[rows] = joined_parts(len(rows), pairs)
    return out


class _Rims:
    """The contour edges round flat areas, and how the ground outside them runs."""

    def __init__(self, work: Triangulation, flat: Flags, area: Indices) -> None:
        mesh = work.mesh
        half = np.flatnonzero(np.repeat(flat, 3))
        beyond = mesh.mate[half] // 3
        rim = mesh.alive[beyond] & ~flat[beyond]
        half, beyond = half[rim], beyond[rim]
        corners = mesh.corner[: 3 * mesh.triangle_count].reshape(-1, 3)[beyond]
        a, b, c = (np.column_stack((mesh.xy[corners[:, k]], mesh.z[corners[:, k]])) for k in range(3))
        u, v = b - a, c - a
        twice = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        gradient = np.column_stack(
            ((u[:, 2] * v[:, 1] - v[:, 2] * u[:, 1]) / twice, (v[:, 2] * u[:, 0] - u[:, 2] * v[:, 0]) / twice)
        )
        self.start = mesh.xy[mesh.corner[half]]
        self.end = mesh.xy[mesh.corner[half - half % 3 + (half + 1) % 3]]
        leg = self.end - self.start
        inward = np.column_stack((-leg[:, 1], leg[:, 0])) / np.hypot(leg[:, 0], leg[:, 1])[:, None]
        self.slope = (gradient * inward).sum(axis=1)
        self.step = np.ptp(np.stack((a[:, 2], b[:, 2], c[:, 2])), axis=0)
        self.area = area[half // 3]

    def rise(self, places: Floats, area: Indices) -> Floats:
        """Return how far above the contour the ground lies at places inside flat areas."""
        out = np.zeros(len(places))
        order = np.argsort(self.area, kind="stable")
        bounds = np.searchsorted(self.area[order], np.arange(int(area.max(initial=-1)) + 2))
        for k in np.unique(area).tolist():
            rim = order[bounds[k] : bounds[k + 1]]
            inside = np.flatnonzero(area == k)
            if len(rim):
                out[inside] = self._rise_within(places[inside], rim)
        return out

    def _rise_within(self, places: Floats, rim: Indices) -> Floats:
        middles = (self.start[rim] + self.end[rim]) / 2.0
        count = min(_NEAR, len(rim))
        _, near = scipy.spatial.cKDTree(middles).query(places, k=count)
        neighbours = rim[np.asarray(near).reshape(len(places), count)]
        leg = self.end[neighbours] - self.start[neighbours]
        part = ((places[:, None] - self.start[neighbours]) * leg).sum(axis=2) / (leg**2).sum(axis=2)
        foot = self.start[neighbours] + np.clip(part, 0.0, 1.0)[..., None] * leg
        distances = np.hypot(*np.moveaxis(places[:, None] - foot, 2, 0))
        weight = 1.0 / np.maximum(distances, 1e-9) ** 2
        slope = (weight * self.slope[neighbours]).sum(axis=1) / weight.sum(axis=1)
        rise = 0.5 * slope * distances.min(axis=1)
        limit = 0.75 * np.median(self.step[neighbours], axis=1)
        return np.asarray(np.clip(rise, -limit, limit))
