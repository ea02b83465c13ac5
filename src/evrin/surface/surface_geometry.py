"""`SurfaceGeometry`: the vertices, triangles and lines of a surface, and what follows from them alone."""

from __future__ import annotations

from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Self, TypedDict, Unpack

import numpy as np
from numpy.typing import ArrayLike, NDArray

from evrin.base.errors import DataError
from evrin.kernels import Floats, Ints
from evrin.surface.chains import loops_of
from evrin.surface.frame import Frame
from evrin.surface.locator import Locator
from evrin.surface.provenance import Provenance
from evrin.surface.source_line import SourceLine
from evrin.surface.survey_facts import SurveyFacts
from evrin.tin.overlay.overlap import counter_clockwise
from evrin.tin.query import compact, locate


class SurfaceNames(TypedDict, total=False):
    """The attributes of a surface that are texts; `Surface` states what each holds."""

    name: str
    description: str
    kind: str
    units: str
    crs: str
    colour: str


@dataclass(frozen=True, eq=False)
class SurfaceGeometry:
    """Vertices, triangles and lines; `Surface` states what each attribute holds."""

    vertices: Floats
    triangles: Ints
    edge_lines: Ints
    lines: tuple[SourceLine, ...] = ()
    provenance: Provenance | None = None
    name: str = "surface"
    description: str = ""
    kind: str = "existing"
    units: str = "m"
    crs: str = "local"
    colour: str = ""
    hidden: Ints = field(default_factory=lambda: np.empty((0, 3), np.int32))
    facts: SurveyFacts = field(default_factory=SurveyFacts)

    def __post_init__(self) -> None:
        for array in (self.vertices, self.triangles, self.edge_lines):
            array.setflags(write=False)

    @classmethod
    def from_arrays(cls, vertices: ArrayLike, triangles: ArrayLike, **named: Unpack[SurfaceNames]) -> Self:
        """Return a surface with exactly these triangles.

        Parameters
        ----------
        vertices : (n, 3) array_like of float
            Easting, northing, height.
        triangles : (m, 3) array_like of int
            Rows of *vertices*. A triangle that is clockwise is turned.
        **named : str
            Any of ``name``, ``description``, ``kind``, ``units``, ``crs`` and ``colour``.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            If a shape is wrong, a number is not finite, or a triangle names a vertex that does not exist.
        """
        points = np.array(vertices, dtype=np.float64, order="C")
        corners = np.array(triangles, dtype=np.int64, order="C")
        if points.ndim != 2 or points.shape[1] != 3:
            raise DataError(f"vertices must have shape (n, 3); they have {points.shape}")
        if corners.ndim != 2 or corners.shape[1] != 3 or len(corners) == 0:
            raise DataError(f"triangles must have shape (m, 3) with m at least 1; they have {corners.shape}")
        if not np.isfinite(points).all():
            raise DataError(f"vertex {int(np.argwhere(~np.isfinite(points))[0, 0])} is not finite")
        if corners.min() < 0 or corners.max() >= len(points):
            bad = int(np.argwhere((corners < 0) | (corners >= len(points)))[0, 0])
            raise DataError(f"triangle {bad} names a vertex that does not exist; there are {len(points)}")
        turned = counter_clockwise(points, corners.astype(np.int32))
        return cls(points, turned, np.full(turned.shape, -1, np.int32)).renamed(**named)

    def __setstate__(self, state: dict[str, object]) -> None:
        vars(self).update(state)
        self.__post_init__()  # as read-only as what was put into the pickle

    def __getstate__(self) -> dict[str, object]:  # what can be computed again is not stored
        return {each.name: getattr(self, each.name) for each in fields(self)}

    def __repr__(self) -> str:
        return (
            f"<{type(self).__name__} {self.name!r}: {len(self.vertices):,} vertices, {len(self.triangles):,} triangles>"
        )

    def renamed(self, **named: Unpack[SurfaceNames]) -> Self:
        """Return the same surface under another name, or with another description, kind, unit, system or colour.

        Parameters
        ----------
        **named : str
            Any of ``name``, ``description``, ``kind``, ``units``, ``crs`` and ``colour``.

        Returns
        -------
        Surface
        """
        return replace(self, **named)

    def with_lines(self, lines: tuple[SourceLine, ...], provenance: Provenance | None = None) -> Self:
        """Return the same surface with other lines and another record of where its vertices came from.

        Parameters
        ----------
        lines : tuple of SourceLine
            Breaklines first, then boundaries.
        provenance : Provenance, optional
            Where each vertex came from; None if that is not known.

        Returns
        -------
        Surface
        """
        return replace(self, lines=lines, provenance=provenance)

    @cached_property
    def mates(self) -> Ints:
        """(3 m,) int32: the half-edge across each half-edge ``3 t + k``, -1 on the rim."""
        return compact.mates_of(self.triangles, len(self.vertices))

    @property
    def sorting_key(self) -> tuple[int, int, bytes, bytes]:
        """A key to put surfaces in order, so that results do not depend on which of them is named first."""
        return len(self.triangles), len(self.vertices), self.vertices.tobytes(), self.triangles.tobytes()

    @property
    def frame(self) -> Frame:
        """What its coordinates mean."""
        return Frame(self.units, self.crs or "local")

    @property
    def edges(self) -> Ints:
        """(e, 2) int32: the two vertices of each edge, once, in the order of the triangles."""
        half = np.arange(3 * len(self.triangles))
        first_halves = half[(self.mates < 0) | (half < self.mates)]
        return np.column_stack(
            (
                self.triangles[first_halves // 3, first_halves % 3],
                self.triangles[first_halves // 3, (first_halves + 1) % 3],
            )
        )

    @cached_property
    def locator(self) -> Locator:
        """The box tree behind all questions about places."""
        return Locator.over(self.vertices, self.triangles, self.mates)

    @cached_property
    def gradients(self) -> Floats:
        """(m, 2) float64: rise over run of each triangle eastwards and northwards; NaN for one without plan area."""
        out = np.empty((len(self.triangles), 2))
        compact.fill_gradients(self.vertices, self.triangles, out)
        return out

    @cached_property
    def side_lengths(self) -> Floats:
        """(m, 3) float64: plan length of sides ab, bc, ca of each triangle."""
        out = np.empty((len(self.triangles), 3))
        compact.fill_side_lengths(self.vertices, self.triangles, out)
        return out

    @cached_property
    def triangle_slopes(self) -> Floats:
        """(m,) float64: steepest rise over run of each triangle."""
        return np.hypot(self.gradients[:, 0], self.gradients[:, 1])

    @cached_property
    def triangle_areas(self) -> Floats:
        """(m,) float64: plan area of each triangle."""
        out = np.empty(len(self.triangles))
        compact.fill_areas(self.vertices, self.triangles, out)
        return out

    @cached_property
    def plan_area(self) -> float:
        """Area seen from above."""
        return float(self.triangle_areas.sum())

    @cached_property
    def slope_area(self) -> float:
        """Area measured on the ground."""
        return float((self.triangle_areas * np.sqrt(1.0 + np.nan_to_num(self.triangle_slopes) ** 2)).sum())

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """West, south, east, north."""
        low, high = self.vertices[:, :2].min(axis=0), self.vertices[:, :2].max(axis=0)
        return float(low[0]), float(low[1]), float(high[0]), float(high[1])

    def triangles_at(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        """Return the triangle at each place, -1 outside the surface.

        Parameters
        ----------
        x, y : array_like
            Easting and northing; they are broadcast together, and the result has that shape.

        Returns
        -------
        array of int64
        """
        places, shape = _as_places(x, y)
        return self.locator.triangles_at(places).reshape(shape)

    def height(self, x: ArrayLike, y: ArrayLike) -> Floats:
        """Return the height at each place, NaN outside the surface.

        Parameters
        ----------
        x, y : array_like
            Easting and northing.

        Returns
        -------
        array of float64
            Heights.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.Surface.from_arrays([[0, 0, 5], [10, 0, 6], [10, 10, 6], [0, 10, 5]], [[0, 1, 2], [0, 2, 3]])
        >>> ramp.height([2.5, 20], [5, 5])
        array([5.25,  nan])
        """
        places, shape = _as_places(x, y)
        return self.locator.heights_at(places).reshape(shape)

    def slope(self, x: ArrayLike, y: ArrayLike) -> Floats:
        """Return the steepest slope, rise over run, of the triangle at each place; NaN outside the surface.

        Parameters
        ----------
        x, y : array_like
            Easting and northing.

        Returns
        -------
        array of float64
        """
        triangles = self.triangles_at(x, y)
        return np.where(triangles >= 0, self.triangle_slopes[triangles], np.nan)

    def heights_on_grid(self, west: float, south: float, step: float, rows: int, columns: int) -> Floats:
        """Return heights (rows, columns) at grid nodes, row 0 southernmost, NaN outside the surface.

        Parameters
        ----------
        west, south : float
            Place of the first node.
        step : float
            Distance between nodes.
        rows, columns : int
            Number of nodes northwards and eastwards.

        Returns
        -------
        (rows, columns) float64
        """
        out = np.full((rows, columns), np.nan)
        locate.heights_on_grid(self.vertices, self.triangles, float(west), float(south), float(step), float(step), out)
        return out

    def rim(self) -> list[Ints]:
        """Return the edge of the surface as closed loops of vertex numbers, with the ground on the left.

        No loop passes a vertex twice: where the edge touches itself, there are several loops.

        Returns
        -------
        list of (k,) int64
        """
        starts = np.flatnonzero(self.mates < 0)
        flat = self.triangles.ravel()
        heads = flat[starts - starts % 3 + (starts + 1) % 3]
        return loops_of(flat[starts], heads)


def _as_places(*xy: ArrayLike) -> tuple[Floats, tuple[int, ...]]:
    east, north = np.broadcast_arrays(*(np.asarray(each, float) for each in xy))
    return np.column_stack((east.ravel(), north.ravel())), east.shape
