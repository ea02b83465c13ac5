"""Where water runs and collects: paths down the triangles, hollows, summits and level ground."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from evrin.analysis.descent import ENDS, run_down
from evrin.errors import DataError
from evrin.surface import Surface
from evrin.surface.components import triangle_parts
from evrin.tin.types import Flags, Floats, Indices, Ints, inner, kernel


@dataclass(frozen=True, eq=False)
class WaterPath:
    """The way of water from one place.

    Attributes
    ----------
    points : (n, 3) float64
        Straight from point to point; heights never rise.
    end : {"pit", "edge of the surface", "level ground"}

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> (path,) = field.water_paths([(4.0, 4.0)])
    >>> path.end, path.fall
    ('edge of the surface', 0.5)
    """

    points: Floats
    end: str

    @property
    def length(self) -> float:
        """Plan length."""
        return float(np.hypot(*np.diff(self.points[:, :2], axis=0).T).sum())

    @property
    def fall(self) -> float:
        """Height lost from start to end."""
        return float(self.points[0, 2] - self.points[-1, 2])


def vertex_triangles(surface: Surface) -> tuple[Indices, Ints]:
    """Return which triangles each vertex is a corner of: those of vertex v are ``members[starts[v]:starts[v + 1]]``."""
    corners = surface.triangles.ravel()
    starts = np.concatenate(([0], np.cumsum(np.bincount(corners, minlength=len(surface.vertices)))))
    return starts.astype(np.int64), (np.argsort(corners, kind="stable") // 3).astype(np.int32)


def water_paths(surface: Surface, places: Floats) -> list[WaterPath]:
    """Return the paths of water from places: down each triangle's steepest slope, along valley edges, off vertices.

    Parameters
    ----------
    surface : Surface
    places : (k, 2) array_like

    Returns
    -------
    list of WaterPath
        Each ends in a pit, on level ground, or where it leaves the surface.

    Raises
    ------
    DataError
        For a place outside the surface.

    Examples
    --------
    >>> import evrin
    >>> valley = evrin.triangulate([[0, 0, 2], [4, 0, 2], [2, 0, 0], [2, 8, 1], [0, 8, 3], [4, 8, 3]],
    ...                            breaklines=[[[2, 0, 0], [2, 8, 1]]])
    >>> (path,) = water_paths(valley, [(0.5, 6.0)])
    >>> path.end, path.points[-1].tolist()
    ('edge of the surface', [2.0, 0.0, 0.0])
    """
    asked = np.array(places, np.float64).reshape(-1, 2)
    found = surface.triangles_at(*asked.T)
    if (found < 0).any():
        x, y = asked[int(np.argmax(found < 0))]
        raise DataError(f"{x:.3f}, {y:.3f} lies outside the surface, so no water runs from there")
    starts, members = vertex_triangles(surface)
    paths = []
    for (x, y), triangle in zip(asked.tolist(), found.tolist(), strict=True):
        room = 1024
        while True:
            out = np.empty((room, 3))
            count, end = run_down(
                surface.vertices,
                surface.triangles,
                surface.mates,
                surface.gradients,
                starts,
                members,
                triangle,
                x,
                y,
                out,
            )
            if count <= room:
                break
            room *= 4
        paths.append(WaterPath(out[:count].copy(), ENDS[end]))
    return paths


@inner
def _root(parent: Ints, v: int) -> int:
    while parent[v] != v:
        parent[v] = parent[parent[v]]
        v = parent[v]
    return v


@inner
def _is_above(heights: Floats, u: int, v: int) -> bool:
    """Whether one vertex comes after another from the lowest up; of equal ones the later number does."""
    return heights[u] > heights[v] or (heights[u] == heights[v] and u > v)


@kernel
def _fill(triangles: Ints, mate: Ints, heights: Floats, order: Indices, drains: Flags, spills_at: Indices) -> None:
    """Join vertices from the lowest up; where two hollows meet, the one with the higher floor spills there.

    *order* lists the vertices from the lowest up. *spills_at* takes, for the lowest vertex of each hollow, the vertex
    over which it spills, and stays -1 for all others. One that meets none is filled to the highest vertex of its part.
    """
    count = heights.shape[0]
    # The lower ends of each vertex's edges, counted into place.
    starts = np.zeros(count + 1, np.int64)
    for t in range(triangles.shape[0]):
        for k in range(3):
            if mate[3 * t + k] < 3 * t + k:
                u, v = triangles[t, k], triangles[t, (k + 1) % 3]
                starts[(u if _is_above(heights, u, v) else v) + 1] += 1
    for k in range(count):
        starts[k + 1] += starts[k]
    lower = np.empty(starts[count], np.int32)
    cursor = starts[:-1].copy()
    for t in range(triangles.shape[0]):
        for k in range(3):
            if mate[3 * t + k] < 3 * t + k:
                u, v = triangles[t, k], triangles[t, (k + 1) % 3]
                if not _is_above(heights, u, v):
                    u, v = v, u
                lower[cursor[u]] = v
                cursor[u] += 1
    parent = np.arange(count).astype(np.int32)
    lowest, highest = parent.copy(), parent.copy()
    is_dry = drains.copy()
    for r in range(count):
        over = order[r]
        for row in range(starts[over], starts[over + 1]):
            a, b = _root(parent, over), _root(parent, lower[row])
            if a == b:
                continue
            # A hollow that meets ground that drains spills; of two alike, the one with the higher floor does.
            if is_dry[a] == is_dry[b]:
                spilling = a if _is_above(heights, lowest[a], lowest[b]) else b
            else:
                spilling = b if is_dry[a] else a
            staying = b if spilling == a else a
            if not is_dry[spilling] and lowest[spilling] != over:
                spills_at[lowest[spilling]] = over
            parent[spilling] = staying
            highest[staying] = over
            is_dry[staying] = is_dry[staying] or is_dry[spilling]
    for v in range(count):
        if parent[v] == v and not is_dry[v] and highest[v] != lowest[v]:
            spills_at[lowest[v]] = highest[v]


def _extremes(surface: Surface, heights: Floats, drains: Flags) -> tuple[Indices, Indices]:
    """Return the floor of each hollow in some heights, and the vertex over which it spills."""
    order = np.argsort(heights, kind="stable")
    spills_at = np.full(len(heights), -1, np.int64)
    _fill(surface.triangles, surface.mates, np.ascontiguousarray(heights), order, drains, spills_at)
    floors = np.flatnonzero(spills_at >= 0)
    return floors, spills_at[floors]


def hollows(surface: Surface, least_depth: float = 0.0) -> pd.DataFrame:
    """Return the pits from which no water runs off, the deepest first.

    The edge of the surface, and of each hole in it, lets water go.

    Parameters
    ----------
    surface : Surface
    least_depth : float
        Shallower ones are left out.

    Returns
    -------
    DataFrame
        ``vertex``, ``easting``, ``northing``, ``height`` of the floor; ``spill_height``, ``spill_easting``,
        ``spill_northing`` of the lowest way out; ``depth`` between them.

    Examples
    --------
    >>> import evrin
    >>> bowl = evrin.triangulate([[0, 0, 2], [4, 0, 2], [4, 4, 1.5], [0, 4, 2], [2, 2, 0]])
    >>> hollows(bowl)[["easting", "northing", "height", "spill_height", "depth"]].values.tolist()
    [[2.0, 2.0, 0.0, 1.5, 1.5]]
    """
    drains = np.zeros(len(surface.vertices), np.bool_)
    rim = np.flatnonzero(surface.mates < 0)
    drains[surface.triangles[rim // 3, rim % 3]] = True
    drains[surface.triangles[rim // 3, (rim + 1) % 3]] = True
    floors, spills = _extremes(surface, surface.vertices[:, 2], drains)
    return _ordered(surface, floors, spills, "spill", "depth", 1.0, least_depth)


def summits(surface: Surface, least_rise: float = 0.0) -> pd.DataFrame:
    """Return the peaks, the most prominent first; the highest of each part is measured above its lowest ground.

    Places on the rim are none: beyond it the ground may go on rising.

    Parameters
    ----------
    surface : Surface
    least_rise : float
        Those that rise less above the saddle to higher ground are left out.

    Returns
    -------
    DataFrame
        ``vertex``, ``easting``, ``northing``, ``height``; ``saddle_height``, ``saddle_easting``, ``saddle_northing`` of
        the highest way to higher ground; ``rise`` between them.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2], [4, 4, 3]], name="field")
    >>> from evrin.analysis import summits
    >>> summits(field)["height"].tolist()
    [3.0]
    """
    nothing_drains = np.zeros(len(surface.vertices), np.bool_)
    peaks, saddles = _extremes(surface, -surface.vertices[:, 2], nothing_drains)
    inside = ~np.isin(peaks, np.concatenate([np.empty(0, np.int64), *surface.rim()]))
    peaks, saddles = peaks[inside], saddles[inside]
    return _ordered(surface, peaks, saddles, "saddle", "rise", -1.0, least_rise)


def _ordered(
    surface: Surface, extremes: Indices, ways: Indices, way: str, measure: str, sign: float, least: float
) -> pd.DataFrame:
    at, out = surface.vertices[extremes], surface.vertices[ways]
    apart = sign * (out[:, 2] - at[:, 2])
    frame = pd.DataFrame(
        {
            "vertex": extremes,
            "easting": at[:, 0],
            "northing": at[:, 1],
            "height": at[:, 2],
            f"{way}_height": out[:, 2],
            f"{way}_easting": out[:, 0],
            f"{way}_northing": out[:, 1],
            measure: apart,
        }
    )
    chosen = frame[(apart > 0.0) & (apart >= least)]
    return chosen.sort_values([measure, "vertex"], ascending=[False, True], ignore_index=True)


def level_ground(surface: Surface, least_area: float = 0.0) -> pd.DataFrame:
    """Return the parts of the surface that are exactly level, the largest first.

    Parameters
    ----------
    surface : Surface
    least_area : float

    Returns
    -------
    DataFrame
        ``easting``, ``northing`` of a place in each, ``height``, ``triangles``, ``plan_area``.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import level_ground
    >>> len(level_ground(field))
    0
    """
    level = np.flatnonzero(surface.triangle_slopes == 0.0)
    rows = []
    for members in triangle_parts(surface, level) if len(level) else []:
        areas = surface.triangle_areas[members]
        inside = surface.vertices[surface.triangles[members[np.argmax(areas)]]].mean(axis=0)
        rows.append([*inside.tolist(), len(members), float(areas.sum())])
    frame = pd.DataFrame(rows, columns=["easting", "northing", "height", "triangles", "plan_area"])
    chosen = frame[frame["plan_area"] >= least_area]
    return chosen.sort_values("plan_area", ascending=False, ignore_index=True)
