"""The outline of a heap's cells as a line: exact where it meets a wall or the edge of the surface."""

from __future__ import annotations

import numpy as np
import scipy.ndimage

from evrin.analysis.volumes.heap_cells import (
    NOISES,
    SQUARE,
    STEEPEST,
    Found,
    View,
    ground_round,
    steep_triangles,
    widened,
)
from evrin.base.errors import GeometryError
from evrin.kernels import Flags, Floats
from evrin.making.from_arrays import triangulate
from evrin.survey.lines.strands import Strand
from evrin.survey.lines.weeding import Weed, weeded
from evrin.tin.query.nearest_lines import nearest_segments

# Of a cell: how far the outline is rounded, set in from walls, and weeded.
_ROUNDED, _INSET, WEEDED, _WEEDED_AT_WALLS = 1.5, 1e-3, 0.2, 0.01


def ring_round(view: View, found: Found) -> tuple[Floats, Floats, float]:
    """Return a heap's outline, a little wide; its sides with no ground beyond; how long the high ones are."""
    wide = widened(view, found)
    inward = distance_inward(view, wide)
    sides = _blocking_sides(view)
    nodes = view.places(np.ones(wide.shape, np.bool_))
    to_sides = nearest_segments(nodes, sides, within=4.0 * view.cell).distances.reshape(wide.shape)
    is_near = to_sides < 1.5 * view.cell
    inward = np.where(is_near, np.where(wide, to_sides - _INSET * view.cell, -to_sides), inward)
    ring = outline(view, inward)
    off = nearest_segments(ring, sides, within=4.0 * view.cell).distances
    column, row = np.rint((ring - [view.west, view.south]) / view.cell).astype(int).T
    level = view.plane(ground_round(view, found))[row, column]
    height = np.nan_to_num(view.surface.height(*ring.T), nan=np.inf)
    beside = scipy.ndimage.binary_dilation(found.all_out & ~found.heap, SQUARE, iterations=3)[row, column]
    is_held = (off < 0.5 * view.cell) | beside
    sides_of_ring = np.hstack((ring, np.roll(ring, -1, axis=0)))
    held = sides_of_ring[is_held | np.roll(is_held, -1)]
    high = sides_of_ring[is_held & (height - level > 2.0 * view.least)]
    against = float(np.hypot(*(high[:, 2:] - high[:, :2]).T).sum())
    # Where the outline meets a wall it must not be moved off it, and there it is straight.
    exactly = bool((is_near & wide).any())
    return weeded_ring(ring, (_WEEDED_AT_WALLS if exactly else WEEDED) * view.cell), held, against


def weeded_ring(ring: Floats, tolerance: float) -> Floats:
    """Return a closed ring without the places that it passes within a tolerance."""
    line = Strand.made("toe", np.column_stack((ring, np.zeros(len(ring)))), closed=True)
    return np.ascontiguousarray(ring[weeded([line], [Weed(tolerance=tolerance)]).kept[0]])


def distance_inward(view: View, cells: Flags) -> Floats:
    """Return how far each cell is inside the border of some, negative outside; corners are rounded."""
    deep = scipy.ndimage.distance_transform_edt(cells)
    far = scipy.ndimage.distance_transform_edt(~cells)
    return np.asarray(view.cell * scipy.ndimage.gaussian_filter(np.where(cells, deep - 0.5, 0.5 - far), _ROUNDED))


def outline(view: View, inward: Floats) -> Floats:
    """Return the closed line round the middle along which a field of the view's cells is zero; counter-clockwise."""
    nodes = view.places(np.ones(inward.shape, np.bool_))
    near = scipy.ndimage.binary_dilation(inward > 0.0, SQUARE, iterations=2).ravel()
    if not near.any():
        raise GeometryError("no toe was found: what stands out has no outline. Draw the toe")
    field = triangulate(np.column_stack((nodes, inward.ravel()))[near])
    rings = [line.points[:-1, :2] for line in field.contours(levels=[0.0]) if line.is_closed and len(line.points) > 3]
    if not rings:
        raise GeometryError("no toe was found: what stands out has no outline. Draw the toe")
    ring = max(rings, key=lambda each: abs(_area_of(each)))
    return np.ascontiguousarray(ring if _area_of(ring) > 0.0 else ring[::-1])


def _blocking_sides(view: View) -> Floats:
    """Sides of triangles that a toe cannot pass: of the edge of the surface, and of walls."""
    surface = view.surface
    corners = surface.vertices[surface.triangles]
    walls = scipy.ndimage.binary_dilation(view.steps.is_wall, SQUARE, iterations=2)
    place = np.rint((corners[:, :, :2].mean(axis=1) - [view.west, view.south]) / view.cell).astype(int)
    is_inside = ((place >= 0) & (place < len(walls))).all(axis=1)
    column, row = np.where(is_inside[:, None], place, 0).T
    near_walls = np.flatnonzero(is_inside & walls[row, column])
    is_steep = steep_triangles(surface, near_walls, STEEPEST, NOISES * view.noise)
    of_walls = (3 * near_walls[is_steep][:, None] + np.arange(3)).ravel()
    starts = np.concatenate((np.flatnonzero(surface.mates < 0), of_walls))
    heads = starts - starts % 3 + (starts + 1) % 3
    flat = corners[:, :, :2].reshape(-1, 2)
    sides = np.hstack((flat[starts], flat[heads]))
    low, high = np.array([view.west, view.south]), np.array([view.west, view.south]) + view.cell * len(walls)
    near = (np.maximum(sides[:, :2], sides[:, 2:]) >= low) & (np.minimum(sides[:, :2], sides[:, 2:]) <= high)
    return np.ascontiguousarray(sides[near.all(axis=1)])


def _area_of(ring: Floats) -> float:
    """The area within a ring, negative where it runs clockwise."""
    x, y = (ring - ring[0]).T
    return 0.5 * float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum())
