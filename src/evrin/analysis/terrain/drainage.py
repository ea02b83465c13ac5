"""Where water runs and collects: paths down the triangles, hollows, summits and level ground.

References
----------
N. L. Jones, S. G. Wright and D. R. Maidment (1990), Watershed delineation with triangle-based terrain models, Journal
of Hydraulic Engineering 116(10), 1232-1251: water follows the steepest slope of each triangle and the edges of valleys.
H. Carr, J. Snoeyink and U. Axen (2003), Computing contour trees in all dimensions, Computational Geometry 24(2), 75-94:
vertices taken from the lowest up, with basins joined where they meet.
R. Barnes, C. Lehman and D. Mulla (2014), Priority-flood, Computers & Geosciences 62, 117-127: a basin drains over the
lowest of the passes around it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.terrain.descent import ENDS, run_down
from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats, Indices, IntRows, Ints, Mutable, inner, kernel
from evrin.surface.components import triangle_parts
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False)
class WaterPath:
    """The way of water from one place.

    Attributes
    ----------
    points : (n, 3) float64
        Straight from point to point; heights never rise.
    end : {"pit", "edge of the surface", "level ground"}
        Where it ends.

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


def water_paths(surface: Surface, places: ArrayLike) -> list[WaterPath]:
    """Return the paths of water from places: down each triangle's steepest slope, along valley edges, off vertices.

    See `Surface.water_paths`.
    """
    asked = np.array(places, np.float64).reshape(-1, 2)
    start_triangles = surface.triangles_at(*asked.T)
    if (start_triangles < 0).any():
        x, y = asked[int(np.argmax(start_triangles < 0))]
        raise DataError(f"{x:.3f}, {y:.3f} lies outside the surface, so no water runs from there")
    starts, members = vertex_triangles(surface)
    paths = []
    for (x, y), triangle in zip(asked.tolist(), start_triangles.tolist(), strict=True):
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
def _root(parent: Mutable[Ints], v: int) -> int:
    while parent[v] != v:
        parent[v] = parent[parent[v]]
        v = parent[v]
    return v


@inner
def _is_above(heights: Floats, u: int, v: int) -> bool:
    """Whether one vertex comes after another from the lowest up; of equal ones the later number does."""
    return heights[u] > heights[v] or (heights[u] == heights[v] and u > v)


@kernel
def _find_basins(triangles: IntRows, heights: Floats, basin: Mutable[Ints]) -> None:
    """Write for each vertex the one in which a way down from it ends that takes the lowest neighbour each time."""
    for v in range(basin.shape[0]):
        basin[v] = v
    for t in range(triangles.shape[0]):
        lowest = triangles[t, 0]
        for k in range(1, 3):
            if _is_above(heights, lowest, triangles[t, k]):
                lowest = triangles[t, k]
        for k in range(3):
            u = triangles[t, k]
            if u != lowest and _is_above(heights, basin[u], lowest):
                basin[u] = lowest
    for v in range(basin.shape[0]):
        end = basin[v]
        while basin[end] != end:
            end = basin[end]
        # The way there is made short for those that come by later.
        u = v
        while basin[u] != end:
            below = basin[u]
            basin[u] = end
            u = below


@kernel
def _find_ways_over(
    triangles: IntRows,
    mate: Ints,
    heights: Floats,
    basin: Ints,
    drains: Flags,
    highest: Mutable[Ints],
    exits: Mutable[Ints],
    ways: Mutable[IntRows],
) -> int:
    """List the edges between basins, by the higher end and the basins of both; return how many.

    *highest* takes, by basin, its highest vertex, *exits* the lowest that drains, -1 where none does.
    """
    for v in range(basin.shape[0]):
        own = basin[v]
        if highest[own] < 0 or _is_above(heights, v, highest[own]):
            highest[own] = v
        if drains[v] and (exits[own] < 0 or _is_above(heights, exits[own], v)):
            exits[own] = v
    count = 0
    for t in range(triangles.shape[0]):
        if basin[triangles[t, 0]] == basin[triangles[t, 1]] == basin[triangles[t, 2]]:
            continue
        for k in range(3):
            u, v = triangles[t, k], triangles[t, (k + 1) % 3]
            if basin[u] != basin[v] and mate[3 * t + k] < 3 * t + k:
                if ways.shape[0] > 0:
                    ways[count, 0] = u if _is_above(heights, u, v) else v
                    ways[count, 1], ways[count, 2] = basin[u], basin[v]
                count += 1
    return count


@kernel
def _fill(ways: IntRows, heights: Floats, drained: Ints, highest: Mutable[Ints], spills_at: Mutable[Indices]) -> None:
    """Join basins over the ways between them, which come from the lowest up.

    Where two hollows meet, the one with the higher floor spills there; one that meets ground that drains spills. A way
    out of the surface has the same basin on both sides. *spills_at* takes, for the floor of each hollow, the vertex
    over which it spills, and stays -1 for all others. One that meets none is filled to the highest vertex of its part.
    """
    parent = np.empty(heights.shape[0], np.int32)
    for v in range(parent.shape[0]):
        parent[v] = v
    is_dry = np.zeros(heights.shape[0], np.bool_)
    for row in range(ways.shape[0]):
        over, a, b = ways[row, 0], _root(parent, ways[row, 1]), _root(parent, ways[row, 2])
        if ways[row, 1] == ways[row, 2]:
            if not is_dry[a]:
                is_dry[a] = True
                if a != over:
                    spills_at[a] = over
            continue
        if a == b:
            continue
        if is_dry[a] == is_dry[b]:
            spilling = a if _is_above(heights, a, b) else b
        else:
            spilling = b if is_dry[a] else a
        staying = b if spilling == a else a
        if not is_dry[spilling]:
            spills_at[spilling] = over
        parent[spilling] = staying
        if _is_above(heights, highest[spilling], highest[staying]):
            highest[staying] = highest[spilling]
    for row in range(drained.shape[0]):
        v = drained[row]
        if parent[v] == v and not is_dry[v] and highest[v] != v:
            spills_at[v] = highest[v]


