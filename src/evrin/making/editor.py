"""Editing a triangulation by place: each edit finds what it is about again, or is refused with the reason."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Self

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError, EditError
from evrin.base.tolerances import EDIT_REACH
from evrin.base.wording import counted
from evrin.kernels import Floats
from evrin.making.merged_places import TakenSurface
from evrin.making.triangulation import Triangulation
from evrin.surface.provenance import ADDED_BY_HAND, Provenance
from evrin.surface.surface import Surface
from evrin.surface.validity.editable import check_is_plan, finite
from evrin.tin.mesh import mesh_edits
from evrin.tin.mesh.mesh_edits import Place
from evrin.tin.mesh.working_mesh import Reading

_NAMED = ("name", "description", "kind", "units", "crs", "colour")


class Editor:
    """Edits, applied one after another to one mesh, with nothing rebuilt in between.

    Every method names places, not numbers, returns in words what it did, and leaves the surface unchanged where it
    raises EditError. An edge once flipped is not turned back by the edits that follow.

    Parameters
    ----------
    work : Triangulation
        The mesh to edit.
    reach : float
        How far from a place the vertex may be that it means.
    name : callable, optional
        Describes a mesh vertex in the surveyor's terms.

    Examples
    --------
    >>> import evrin
    >>> roof = evrin.triangulate([[0, 0, 1], [4, 0, 3], [4, 4, 1], [0, 4, 3]])
    >>> editor = Editor.of(roof)
    >>> editor.flip((2.0, 2.0))
    'flipped the edge between (0.00, 0.00) and (4.00, 4.00) to join (0.00, 4.00) and (4.00, 0.00)'
    >>> float(roof.height(2.0, 2.0)), float(editor.surface().height(2.0, 2.0))
    (1.0, 3.0)
    """

    def __init__(
        self, work: Triangulation, reach: float = EDIT_REACH.metres, name: Callable[[int], str] | None = None
    ) -> None:
        self.work = work
        self.reach = reach
        self._name = name or self._place_of
        self._number = 0
        self._origin: Surface | None = None
        mesh_edits.hold_rim(work.mesh)

    @classmethod
    def of(cls, surface: Surface, reach: float | None = None) -> Self:
        """Take a finished surface up again; vertices, triangles, lines and what is known of them are unchanged.

        Parameters
        ----------
        surface : Surface
            The surface to start from.
        reach : float, optional
            How far from a vertex or edge an edit's place may be, in units of the surface.

        Returns
        -------
        Editor

        Raises
        ------
        DataError
            Where a height is missing, vertices or triangles lie one above the other, or a triangle has no width: of
            such a surface something would be lost.
        """
        check_is_plan(surface)
        work = Triangulation(surface.vertices, (), [TakenSurface(surface.name, surface, 0)], as_it_is=True)
        work.own_edges(surface)
        editor = cls(work, EDIT_REACH.in_units(surface.units) if reach is None else reach)
        editor._origin = surface
        kept = len(editor.surface().triangles)
        if kept != len(surface.triangles):
            lost = counted(len(surface.triangles) - kept, "triangle lies", "triangles lie")
            raise DataError(f"{surface.name}: {lost} over others, so the surface cannot be edited")
        return editor

    def surface(self, **named: str) -> Surface:
        """Return the surface as it now is; edits can go on.

        Parameters
        ----------
        **named : str
            ``name``, ``description`` and such of the surface.

        Returns
        -------
        Surface
        """
        origin = self._origin
        if origin is None:
            return self.work.surface((), **named)[0]
        facts = {key: getattr(origin, key) for key in _NAMED}
        surface, reading = self.work.surface([line for line in origin.lines if line.is_ring], **facts | named)
        return replace(surface, provenance=self._provenance(origin, reading), facts=origin.facts)

    def _provenance(self, origin: Surface, reading: Reading) -> Provenance | None:
        """What is known of the vertices, in the terms of the surface that was taken up."""
        before = origin.provenance
        if before is None:
            return None
        number = np.full(self.work.mesh.vertex_count, -1, np.int64)
        number[reading.vertices] = np.arange(len(reading.vertices))
        now = number[self.work.mesh_vertex_of[: len(origin.vertices)]]
        shot_of = np.full(len(reading.vertices), -1, np.int32)
        shot_of[now[now >= 0]] = before.shot_of[now >= 0]
        made = {int(now[v]): what for v, what in before.made.items() if now[v] >= 0}
        made |= {int(number[v]): what for v, what in self.work.made.items() if number[v] >= 0}
        changed = {int(now[v]): what for v, what in before.changed.items() if now[v] >= 0}
        for v, what in self.work.changed.items():
            if number[v] >= 0:
                earlier = changed.get(int(number[v]))
                changed[int(number[v])] = f"{earlier}, {what}" if earlier else what
        return Provenance(before.shots, shot_of, made, changed)

    def let_go(self) -> None:
        """Let go of all edges that were held for the time of the edits."""
        mesh_edits.release(self.work.mesh)

    def count(self, number: int) -> None:
        """Set which edit comes next, for the record of the vertices it changes.

        Parameters
        ----------
        number : int
            From 1, as the recipe numbers its edits.
        """
        self._number = number

    def flip(self, at: Place, joins: Sequence[Place] = ()) -> str:
        """Flip the edge at a place to the other diagonal of its two triangles.

        Parameters
        ----------
        at : (float, float)
            Easting and northing of the edge's middle, or near it.
        joins : two of (float, float), optional
            The vertices that the new edge is to join. Where an edge joins them already, nothing is turned back.

        Returns
        -------
        str
            What it did, in words.

        Raises
        ------
        EditError
            Where no edge can be flipped there.
        """
        mesh = self.work.mesh
        if joins:
            a, b = (mesh_edits.vertex_near(mesh, place, self.reach) for place in joins)
            e = mesh_edits.edge_joining(mesh, a, b)
            if e >= 0:
                mesh_edits.hold(mesh, e)
                return f"{self._name(a)} and {self._name(b)} are joined already"
            e = mesh_edits.edge_apart(mesh, a, b)
            if e < 0:
                raise EditError(
                    f"no single flip joins {self._name(a)} and {self._name(b)} any more: other vertices lie between "
                    'them; force the edge instead (do = "force")'
                )
        else:
            e = mesh.edge_near(*at)
        ends, joined = mesh.edge_ends(e), mesh.flip_ends(e)
        mesh.flip(e)
        mesh_edits.hold(mesh, mesh_edits.edge_joining(mesh, *joined))
        return f"flipped the edge between {self._both(ends)} to join {self._both(joined)}"

    def force(self, ends: Sequence[Place], name: str = "edge by hand") -> str:
        """Force an edge between the vertices at two places.

        Parameters
        ----------
        ends : sequence of (easting, northing)
            The places to join, two or more.
        name : str
            Name of the line that the edges become.

        Returns
        -------
        str
            What it did, in words.
        """
        a, b = (mesh_edits.vertex_near(self.work.mesh, place, self.reach) for place in ends)
        self.work.force_edge(a, b, name)
        return f"joined {self._both((a, b))}"

    def remove(
        self,
        *,
        at: Place | None = None,
        polygon: ArrayLike | None = None,
        line: ArrayLike | None = None,
        hole: bool = False,
    ) -> str:
        """Take away the triangle at a place, those whose middle lies in a polygon, or those that a line passes.

        Parameters
        ----------
        at : (easting, northing), optional
            A place. Give either this or an area.
        polygon : (k, 2) array_like, optional
            A closed ring; what lies inside is meant.
        line : (k, 2) array_like, optional
            A line; triangles that it crosses are meant.
        hole : bool
            Whether a gap inside the surface is meant.

        Returns
        -------
        str
            What it did, in words.

        Raises
        ------
        DataError
            Where not exactly one of *at*, *polygon* and *line* is given.
        """
        mesh = self.work.mesh
        if at is not None:
            triangles = np.array([mesh.edge_near(*at) // 3])
        elif polygon is not None:
            triangles = mesh_edits.triangles_in(mesh, _places(polygon, 3))
        elif line is not None:
            triangles = mesh_edits.triangles_under(mesh, _places(line, 2))
        else:
            raise DataError("give a place: at, polygon or line")
        mesh_edits.remove_triangles(mesh, triangles, hole=hole)
        return f"took {counted(len(triangles), 'triangle')} away"

    def add(self, at: Place, height: float | None = None) -> str:
        """Put a vertex on the surface, at a height of its own or at that of the ground.

        Parameters
        ----------
        at : (easting, northing)
            A place on the ground; the nearest vertex within reach is meant.
        height : float, optional
            In units of the surface.

        Returns
        -------
        str
            What it did, in words.
        """
        v, z = mesh_edits.add_vertex(self.work.mesh, at, None if height is None else finite(height, "height"))
        self.work.made[v] = f"{ADDED_BY_HAND}{self._by()}"
        return f"added a vertex at {self._place_of(v)}, height {z:.3f}"

    def move(self, at: Place, to: Place, height: float | None = None) -> str:
        """Move a vertex in plan, and to another height where one is given.

        Parameters
        ----------
        at : (easting, northing)
            Where the vertex is.
        to : (easting, northing)
            Where it goes.
        height : float, optional
            Its new height, in units of the surface.

        Returns
        -------
        str
            What it did, in words.
        """
        mesh = self.work.mesh
        v = mesh_edits.vertex_near(mesh, at, self.reach)
        what, start = self._name(v), mesh.xy[v].copy()
        new = None if height is None else finite(height, "height")
        mesh_edits.move_vertex(mesh, v, to)
        if new is not None:
            mesh.z[v] = new
        distance = float(np.hypot(*(mesh.xy[v] - start)))
        self._note(v, f"moved {distance:.3f}")
        return f"moved {what} by {distance:.3f}"

    def raise_by(self, by: float, *, at: Place | None = None, polygon: ArrayLike | None = None) -> str:
        """Raise, or lower by a negative height, the vertex at a place or all inside a polygon.

        Parameters
        ----------
        by : float
            In units of the surface.
        at : (easting, northing), optional
            A place. Give either this or an area.
        polygon : (k, 2) array_like, optional
            A closed ring; what lies inside is meant.

        Returns
        -------
        str
            What it did, in words.
        """
        mesh = self.work.mesh
        by = finite(by, "change of height")
        vertices = self._vertices(at, polygon)
        mesh.z[vertices] += by
        for v in vertices.tolist():
            self._note(v, f"raised by {by:g}")
        return f"raised {self._vertices_named(vertices)} by {by:g}"

    def set(self, height: float, *, at: Place | None = None, polygon: ArrayLike | None = None) -> str:
        """Set the height of the vertex at a place or of all inside a polygon.

        Parameters
        ----------
        height : float
            In units of the surface.
        at : (easting, northing), optional
            A place. Give either this or an area.
        polygon : (k, 2) array_like, optional
            A closed ring; what lies inside is meant.

        Returns
        -------
        str
            What it did, in words.
        """
        mesh = self.work.mesh
        height = finite(height, "height")
        vertices = self._vertices(at, polygon)
        change = np.abs(mesh.z[vertices] - height).max()
        for v in vertices.tolist():
            self._note(v, f"set from {mesh.z[v]:.3f}")
        mesh.z[vertices] = height
        return f"set {self._vertices_named(vertices)} to {height:.3f}, a change of up to {change:.3f}"

    def delete(self, at: Place) -> str:
        """Take the vertex at a place out and close the ground over it.

        Parameters
        ----------
        at : (easting, northing)
            A place on the ground; the nearest vertex within reach is meant.

        Returns
        -------
        str
            What it did, in words.
        """
        v = mesh_edits.vertex_near(self.work.mesh, at, self.reach)
        what = self._name(v)
        mesh_edits.delete_vertex(self.work.mesh, v)
        return f"took out {what}"

    def _vertices(self, at: Place | None, polygon: ArrayLike | None) -> np.ndarray:
        mesh = self.work.mesh
        if at is not None:
            return np.array([mesh_edits.vertex_near(mesh, at, self.reach)])
        if polygon is None:
            raise DataError("give a place: at or polygon")
        vertices = mesh_edits.vertices_in(mesh, _places(polygon, 3))
        if not len(vertices):
            raise EditError("no vertex of the surface inside the polygon")
        return vertices

    def _vertices_named(self, vertices: np.ndarray) -> str:
        return self._name(int(vertices[0])) if len(vertices) == 1 else counted(len(vertices), "vertex", "vertices")

    def _note(self, v: int, what: str) -> None:
        earlier = self.work.changed.get(v)
        self.work.changed[v] = (f"{earlier}, " if earlier else "") + what + self._by()

    def _by(self) -> str:
        return f" (edit {self._number})" if self._number else ""

    def _both(self, pair: tuple[int, int]) -> str:
        return " and ".join(sorted(self._name(v) for v in pair))

    def _place_of(self, v: int) -> str:
        return f"({self.work.mesh.xy[v, 0]:.2f}, {self.work.mesh.xy[v, 1]:.2f})"


def _places(values: ArrayLike, least: int) -> Floats:
    places = np.array(values, np.float64)
    if places.ndim != 2 or places.shape[1] < 2 or len(places) < least or not np.isfinite(places).all():
        raise DataError(f"a place is easting and northing, and {least} of them are needed; found shape {places.shape}")
    return np.ascontiguousarray(places[:, :2])
