"""What stands out of the ground round a place, as cells of a grid: a heap, whatever its shape, and the ground round it.

See `evrin.analysis.volumes.slope_envelope`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy.ndimage

from evrin.analysis.volumes.slope_envelope import Steps
from evrin.kernels import Flags, Floats, Indices
from evrin.surface.surface import Surface

# Loose earth stands at 1 in 1.2 at most; what is steeper is a wall, or a face that has just been dug.
STEEPEST, _UPRIGHT = 1.3, 4.0
NOISES, _LEAST_RISE = 5.0, 0.002
FEWEST_CELLS, _ASKED = 20, 10_000
SQUARE = np.ones((3, 3), np.bool_)
_ALL, _FIRST, _LAST = slice(None), slice(None, -1), slice(1, None)
_BESIDE = (
    ((_FIRST, _ALL), (_LAST, _ALL)),
    ((_LAST, _ALL), (_FIRST, _ALL)),
    ((_ALL, _FIRST), (_ALL, _LAST)),
    ((_ALL, _LAST), (_ALL, _FIRST)),
)


@dataclass(frozen=True, eq=False)
class View:
    """A square grid round a place, of heights above a plane that leans as the ground round the heap does."""

    surface: Surface
    west: float
    south: float
    cell: float
    heights: Floats
    noise: float
    steps: Steps

    @classmethod
    def of(cls, surface: Surface, centre: Floats, half: float, cells: int, noise: float) -> View:
        """Return the view of a surface as far as *half* from a place, about so many cells wide."""
        along = np.linspace(-half, half, 2 * (cells // 2) + 1)
        x, y = np.meshgrid(centre[0] + along, centre[1] + along)
        heights = np.asarray(surface.height(x.ravel(), y.ravel())).reshape(x.shape)
        cell = float(along[1] - along[0])
        upright = _on_upright_triangles(surface, x.ravel(), y.ravel(), NOISES * noise).reshape(x.shape)
        steps = Steps.of(np.where(upright, np.nan, heights), cell, STEEPEST, NOISES * noise)
        return cls(surface, float(x[0, 0]), float(y[0, 0]), cell, heights, noise, steps)

    @property
    def middle(self) -> int:
        """Number of the cell at the place."""
        return self.heights.size // 2

    @property
    def centre(self) -> Floats:
        """(2,) float64: the place."""
        return np.asarray(np.array([self.west, self.south]) + self.cell * (self.heights.shape[0] // 2))

    @property
    def least(self) -> float:
        """What rises by less may be noise."""
        return NOISES * self.noise + _LEAST_RISE * float(np.nanmax(self.heights) - np.nanmin(self.heights))

    def places(self, cells: Flags) -> Floats:
        """Return the middles (n, 2) of some cells."""
        row, column = np.nonzero(cells)
        return np.column_stack((self.west + self.cell * column, self.south + self.cell * row))

    def plane(self, cells: Flags) -> Floats:
        """Return the plane through the heights of some cells, at every cell."""
        row, column = np.indices(self.heights.shape)
        level, by_row, by_column = self._fitted(cells)
        return np.asarray(level + by_row * row + by_column * column)

    def lean(self, cells: Flags) -> Floats:
        """Return how much that plane rises per length, east and north."""
        _, by_row, by_column = self._fitted(cells)
        return np.array([by_column, by_row]) / self.cell

    def _fitted(self, cells: Flags) -> Floats:
        row, column = np.nonzero(cells)
        terms = np.column_stack((np.ones(len(row)), row, column))
        return np.asarray(np.linalg.lstsq(terms, self.heights[cells], rcond=None)[0])


@dataclass(frozen=True, eq=False)
class Found:
    """What stands out for one slope: the cells of the heap, all that stand out, and the heap's volume, roughly."""

    slope: float
    heap: Flags
    all_out: Flags
    volume: float
    is_closed: bool


def _on_upright_triangles(surface: Surface, x: Floats, y: Floats, noise: float) -> Flags:
    """Which places are on the face of a wall: on triangles that are nearly upright, and higher than noise."""
    triangle = surface.triangles_at(x, y)
    on_wall = steep_triangles(surface, triangle[triangle >= 0], _UPRIGHT, noise)
    out = np.zeros(len(triangle), np.bool_)
    out[triangle >= 0] = on_wall
    return out


def steep_triangles(surface: Surface, triangles: Indices, slope: float, noise: float) -> Flags:
    """Return which of some triangles are steeper than *slope*, and higher than noise."""
    rise = np.ptp(surface.vertices[surface.triangles[triangles], 2], axis=1)
    # One without plan area has no slope, and is upright.
    return np.asarray(~(surface.triangle_slopes[triangles] <= slope) & (rise > noise))