def _extremes(surface: Surface, heights: Floats, drains: Flags) -> tuple[Indices, Indices]:
    """Return the floor of each hollow in some heights, and the vertex over which it spills."""
    heights = np.ascontiguousarray(heights)
    basin = np.empty(len(heights), np.int32)
    _find_basins(surface.triangles, heights, basin)
    highest, exits = (np.full(len(heights), -1, np.int32) for _ in range(2))
    given = (surface.triangles, surface.mates, heights, basin, drains, highest, exits)
    ways = np.empty((_find_ways_over(*given, np.empty((0, 3), np.int32)), 3), np.int32)
    _find_ways_over(*given, ways)
    floors = np.flatnonzero(basin == np.arange(len(basin))).astype(np.int32)
    out = floors[exits[floors] >= 0]
    ways = np.concatenate((ways, np.column_stack((exits[out], out, out))))
    ways = np.ascontiguousarray(ways[np.lexsort((ways[:, 0], heights[ways[:, 0]]))])
    spills_at = np.full(len(heights), -1, np.int64)
    _fill(ways, heights, floors, highest, spills_at)
    hollows = np.flatnonzero(spills_at >= 0)
    return hollows, spills_at[hollows]


def hollows(surface: Surface, least_depth: float = 0.0) -> pd.DataFrame:
    """Return the pits from which no water runs off, the deepest first: `Surface.hollows`."""
    return _table(surface, *hollow_vertices(surface, least_depth), "spill", "depth", 1.0)


def summits(surface: Surface, least_rise: float = 0.0) -> pd.DataFrame:
    """Return the peaks, the most prominent first; the highest of each part is measured above its lowest ground.

    See `Surface.summits`.
    """
    nothing_drains = np.zeros(len(surface.vertices), np.bool_)
    peaks, saddles = _extremes(surface, -surface.vertices[:, 2], nothing_drains)
    inside = ~np.isin(peaks, np.concatenate([np.empty(0, np.int64), *surface.rim()]))
    peaks, saddles = peaks[inside], saddles[inside]
    return _table(surface, *_ordered(surface, peaks, saddles, -1.0, least_rise), "saddle", "rise", -1.0)


def hollow_vertices(surface: Surface, least_depth: float = 0.0) -> tuple[Indices, Indices]:
    """Return the floors of the hollows that `hollows` lists, and where each spills, as vertices.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    least_depth : float
        Shallower hollows are left out.

    Returns
    -------
    floors, spills : (k,) int64

    Examples
    --------
    >>> import evrin
    >>> bowl = evrin.triangulate([[0, 0, 2], [4, 0, 2], [4, 4, 1.5], [0, 4, 2], [2, 2, 0]])
    >>> [each.tolist() for each in hollow_vertices(bowl)]
    [[1], [3]]
    """
    drains = np.zeros(len(surface.vertices), np.bool_)
    rim = np.flatnonzero(surface.mates < 0)
    drains[surface.triangles[rim // 3, rim % 3]] = True
    drains[surface.triangles[rim // 3, (rim + 1) % 3]] = True
    return _ordered(surface, *_extremes(surface, surface.vertices[:, 2], drains), 1.0, least_depth)


def _ordered(surface: Surface, extremes: Indices, ways: Indices, sign: float, least: float) -> tuple[Indices, Indices]:
    """Those that are as deep or high as asked, the deepest or highest first."""
    apart = sign * (surface.vertices[ways, 2] - surface.vertices[extremes, 2])
    deep_enough = np.flatnonzero((apart > 0.0) & (apart >= least))
    deep_enough = deep_enough[np.lexsort((extremes[deep_enough], -apart[deep_enough]))]
    return extremes[deep_enough], ways[deep_enough]


def _table(surface: Surface, extremes: Indices, ways: Indices, way: str, measure: str, sign: float) -> pd.DataFrame:
    import pandas as pd

    at, out = surface.vertices[extremes], surface.vertices[ways]
    return pd.DataFrame(
        {
            "vertex": extremes,
            "easting": at[:, 0],
            "northing": at[:, 1],
            "height": at[:, 2],
            f"{way}_height": out[:, 2],
            f"{way}_easting": out[:, 0],
            f"{way}_northing": out[:, 1],
            measure: sign * (out[:, 2] - at[:, 2]),
        }
    )


def level_ground(surface: Surface, least_area: float = 0.0) -> pd.DataFrame:
    """Return the parts of the surface that are exactly level, the largest first.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    least_area : float
        Smaller parts are left out.

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
    import pandas as pd

    level = np.flatnonzero(surface.triangle_slopes == 0.0)
    rows = []
    for members in triangle_parts(surface, level) if len(level) else []:
        areas = surface.triangle_areas[members]
        inside = surface.vertices[surface.triangles[members[np.argmax(areas)]]].mean(axis=0)
        rows.append([*inside.tolist(), len(members), float(areas.sum())])
    frame = pd.DataFrame(rows, columns=["easting", "northing", "height", "triangles", "plan_area"])
    large_enough = frame[frame["plan_area"] >= least_area]
    return large_enough.sort_values("plan_area", ascending=False, ignore_index=True)
