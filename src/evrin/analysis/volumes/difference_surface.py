"""The difference of two surfaces as a surface of its own, its bands, and the line of no change."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.volumes.level_volumes import LevelVolumes
from evrin.base.errors import DataError
from evrin.base.tolerances import CHANGED
from evrin.kernels import Floats, Ints
from evrin.making.combining.clipping import within_areas
from evrin.making.limits.limit_cells import AreasGiven, as_areas
from evrin.making.pads.planes import Base, Plane, base_surface
from evrin.making.patches.arranged_difference import difference_mesh
from evrin.surface.chains import chained
from evrin.surface.frame import check_same_frame
from evrin.surface.surface import SourceLine, Surface

if TYPE_CHECKING:
    import pandas as pd

_MOST_OF_IT = 0.98


def difference_surface(top: Surface, base: Base, within: AreasGiven = ()) -> Surface:
    """Return how far one surface lies above another as a surface: exact, and split along the line of no change.

    See `Surface.less`.
    """
    ground, _ = base_surface(top, base)
    check_same_frame([(ground.name, ground.frame), (top.name, top.frame)])
    name = f"{top.name} less {ground.name}"
    top = within_areas(top, as_areas(within))
    is_turned = top.sorting_key > ground.sorting_key
    first, other = (top, ground) if is_turned else (ground, top)
    vertices, triangles = difference_mesh(first, other)
    if is_turned:
        vertices[:, 2] = 0.0 - vertices[:, 2]
    return _surface(vertices, triangles, top, name)


def _surface(vertices: Floats, triangles: Ints, like: Surface, name: str) -> Surface:
    lines = np.full(triangles.shape, -1, np.int32)
    description = "heights are differences: above 0 where the first is higher"
    return Surface(vertices, triangles, lines, name=name, description=description, units=like.units, crs=like.crs)


def usual_bands(difference: Surface) -> list[float]:
    """Return round limits of bands on both sides of nothing, at most five to a side, for most of what differs.

    Parameters
    ----------
    difference : Surface
        Heights of one surface above another, as `Surface.less` returns them.

    Returns
    -------
    list of float

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import usual_bands
    >>> usual_bands(evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]]).less(1.0))
    [-1.0, 0.0, 1.0, 2.0, 3.0]
    """
    heights = difference.vertices[:, 2][difference.triangles]
    low, high = float(heights.min()), float(heights.max())
    most = np.abs(heights).max(axis=1)
    order = np.argsort(most, kind="stable")
    order = order[most[order] > CHANGED.in_units(difference.units)]
    share = np.cumsum(difference.triangle_areas[order])
    # A spike does not decide the bands of all the rest.
    common = float(most[order[np.searchsorted(share, _MOST_OF_IT * share[-1])]]) if len(order) else 0.0
    rough = max(common, 1e-6) / 5.0
    power = float(10.0 ** np.floor(np.log10(rough)))
    step = next(k * power for k in (1.0, 2.0, 2.5, 5.0, 10.0) if k * power >= rough * (1.0 - 1e-12))
    return [round(k * step, 9) for k in range(-5, 6) if k == 0 or low <= k * step < high]


def no_change_lines(difference: Surface, ground: Surface | None = None) -> list[SourceLine]:
    """Return the lines along which two surfaces are equal, between what is higher and what is lower.

    Parameters
    ----------
    difference : Surface
        See `difference_surface`.
    ground : Surface, optional
        One of the two, whose heights the lines have; otherwise theirs is nothing.

    Returns
    -------
    list of SourceLine

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import no_change_lines
    >>> ramp = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]])
    >>> [line.points[:, 1].tolist() for line in no_change_lines(ramp.less(1.0))]
    [[2.0, 2.0, 2.0]]
    """
    heights, triangles, mates = difference.vertices[:, 2], difference.triangles, difference.mates
    half = np.flatnonzero(mates >= 0)
    tail, head = triangles.ravel()[half], np.roll(triangles, -1, axis=1).ravel()[half]
    sign = np.sign(heights[triangles].sum(axis=1))
    divides = (heights[tail] == 0.0) & (heights[head] == 0.0) & (sign[half // 3] > 0) & (sign[mates[half] // 3] < 0)
    lines = []
    for number, path in enumerate(chained(tail[divides].tolist(), head[divides].tolist()), 1):
        points = difference.vertices[path].copy()
        if ground is not None:
            points[:, 2] = np.nan_to_num(ground.height(points[:, 0], points[:, 1]))
        closed = len(path) > 3 and path[0] == path[-1]
        lines.append(SourceLine(f"no change {number}", points[:-1] if closed else points, closed))
    return lines


def band_name(low: float, high: float) -> str:
    """Return what a band of differences is called, such as ``fill 0.5 to 1``."""
    if low >= 0.0:
        return f"fill over {low:g}" if np.isinf(high) else f"fill {low:g} to {high:g}"
    if high <= 0.0:
        return f"cut over {abs(high):g}" if np.isinf(low) else f"cut {abs(high):g} to {-low:g}"
    return f"{low:g} to {high:g}"


def band_polygons(difference: Surface, limits: Sequence[float]) -> list[SourceLine]:
    """Return the edges of each band of a difference as closed lines named after it; rings in rings alternate.

    Parameters
    ----------
    difference : Surface
        Heights of one surface above another, as `Surface.less` returns them.
    limits : sequence of float
        Rising; see `depth_bands`.

    Returns
    -------
    list of SourceLine
        Their heights are differences.

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import band_polygons
    >>> ramp = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]])
    >>> [(ring.name, len(ring.points)) for ring in band_polygons(ramp.less(1.0), [0.0, 2.0])]
    [('cut over 0', 5), ('fill 0 to 2', 7), ('fill over 2', 6)]
    """
    edges = [-np.inf, *rising_limits(limits).tolist(), np.inf]
    split = difference
    for limit in edges[1:-1]:
        # Equal to a level, a surface is split along it, exactly.
        apart = difference_surface(split, limit)
        heights = apart.vertices + np.array([0.0, 0.0, limit])
        split = Surface(heights, apart.triangles, apart.edge_lines, units=difference.units, crs=difference.crs)
    middles = split.vertices[:, 2][split.triangles].mean(axis=1)
    rings = []
    for low, high in pairwise(edges):
        within = (middles >= low) & (middles < high)
        if within.any():
            band = Surface(split.vertices.copy(), split.triangles[within], split.edge_lines[within])
            loops = [loop for loop in band.rim() if len(loop) > 2]
            rings += [SourceLine(band_name(low, high), band.vertices[loop], closed=True) for loop in loops]
    return rings


def rising_limits(limits: Sequence[float]) -> Floats:
    """Return limits of bands as they are, refusing those that do not rise."""
    levels = np.asarray(limits, np.float64)
    if levels.ndim != 1 or not len(levels) or not np.isfinite(levels).all() or (np.diff(levels) <= 0.0).any():
        raise DataError(f"the limits of bands must rise; they are {levels.tolist()}")
    return levels


def depth_bands(
    difference: Surface, limits: Sequence[float], base: Base | None = None, top: Base | None = None
) -> pd.DataFrame:
    """Return areas and volume of a difference by band of its height.

    Parameters
    ----------
    difference : Surface
        See `difference_surface`.
    limits : sequence of float
        Rising; the bands lie between them, and beyond the first and the last.
    base, top : Surface, Plane or float, optional
        The two that it is the difference of, for the area on the ground of either in each band.

    Returns
    -------
    DataFrame
        Columns ``from``, ``to``, ``plan_area``, with *base* and *top* ``base_slope_area`` and ``top_slope_area``, and
        ``volume``, which is below 0 for cut.

    Raises
    ------
    DataError
        For limits that do not rise.

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import depth_bands
    >>> high = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 8], [0, 8, 8]])
    >>> bands = depth_bands(high.less(1.0), [0.0], 1.0, high)
    >>> bands["volume"].round(9).tolist(), bands["base_slope_area"].round(9).tolist()
    ([-4.0, 196.0], [8.0, 56.0])
    >>> bands["top_slope_area"].round(3).tolist()
    [11.314, 79.196]
    """
    import pandas as pd

    levels = rising_limits(limits)
    table = LevelVolumes.of(difference)
    below, volume, _ = table.sums_below(levels).T
    moment = levels * below - volume
    out = pd.DataFrame({"from": [-np.inf, *levels.tolist()], "to": [*levels.tolist(), np.inf]})
    out["plan_area"] = np.diff(np.concatenate(([0.0], below, [table.area])))
    sides = {"base": base, "top": top}
    if base is not None or top is not None:
        parts = _parts_between(difference, levels)
        for name, side in sides.items():
            if side is not None:
                out[f"{name}_slope_area"] = parts @ _steepness(side, difference)
    out["volume"] = np.diff(np.concatenate(([0.0], moment, [table.moment])))
    return out


def _parts_between(difference: Surface, levels: Floats) -> Floats:
    """Plan area of each triangle in each band: (bands, triangles)."""
    low, mid, high = np.sort(difference.vertices[:, 2][difference.triangles], axis=1).T
    area = difference.triangle_areas
    edges = [np.zeros(len(area))]
    with np.errstate(divide="ignore", invalid="ignore"):
        for level in levels:
            lower = area * ((level - low) / (mid - low)) * ((level - low) / (high - low))
            upper = area - area * ((high - level) / (high - mid)) * ((high - level) / (high - low))
            part = np.where(level <= mid, lower, upper)
            edges.append(np.where(level <= low, 0.0, np.where(level >= high, area, part)))
    return np.diff([*edges, area], axis=0)


def _steepness(side: Base, difference: Surface) -> Floats:
    """Area on the ground for one of plan, of what lies over each triangle of a difference."""
    middles = difference.vertices[difference.triangles, :2].mean(axis=1)
    if isinstance(side, Surface):
        # Each triangle lies in one of either surface; a sliver that rounding put beside both has next to no area.
        slope = np.nan_to_num(side.slope(middles[:, 0], middles[:, 1]))
    else:
        slope = np.full(len(middles), 0.01 * side.grade_percent if isinstance(side, Plane) else 0.0)
    return np.sqrt(1.0 + slope * slope)
