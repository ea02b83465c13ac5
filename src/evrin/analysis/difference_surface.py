"""The difference of two surfaces as a surface of its own, its bands, and the line of no change."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd

from evrin.analysis.limit_cells import AreasGiven, as_areas, layer_of
from evrin.analysis.volumes import Base, base_surface, key_of
from evrin.errors import DataError, GeometryError
from evrin.surface import Surface
from evrin.surface.clipping import clipped
from evrin.surface.frame import check_same_frame
from evrin.tin.meshes_between import exact_origin
from evrin.tin.overlay_mesh import overlay_mesh
from evrin.tin.types import Floats, Ints


def difference_surface(top: Surface, base: Base, within: AreasGiven = ()) -> Surface:
    """Return how far one surface lies above another as a surface: exact, and split along the line of no change.

    Parameters
    ----------
    top : Surface
    base : Surface, Plane or float
        A float is a level.
    within : mapping of str to rings, sequence of Area, or one ring
        Only what lies in these areas.

    Returns
    -------
    Surface
        Its heights are differences: above 0 where *top* is higher. It can do whatever a surface can.

    Raises
    ------
    DataError
        For unlike units or reference systems.
    GeometryError
        Where the two have no ground in common.

    Examples
    --------
    >>> import evrin
    >>> low = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]])
    >>> high = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]])
    >>> high.less(low).height([1, 1], [2, 4]).tolist()
    [0.0, 1.0]
    """
    ground, _ = base_surface(top, base)
    check_same_frame({ground.name: ground.frame, top.name: top.frame})
    areas, name = as_areas(within), f"{top.name} less {ground.name}"
    if areas:
        top = clipped(top, keep=[ring for area in areas for ring in area.rings])
    origin = exact_origin(ground.vertices, top.vertices)
    is_turned = key_of(top) > key_of(ground)
    first, other = (top, ground) if is_turned else (ground, top)
    vertices, triangles = overlay_mesh(layer_of(first, origin), layer_of(other, origin))
    if not len(triangles):
        raise GeometryError(f"{ground.name} and {top.name} have no ground in common; look at their extents")
    if is_turned:
        vertices[:, 2] = 0.0 - vertices[:, 2]
    vertices[:, :2] += origin
    return _surface(vertices, triangles, top, name)


def _surface(vertices: Floats, triangles: Ints, like: Surface, name: str) -> Surface:
    lines = np.full(triangles.shape, -1, np.int32)
    described = "heights are differences: above 0 where the first is higher"
    return Surface(vertices, triangles, lines, name=name, description=described, units=like.units, crs=like.crs)


def depth_bands(difference: Surface, limits: Sequence[float]) -> pd.DataFrame:
    """Return plan area, slope area and volume of a difference by band of its height.

    Parameters
    ----------
    difference : Surface
        See `difference_surface`.
    limits : sequence of float
        Rising; the bands lie between them, and beyond the first and the last.

    Returns
    -------
    DataFrame
        Columns ``from``, ``to``, ``plan_area``, ``slope_area``, ``volume``; a volume is below 0 for cut.

    Raises
    ------
    DataError
        For limits that do not rise.

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import depth_bands
    >>> high = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]])
    >>> depth_bands(high.less(1.0), [0.0])["volume"].round(9).tolist()
    [-8.0, 72.0]
    """
    levels = np.asarray(limits, np.float64)
    if levels.ndim != 1 or not len(levels) or not np.isfinite(levels).all() or (np.diff(levels) <= 0.0).any():
        raise DataError(f"the limits of bands must rise; they are {levels.tolist()}")
    from evrin.analysis.level_volumes import LevelVolumes

    table = LevelVolumes.of(difference)
    below, slope, moment = table.below(levels), table.slope_below(levels), table.moment_below(levels)
    edges = [np.concatenate(([0.0], each, [whole])) for each, whole in zip(
        (below, slope, moment), (table.area, table.slope_area, table.moment), strict=True)]  # fmt: skip
    out = pd.DataFrame({"from": [-np.inf, *levels.tolist()], "to": [*levels.tolist(), np.inf]})
    for name, values in zip(("plan_area", "slope_area", "volume"), edges, strict=True):
        out[name] = np.diff(values)
    return out
