"""A box tree over a surface's triangles, built once and asked many times."""

from dataclasses import dataclass

import numpy as np

from evrin.kernels import Floats, Indices, Ints
from evrin.tin.exact.curve_order import canonical_order
from evrin.tin.query import locate


@dataclass(frozen=True)
class Locator:
    """Answers which triangle holds a place.

    Attributes
    ----------
    order : (m,) int64
        Triangles along a space-filling curve.
    boxes : (b, 4) float64
        West, south, east, north of each tree node, leaves first.
    levels : (l + 1,) int64
        Where each level of the tree starts in *boxes*.
    """

    vertices: Floats
    triangles: Ints
    mate: Ints
    order: Indices
    boxes: Floats
    levels: Indices

    @classmethod
    def over(cls, vertices: Floats, triangles: Ints, mate: Ints) -> "Locator":
        """Build the tree over triangles (m, 3) of vertices (n, 3)."""
        order = canonical_order(np.ascontiguousarray(vertices[triangles[:, 0], :2]))
        levels = locate.tree_levels(len(triangles))
        boxes = np.empty((int(levels[-1]), 4))
        locate.triangle_boxes(vertices, triangles, order, boxes)
        locate.join_boxes(boxes, levels)
        return cls(vertices, triangles, mate, order, boxes, levels)

    def _answers(self, places: Floats) -> tuple[Indices, Floats, Indices]:
        """Return which places are finite, along a curve, then those places and the triangle of each."""
        finite = np.flatnonzero(np.isfinite(places).all(axis=1))
        if len(finite) == 0:
            return finite, np.empty((0, 2)), np.empty(0, np.int64)
        asked = np.take(finite, canonical_order(np.take(places, finite, axis=0)))
        along = np.take(places, asked, axis=0)
        triangles = np.empty(len(asked), np.int64)
        locate.locate_places(
            self.vertices, self.triangles, self.mate, self.order, self.boxes, self.levels, along, triangles
        )
        return asked, along, triangles

    def triangles_at(self, places: Floats) -> Indices:
        """Return the triangle at each of (k, 2) places, -1 outside."""
        asked, _, triangles = self._answers(places)
        out = np.full(len(places), -1, np.int64)
        out[asked] = triangles
        return out

    def heights_at(self, places: Floats) -> Floats:
        """Return the height at each of (k, 2) places, NaN outside."""
        asked, along, triangles = self._answers(places)
        heights = np.empty(len(asked))
        locate.heights_in_triangles(self.vertices, self.triangles, triangles, along, heights)
        out = np.full(len(places), np.nan)
        out[asked] = heights
        return out

    def triangles_beside(self, start: Floats, end: Floats) -> Indices:
        """Return the triangles whose bounding boxes the line from *start* to *end* touches."""
        room = 1024
        while True:
            triangles = np.empty(room, np.int64)
            count = locate.triangles_beside(
                self.boxes,
                self.levels,
                self.order,
                float(start[0]),
                float(start[1]),
                float(end[0]),
                float(end[1]),
                triangles,
            )
            if count <= room:
                return triangles[:count]
            room = count
