"""`Surface`: what a build, a triangulation or a file gives, and what can be asked of it."""

from __future__ import annotations

import os
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from evrin.base.errors import DataError
from evrin.base.lazy import LazyMethod, loaded
from evrin.kernels import Floats, Ints
from evrin.surface.chains import loops_of
from evrin.surface.frame import Frame
from evrin.surface.locator import Locator
from evrin.surface.provenance import Provenance
from evrin.surface.survey_facts import SurveyFacts
from evrin.tin.overlay.overlap import counter_clockwise
from evrin.tin.query import compact, locate


@dataclass(frozen=True)
class SourceLine:
    """A named line of places, such as a breakline or a boundary ring, as put into a surface.

    Attributes
    ----------
    name : str
    points : (k, 3) float64
        Height NaN where the line has none of its own.
    closed : bool
    effect : str
        ``"breakline"``, ``"contour"``, ``"flat"`` for the shore of an area held level, ``"keep"`` or ``"cut"``.
    where : str
        Where it was, as in ``banks.csv lines 4 to 19``; empty where it came from no file.
    description : str
        What its file states of it besides its name.

    Examples
    --------
    >>> import evrin
    >>> import numpy as np
    >>> evrin.SourceLine("kerb", np.array([[0.0, 0, 1], [5, 0, 1]])).is_ring
    False
    """

    name: str
    points: Floats
    closed: bool = False
    effect: str = "breakline"
    where: str = ""
    description: str = ""

    @property
    def is_ring(self) -> bool:
        """Whether it limits a surface instead of shaping it."""
        return self.effect in ("keep", "cut")