def height_noise(surface: Surface, centre: Floats, half: float) -> float:
    """Return how far the heights of vertices round a place scatter about planes by their neighbours: a deviation."""
    is_near: Flags = np.asarray((np.abs(surface.vertices[:, :2] - centre) <= half).all(axis=1))
    # Some thousands of them tell as much as all.
    chosen = np.flatnonzero(is_near)[:: max(1, int(is_near.sum()) // _ASKED)]
    near: Flags = np.zeros(len(is_near), np.bool_)
    near[chosen] = True
    inside = surface.triangles[near[surface.triangles].any(axis=1)]
    one = np.concatenate([inside[:, k] for k in (0, 1, 2, 1, 2, 0)])
    other = np.concatenate([inside[:, k] for k in (1, 2, 0, 0, 1, 2)])
    one, other = one[near[one]], other[near[one]]
    x, y, z = (surface.vertices[other] - surface.vertices[one]).T
    count = len(chosen)
    one = (np.cumsum(near) - 1)[one]
    terms = (np.ones(len(x)), x, y)
    normal = np.empty((count, 3, 3))
    right = np.empty((count, 3))
    for j, first in enumerate(terms):
        right[:, j] = np.bincount(one, first * z, count)
        for k, second in enumerate(terms):
            normal[:, j, k] = np.bincount(one, first * second, count)
    # A rim's neighbours are met once, others twice; five of them hold a plane that is better than guessed.
    size = normal[:, 0, 0] * normal[:, 1, 1] * normal[:, 2, 2]
    is_held = (normal[:, 0, 0] >= 10.0) & (np.linalg.det(normal) > 1e-6 * size)
    if not is_held.any():
        return 0.0
    away = np.linalg.solve(normal[is_held], right[is_held][:, :, None])[:, 0, 0]
    return 1.4826 * float(np.median(np.abs(away))) / float(np.sqrt(1.0 + 1.0 / 6.0))


def found_in(view: View, lean: Floats, slopes: Sequence[float]) -> list[Found]:
    """Return what stands out and ends within the view, for each slope, when the ground's lean is taken off."""
    row, column = np.indices(view.heights.shape)
    levelled = view.heights - view.cell * (lean[0] * column + lean[1] * row)
    found = [_stands_out(view, levelled, slope) for slope in slopes]
    return [each for each in found if each is not None and each.is_closed]


def _stands_out(view: View, levelled: Floats, slope: float) -> Found | None:
    above = view.steps.above_gentle(levelled, slope)
    out = np.nan_to_num(above, nan=-1.0) > view.least
    heap = view.steps.joined_to(out, view.middle)
    if not heap.any():
        # A crater on top, or a ring of earth: what is enclosed belongs to it.
        heap = view.steps.joined_to(scipy.ndimage.binary_fill_holes(out), view.middle)
    return measured_heap(view, slope, heap, out) if heap.any() else None


def measured_heap(view: View, slope: float, heap: Flags, out: Flags) -> Found | None:
    """Return a heap with its volume above the plane of the ground round it; None where too little is seen."""
    filled = scipy.ndimage.binary_fill_holes(heap)
    if filled.sum() < FEWEST_CELLS:
        return None
    border = np.zeros(heap.shape, np.bool_)
    border[[0, -1]] = border[:, [0, -1]] = True
    found = Found(slope, filled, out, 0.0, not (filled & border).any())
    ground = ground_round(view, found)
    if ground.sum() < FEWEST_CELLS:
        return None
    above = (view.heights - view.plane(ground))[widened(view, found)]
    return replace(found, volume=float(above.sum()) * view.cell**2)


def widened(view: View, found: Found) -> Flags:
    """Return the cells of a heap and those just beyond, but for other heaps and what lies above a wall or below one."""
    heap = found.heap & view.steps.is_ground
    top, bottom = float(view.heights[heap].max()), float(view.heights[heap].min())
    allowed = view.steps.is_ground & (heap | ~found.all_out)
    allowed &= view.heights > bottom - 0.2 * (top - bottom) - view.least
    climb = max(STEEPEST * view.cell, NOISES * view.noise)
    out = heap
    for _ in range(2):
        grown = out.copy()
        for here, there in _BESIDE:
            grown[here] |= out[there] & allowed[here] & (view.heights[here] - view.heights[there] <= climb)
        out = grown
    return out


def ground_round(view: View, found: Found, gap: float = 0.04, around: float = 0.2) -> Flags:
    """Return cells round a heap that are ground, on its own side of walls, between two distances beside its size."""
    away = scipy.ndimage.distance_transform_edt(~widened(view, found))
    size = float(np.sqrt(found.heap.sum()))
    reached = view.steps.joined_to(view.steps.is_ground & (away <= max(around * size, 8.0)), view.middle)
    at_wall = scipy.ndimage.binary_dilation(view.steps.is_wall, SQUARE)
    return np.asarray(reached & (away > max(gap * size, 1.5)) & ~found.all_out & ~at_wall)
