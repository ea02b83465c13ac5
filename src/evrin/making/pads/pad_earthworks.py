"""A pad with its slopes on a ground, before it is put into it: as far out as they are above or below the ground."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from evrin.base.errors import DataError, GeometryError
from evrin.kernels import Flags, Floats, Ints
from evrin.making.from_arrays import as_ring
from evrin.making.limits.cleaned_rings import self_crossing
from evrin.making.pads.pad_slopes import Slopes, slope_sheets
from evrin.making.pads.planes import Plane
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patch_joining import laid_over, part_above
from evrin.making.patches.patches import Patch, merged, patch_of, snap_of
from evrin.making.patches.settling import without
from evrin.making.triangulation import Triangulation
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.overlay import overlay
from evrin.tin.overlay.meshes_between import between

ON_GROUND, ON_SLOPES, ON_PAD = range(3)
# Where nothing is known yet of how high slopes become, they are tried so much higher than the outline asks for.
_FIRST_TRY = 1.5
_HIGHEST = 1e5


@dataclass(frozen=True, eq=False)
class Pad:
    """What is to be built: an outline at its heights, and the slopes from there.

    Attributes
    ----------
    outline : (k, 3) float64
        Counter-clockwise.
    slopes : Slopes
        From its sides to the ground.
    name : str
        What results call it.

    Examples
    --------
    >>> from evrin.making import Pad
    >>> Pad.of([[0, 0], [10, 0], [10, 6], [0, 6]], 41.5).outline[:, 2].tolist()
    [41.5, 41.5, 41.5, 41.5]
    """

    outline: Floats
    slopes: Slopes
    name: str = "pad"

    @classmethod
    def of(
        cls, outline: ArrayLike, heights: float | Plane | None = None, slopes: Slopes | None = None, name: str = "pad"
    ) -> Pad:
        """Return a pad.

        Parameters
        ----------
        outline : (k, 2) or (k, 3) array_like
            A closed ring.
        heights : float or Plane, optional
            One level, or a plane; the heights of the outline itself if not given.
        slopes : Slopes, optional
            1 in 2 both ways, with round corners, if not given.
        name : str
            What results call it.

        Returns
        -------
        Pad

        Raises
        ------
        DataError
            For an outline that encloses no area, crosses itself, or has no heights.
        """
        ring = as_ring(outline, name).points
        crossing = self_crossing(ring)
        if crossing is not None:
            x, y = crossing[1]
            raise DataError(f"{name}: its outline crosses itself at {x:.3f}, {y:.3f}")
        if heights is not None:
            plane = heights if isinstance(heights, Plane) else Plane.level(float(heights))
            ring = np.column_stack((ring[:, :2], plane.height(ring[:, 0], ring[:, 1])))
        if not np.isfinite(ring).all():
            raise DataError(f"{name}: its outline has no heights; give a level, a plane, or three dimensions")
        x, y = (ring[:, :2] - ring[0, :2]).T
        if (x * np.roll(y, -1) - np.roll(x, -1) * y).sum() < 0.0:
            ring = ring[::-1]
        settled = slopes or Slopes()
        settled.runs(True, len(ring)), settled.runs(False, len(ring))
        return cls(np.ascontiguousarray(ring), settled, name)

    def raised(self, by: float) -> Pad:
        """Return it at another height.

        Parameters
        ----------
        by : float
            Height to add.

        Returns
        -------
        Pad
        """
        return replace(self, outline=self.outline + np.array([0.0, 0.0, by]))


class Ground:
    """A ground ready for pads: what does not depend on the pad is made once.

    Parameters
    ----------
    surface : Surface
        The surface to start from.
    pads : sequence of Pad
        All that it is made ready for.
    """

    def __init__(self, surface: Surface, pads: Sequence[Pad]) -> None:
        self.surface = surface
        outlines = [pad.outline for pad in pads]
        every = np.concatenate([surface.vertices[:, :2], *(outline[:, :2] for outline in outlines)])
        self.snap = snap_of(every)
        self.patch = patch_of(surface, self.snap, ON_GROUND)

    def is_near(self, earthwork: Patch) -> Flags:
        """Return which triangles of the ground come near an earthwork; the others are untouched by it."""
        layer, box = self.patch.layer, earthwork.locator.boxes[-1]
        margin = 16.0 * self.snap
        leaves = layer.boxes[: len(layer.order)]
        met = (leaves[:, 0] <= box[2] + margin) & (leaves[:, 2] >= box[0] - margin)
        met &= (leaves[:, 1] <= box[3] + margin) & (leaves[:, 3] >= box[1] - margin)
        out = np.zeros(len(layer.order), np.bool_)
        out[layer.order[met]] = True
        return out

    @cached_property
    def heights(self) -> tuple[float, float]:
        """The lowest and the highest."""
        z = self.surface.vertices[:, 2]
        return float(z.min()), float(z.max())


@dataclass(frozen=True, eq=False)
class Earthwork:
    """Pad and slopes as a patch, and what lies between them and the ground."""

    patch: Patch
    totals: Floats

    @property
    def cut(self) -> float:
        """Volume."""
        return float(self.totals[overlay.FILL])

    @property
    def fill(self) -> float:
        """Volume."""
        return float(self.totals[overlay.CUT])


def earthwork_of(ground: Ground, pad: Pad) -> Earthwork:
    """Return a pad with its slopes as far as the ground, and the volumes between both.

    Raises
    ------
    DataError
        Where the pad is far above or below the ground.
    GeometryError
        Where there is no ground under the pad or beside it.
    """
    flat = _platform(pad, ground)
    slopes = [_slope_part(ground, pad, flat, is_fill=is_fill) for is_fill in (True, False)]
    there = [part for part in slopes if len(part.triangles)]
    patch = laid_over(merged(there), flat) if there else flat
    # Walked triangle by triangle of the small one: the ground above it is cut.
    prisms = between(patch.layer, ground.patch.layer)
    if prisms.totals[overlay.COMMON_AREA] <= 0.0:
        raise GeometryError(f"{pad.name} and {ground.surface.name} have no ground in common; look at their extents")
    return Earthwork(patch, prisms.totals)


def _platform(pad: Pad, ground: Ground) -> Patch:
    ring = pad.outline.copy()
    work = Triangulation(ring, [SourceLine(pad.name, ring, True)])
    work.carve([[SourceLine(pad.name, ring, True, "keep")]])
    surface = work.surface()[0]
    return _made(surface.vertices, surface.triangles, ON_PAD, ground.snap)


def _made(vertices: Floats, triangles: Ints, number: int, snap: float) -> Patch:
    count = len(triangles)
    nothing = np.full((count, 3), NOWHERE, np.int32)
    rows = np.full(len(vertices), NOWHERE, np.int64)
    return Patch(
        vertices=vertices,
        triangles=triangles,
        edge_lines=nothing,
        surface_of=np.full(count, number, np.int32),
        row_of=rows,
        snap=snap,
    )


def _slope_part(ground: Ground, pad: Pad, flat: Patch, *, is_fill: bool) -> Patch:
    """The slopes of fill or of cut, as far as they are above or below the ground without a break from the outline."""
    ring = pad.outline.copy()
    low, high = ground.heights
    most = (float(ring[:, 2].max()) - low if is_fill else high - float(ring[:, 2].min())) + 1e-3
    nothing = flat.only(np.zeros(len(flat.triangles), np.bool_))
    if most <= 1e-3:
        return nothing
    if most > _HIGHEST:
        raise DataError(f"{pad.name}: its edge is {most:g} from the ground in height; check the level and its unit")
    sign = 1.0 if is_fill else -1.0
    sampled = _along(ring)
    apart = sign * (sampled[:, 2] - ground.patch.locator.heights_at(np.ascontiguousarray(sampled[:, :2])))
    needed = float(np.nanmax(apart)) if np.isfinite(apart).any() else 0.0
    height = min(max(_FIRST_TRY * needed, 0.05 * most, 1e-3), most)
    while True:
        sheets = slope_sheets(ring, pad.slopes, height, is_fill=is_fill)
        whole = _made(*sheets[0], ON_SLOPES, ground.snap)
        for sheet in sheets[1:]:
            patch = _made(*sheet, ON_SLOPES, ground.snap)
            whole = laid_over(whole, part_above(patch, whole, sign))
        beyond = part_above(without(whole, flat), ground.patch, sign, alone=False)
        part = beyond.only(_reached_from(beyond, flat))
        if height >= most or not _is_at_limit(part, ring, height, sign):
            return part
        height = min(2.0 * height, most)


def _along(ring: Floats) -> Floats:
    """Places along a ring: its corners, and three between each two."""
    along = np.roll(ring, -1, axis=0) - ring
    return np.concatenate([ring + part * along for part in (0.0, 0.25, 0.5, 0.75)])


def _reached_from(patch: Patch, flat: Patch) -> Flags:
    """Which triangles are connected to the edge of a platform."""
    count = len(patch.triangles)
    if not count:
        return np.empty(0, np.bool_)
    inner = np.flatnonzero(patch.mates >= 0)
    links = coo_array((np.ones(len(inner), np.int8), (inner // 3, patch.mates[inner] // 3)), shape=(count, count))
    label = connected_components(links, directed=False)[1]
    half = np.flatnonzero(patch.mates < 0)
    tail, head = patch.ends(half)
    middles = (patch.vertices[tail, :2] + patch.vertices[head, :2]) / 2.0
    # Beside the edge of the platform, a whisker inwards lies the platform.
    along = patch.vertices[head, :2] - patch.vertices[tail, :2]
    length = np.maximum(np.hypot(along[:, 0], along[:, 1]), np.finfo(np.float64).tiny)
    outward = np.column_stack((along[:, 1], -along[:, 0])) / length[:, None]
    is_beside = flat.locator.triangles_at(np.ascontiguousarray(middles + 16.0 * patch.snap * outward)) >= 0
    return np.isin(label, np.unique(label[half[is_beside] // 3]))


def _is_at_limit(part: Patch, ring: Floats, height: float, sign: float) -> bool:
    """Whether slopes that were made up to a height run on beyond it."""
    if not len(part.triangles):
        return False
    z = part.vertices[part.used, 2]
    lowest, highest = float(ring[:, 2].min()), float(ring[:, 2].max())
    reach = height * (1.0 - 1e-9)
    return bool((z <= highest - reach).any() if sign > 0.0 else (z >= lowest + reach).any())