@dataclass(frozen=True, eq=False)
class Surface:
    """An immutable triangulated surface.

    Attributes
    ----------
    vertices : (n, 3) float64
        Easting, northing, height.
    triangles : (m, 3) int32
        Rows of *vertices*, counter-clockwise seen from above.
    edge_lines : (m, 3) int32
        For edges ab, bc, ca of each triangle, the entry of *lines* it belongs to, or -1.
    lines : tuple of SourceLine
        Breaklines first, then boundaries.
    provenance : Provenance or None
        Which shot each vertex came from.
    hidden : (h, 3) int32
        Faces that a file holds and marks as hidden: no part of the surface, and written again.
    name, description, kind, units, crs, colour : str
        *kind* is ``"existing"`` or ``"proposed"``; *units* one of ``m``, ``ft``, ``ftUS``; *colour* ``"#rrggbb"``, or
        empty.
    facts : SurveyFacts
        Who surveyed it, for whom, when, and above what its heights are.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> field.height(4.0, 4.0).item(), field.plan_area, field.units
    (1.5, 64.0, 'm')
    """

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

    height_at = LazyMethod("evrin.analysis.terrain.place_query:at_place")
    contours = LazyMethod("evrin.analysis.contours.contour_lines:contours")
    profile = LazyMethod("evrin.analysis.along.profiles:profile")
    sections = LazyMethod("evrin.analysis.along.sections:cross_sections")
    slope_bands = LazyMethod("evrin.analysis.terrain.slopes:slope_bands")
    height_bands = LazyMethod("evrin.analysis.terrain.slopes:height_bands")
    aspect_bands = LazyMethod("evrin.analysis.terrain.slopes:aspect_bands")
    check_points = LazyMethod("evrin.analysis.quality.check_point_fit:check_points")
    points_along = LazyMethod("evrin.analysis.along.points_on_line:points_along")
    water_paths = LazyMethod("evrin.analysis.terrain.drainage:water_paths")
    hollows = LazyMethod("evrin.analysis.terrain.drainage:hollows")
    summits = LazyMethod("evrin.analysis.terrain.drainage:summits")
    figures = LazyMethod("evrin.analysis.quality.statistics:surface_figures")
    faults = LazyMethod("evrin.surface.validity.faults:faults")
    difference = LazyMethod("evrin.analysis.volumes.differences:difference")
    heap_volume = LazyMethod("evrin.analysis.volumes.heaps:heap_volume")
    less = LazyMethod("evrin.analysis.volumes.difference_surface:difference_surface")
    level_volumes = LazyMethod("evrin.analysis.volumes.level_volumes:level_volumes")
    volume_above = LazyMethod("evrin.analysis.volumes.cut_and_fill:volume_above")
    gridded = LazyMethod("evrin.analysis.terrain.gridding:gridded")
    clip = LazyMethod("evrin.making.combine.clipping:clipped")
    transform = LazyMethod("evrin.formats.door.surface_files:transformed")
    write = LazyMethod("evrin.formats.door.writers:write_surface")
    to_dataframe = LazyMethod("evrin.surface.vertex_frame:vertex_frame")
    to_geodataframe = LazyMethod("evrin.formats.gis.geo_frames:triangle_frame")
    plot = LazyMethod("evrin.draw.plotting:plot_surface")
    _repr_html_ = LazyMethod("evrin.report.snippets:surface_snippet")

    def __post_init__(self) -> None:
        for array in (self.vertices, self.triangles, self.edge_lines):
            array.setflags(write=False)

    @classmethod
    def from_arrays(cls, vertices: ArrayLike, triangles: ArrayLike, **named: str) -> Surface:
        """Take triangles unchanged.

        Parameters
        ----------
        vertices : (n, 3) float
        triangles : (m, 3) int
            Turned counter-clockwise where they are not.
        **named
            ``name``, ``description``, ``kind``, ``units``, ``crs``, ``colour``.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            For a wrong shape, a number that is not finite, or a triangle that names no vertex.
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

    @classmethod
    def read(cls, path: str | os.PathLike[str], name: str = "", **stated: Any) -> Surface:
        """Read a surface from a file; see `evrin.read_surface`.

        Parameters
        ----------
        path : path
        name : str
        **stated : Any
            What is known of the file: ``units``, ``height_units``, ``crs``, ``exchanged``, ``frame``.

        Returns
        -------
        Surface
        """
        return loaded("evrin.formats.door.surface_files:read_surface")(path, name, **stated)  # type: ignore[no-any-return]

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state)
        self.__post_init__()  # as read-only as what was put into the pickle

    def __getstate__(self) -> dict[str, Any]:  # what can be computed again is not stored
        return {each.name: getattr(self, each.name) for each in fields(self)}

    def __repr__(self) -> str:
        return f"<Surface {self.name!r}: {len(self.vertices):,} vertices, {len(self.triangles):,} triangles>"

    def renamed(self, **named: str) -> Surface:
        """Return the same surface under another ``name``, ``description``, ``kind``, ``units``, ``crs``, ``colour``.

        Parameters
        ----------
        **named : str

        Returns
        -------
        Surface
        """
        return replace(self, **named)  # type: ignore[arg-type]

    def with_lines(self, lines: tuple[SourceLine, ...], provenance: Provenance | None = None) -> Surface:
        """Return the same surface with these lines on record, and where its vertices came from.

        Parameters
        ----------
        lines : tuple of SourceLine
        provenance : Provenance, optional
            Where each vertex came from; as it was where None.

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
        """What surfaces are put in order by, so that results do not depend on which is named first."""
        return len(self.triangles), len(self.vertices), self.vertices.tobytes(), self.triangles.tobytes()

    @property
    def frame(self) -> Frame:
        """What its coordinates mean."""
        return Frame(self.units, self.crs or "local")

    @property
    def edges(self) -> Ints:
        """(e, 2) int32: the two vertices of each edge, once, in the order of the triangles."""
        half = np.arange(3 * len(self.triangles))
        chosen = half[(self.mates < 0) | (half < self.mates)]
        return np.column_stack((self.triangles[chosen // 3, chosen % 3], self.triangles[chosen // 3, (chosen + 1) % 3]))

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
        """Return the triangle at each place, -1 outside; the shape is that of *x* and *y* together.

        Parameters
        ----------
        x, y : array_like

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
        >>> ramp = Surface.from_arrays([[0, 0, 5], [10, 0, 6], [10, 10, 6], [0, 10, 5]], [[0, 1, 2], [0, 2, 3]])
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
        found = self.triangles_at(x, y)
        return np.where(found >= 0, self.triangle_slopes[found], np.nan)

    def heights_on_grid(self, west: float, south: float, step: float, rows: int, columns: int) -> Floats:
        """Return heights (rows, columns) at grid nodes, row 0 southernmost, NaN outside the surface.

        Parameters
        ----------
        west, south : float
            Place of the first node.
        step : float
            Distance between nodes.
        rows, columns : int

        Returns
        -------
        (rows, columns) float64
        """
        out = np.full((rows, columns), np.nan)
        locate.heights_on_grid(self.vertices, self.triangles, float(west), float(south), float(step), float(step), out)
        return out

    def rim(self) -> list[Ints]:
        """Return the surface's edge as closed loops of vertex numbers, ground on the left.

        No loop is twice at one vertex: where the edge touches itself, there are several.

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
