"""From points, breaklines and boundaries to a surface."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from evrin.base.errors import GeometryError
from evrin.kernels import Flags, Floats, Indices
from evrin.making.limits.extrapolation import dense_ring, drawn_nearer, feet_on_rim, heights_beyond, rim_edges
from evrin.making.limits.limit_effects import limits_of
from evrin.making.merged_places import (
    ONE_OF,
    LineCrossing,
    LineMiss,
    TakenSurface,
    firm_places,
    mesh_of_places,
    settled_heights,
)
from evrin.making.numberings import MeshVertexOfInputRow
from evrin.making.peeling import peel
from evrin.surface.provenance import EXTRAPOLATED
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.mesh import turning
from evrin.tin.mesh.limiting import limit_mesh
from evrin.tin.mesh.mesh_edits import force_edge
from evrin.tin.mesh.working_mesh import Crossings, Reading
from evrin.tin.query import compact

_LOG = logging.getLogger("evrin")
NOWHERE = -1
_RESIDUE = 1e-40


class Triangulation:
    """Points and breaklines triangulated, ready to be trimmed, carved and edited.

    Input rows are numbered: the points first, then the vertices of each breakline in turn.

    Parameters
    ----------
    points : (n, 3) float64
        Easting, northing, height.
    lines : list of SourceLine
        Breaklines. A vertex with NaN height lies on the ground between the rest.
    taken : list of TakenSurface
        Surfaces whose triangles are kept, except where other points or lines fall into them.
    at_one_place : {"mean", "first", "last", "lowest", "highest"}
        Which height is used where rows at one place have unlike ones.
    at_crossings : {"mean", "first", "higher", "lower"}
        Which height is used where lines cross that have heights of their own.
    as_it_is : bool
        Take the triangles of one surface alone, those within the snap width as well: nothing is settled again.

    Attributes
    ----------
    mesh : Mesh
        The working mesh.
    mesh_vertex_of : (rows,) int64
        Mesh vertex of each input row, NOWHERE where a plan vertex lies outside the data.
    unlike : list of UnlikeHeights
        Indices at one place whose heights differ.
    crossings : list of LineCrossing
        Where lines cross at unlike heights.
    near_places : int
        How many places were merged into another within the snap width.
    overlaps : list of (str, str, (float, float))
        Where edges of surfaces cross, of two or of one and the same.
    line_of_segment : (segments,) int64
        Which of *lines*, and after them of *taken*, each of the mesh's forced segments belongs to.
    made : dict of int to str
        What a mesh vertex is that no input row has.
    changed : dict of int to str
        What edits did to a mesh vertex.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.making import Triangulation
    >>> work = Triangulation(np.array([[0.0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]]))
    >>> work.mesh.trim(5.0)
    2
    """

    def __init__(
        self,
        points: Floats,
        lines: Sequence[SourceLine] = (),
        taken: Sequence[TakenSurface] = (),
        *,
        at_one_place: str = "mean",
        at_crossings: str = "mean",
        as_it_is: bool = False,
    ) -> None:
        self._at_crossings, self._as_it_is = at_crossings, as_it_is
        self.lines = list(lines)
        self.line_names = [line.name for line in self.lines] + [surface.name for surface in taken]
        rows = np.concatenate([points, *(line.points for line in self.lines)])
        # Neither is there a zero with a sign, nor what rounding leaves of one.
        rows[np.abs(rows) <= (0.0 if as_it_is else _RESIDUE)] = 0.0
        has_height = np.isfinite(rows[:, 2])
        xy = np.ascontiguousarray(rows[:, :2])
        firm = firm_places(xy, has_height)
        order, starts, self.mesh, self.near_places = mesh_of_places(xy, *firm, merges=not as_it_is)
        heights, self.unlike = settled_heights(rows[:, 2], order, starts, at_one_place)
        self.mesh.z[: len(heights)] = heights
        self.mesh_vertex_of = MeshVertexOfInputRow(np.full(len(rows), NOWHERE, np.int64))
        places = np.arange(len(heights))
        self.mesh_vertex_of[order] = places if len(heights) == len(order) else np.repeat(places, np.diff(starts))
        self.crossings: list[LineCrossing] = []
        self.overlaps: list[tuple[str, str, tuple[float, float]]] = []
        self.made: dict[int, str] = {}
        self.changed: dict[int, str] = {}
        self.line_of_segment: Indices = np.empty(0, np.int64)
        # Lines first: where one runs along an edge of a surface, the edge is the line's.
        self._force(len(points), has_height, firm_only=True)
        self._hold(taken)
        loose = np.flatnonzero(~has_height)
        if len(loose):
            self._lay_down(rows, loose)
            self._force(len(points), has_height, firm_only=False)
        self._release(taken)

    def _hold(self, taken: Sequence[TakenSurface]) -> None:
        """Force the edges of surfaces, so that their triangles are there again."""
        for number, surface in enumerate(taken, len(self.lines)):
            ends = self.mesh_vertex_of[surface.first + surface.edges].astype(np.int32)
            ends = ends[ends[:, 0] != ends[:, 1]]
            crossings, order = self.mesh.force(ends, np.zeros(len(ends), np.bool_), exact=self._as_it_is)
            self.line_of_segment = np.concatenate((self.line_of_segment, np.full(len(order), number)))
            self._note_crossings(crossings)

    def _release(self, taken: Sequence[TakenSurface]) -> None:
        """Release the edges of surfaces, and leave open what is neither a triangle of theirs nor other ground."""
        if not taken:
            return
        mesh = self.mesh
        held = mesh.fixed[: 3 * mesh.triangle_count]
        owners = np.append(self.line_of_segment, NOWHERE)
        owner = owners[np.where((held > 0) & (held <= len(self.line_of_segment)), held - 1, -1)]
        held[owner >= len(self.lines)] = 0
        self.line_of_segment[self.line_of_segment >= len(self.lines)] = NOWHERE
        is_theirs = np.zeros(mesh.vertex_count + 1, np.bool_)
        is_others = np.zeros(mesh.vertex_count + 1, np.bool_)
        rows = np.zeros(len(self.mesh_vertex_of), np.bool_)
        for surface in taken:
            rows[surface.first : surface.first + len(surface.surface.vertices)] = True
        is_theirs[self.mesh_vertex_of[rows]] = True
        is_others[self.mesh_vertex_of[~rows]] = True
        corners = mesh.corner[: 3 * mesh.triangle_count].reshape(-1, 3)
        living = mesh.alive[: mesh.triangle_count]
        alive = np.flatnonzero(living)
        given = [self.mesh_vertex_of[surface.first + surface.surface.triangles] for surface in taken]
        is_given = compact.is_among(corners[alive], np.concatenate(given).astype(np.int32), mesh.vertex_count)
        rest: Indices = alive[~is_given]
        if self._as_it_is:
            living[rest] = False
            return
        middles = mesh.xy[corners[rest]].mean(axis=1)
        covered = np.zeros(len(rest), np.bool_)
        for surface in taken:
            covered |= surface.surface.locator.triangles_at(middles) >= 0
        # A line that ends or bends on a finished surface makes no ground beyond its rim.
        is_inside = is_theirs & ~is_others
        is_inside[corners[alive[is_given]]] = True
        is_inside[corners[rest[covered]]] = True
        living[rest[~covered & is_inside[corners[rest]].all(axis=1)]] = False
        alone = (is_theirs & ~is_others)[corners[rest]].all(axis=1)
        peel(mesh, rest[np.flatnonzero(covered & alone)])

    def _lay_down(self, rows: Floats, loose: Indices) -> None:
        places = np.ascontiguousarray(rows[loose, :2])
        heights = self.mesh.heights(places)
        inside = np.isfinite(heights)
        before = self.mesh.vertex_count
        vertices = self.mesh.insert(places[inside], heights[inside])
        self.mesh_vertex_of[loose[inside]] = vertices
        self.made |= {int(v): "plan vertex of a line, height from the ground" for v in vertices if v >= before}

    def _force(self, first_row: int, has_height: Flags, *, firm_only: bool) -> None:
        segments, line_of, firm = [], [], []
        row = first_row
        for number, line in enumerate(self.lines):
            count = len(line.points)
            tails = np.arange(row, row + count - (0 if line.closed else 1))
            heads = np.where(tails + 1 < row + count, tails + 1, row)
            is_firm = has_height[tails] & has_height[heads]
            placed = (self.mesh_vertex_of[tails] >= 0) & (self.mesh_vertex_of[heads] >= 0)
            chosen = (is_firm if firm_only else ~is_firm) & placed
            segments.append(np.column_stack((self.mesh_vertex_of[tails[chosen]], self.mesh_vertex_of[heads[chosen]])))
            line_of.append(np.full(int(chosen.sum()), number))
            firm.append(is_firm[chosen])
            row += count
        if not segments or not sum(map(len, segments)):
            return
        joined = np.concatenate(segments).astype(np.int32)
        owners = np.concatenate(line_of)
        apart = joined[:, 0] != joined[:, 1]
        crossings, order = self.mesh.force(joined[apart], np.concatenate(firm)[apart])
        self.line_of_segment = np.concatenate((self.line_of_segment, owners[apart][order]))
        self._note_crossings(crossings)

    def _note_crossings(self, crossings: Crossings) -> None:
        columns = (crossings.vertices, crossings.on, crossings.across, crossings.heights)
        for vertex, on, across, (there, own) in zip(*(each.tolist() for each in columns), strict=True):
            pair = (int(self.line_of_segment[on]), int(self.line_of_segment[across]))
            if self.mesh.has_height[[on, across]].all() and self._at_crossings != "mean":
                ordered = [there, own] if pair[0] <= pair[1] else [own, there]
                self.mesh.z[vertex] = ONE_OF[self._at_crossings](np.array(ordered))
            x, y = self.mesh.xy[vertex]
            if max(pair) < len(self.lines):
                self.crossings.append(LineCrossing(pair, (float(x), float(y)), (there, own)))
            elif min(pair) >= len(self.lines):
                self.overlaps.append((self.line_names[pair[0]], self.line_names[pair[1]], (float(x), float(y))))
            names = " and ".join(sorted(self.line_names[number] for number in pair))
            self.made[vertex] = f"crossing of {names}"

    def force_edge(self, a: int, b: int, name: str) -> None:
        """Force an edge between two vertices, as a line of its own.

        Parameters
        ----------
        a, b : int
            Numbers of the vertices.
        name : str
            What the line is called.

        Raises
        ------
        EditError
            Where something is in the way.
        """
        force_edge(self.mesh, a, b)
        ends = np.column_stack((self.mesh.xy[[a, b]], self.mesh.z[[a, b]]))
        self.line_of_segment = np.append(self.line_of_segment, len(self.lines))
        self.lines.append(SourceLine(name, ends))

    def own_edges(self, surface: Surface) -> None:
        """Take over the lines of a surface whose vertices are the first rows, as far as they are edges of it.

        Parameters
        ----------
        surface : Surface
            Its vertices are the first rows.
        """
        half = np.flatnonzero((surface.mates < 0) | (np.arange(len(surface.mates)) < surface.mates))
        kept = [k for k, line in enumerate(surface.lines) if not line.is_ring]
        number = np.full(len(surface.lines) + 1, NOWHERE)
        number[kept] = np.arange(len(kept))
        owners = number[surface.edge_lines[half // 3, half % 3]]
        ends = np.column_stack((surface.triangles[half // 3, half % 3], surface.triangles[half // 3, (half + 1) % 3]))
        places = self.mesh_vertex_of[ends].astype(np.int32)
        is_edge = (owners >= 0) & (places[:, 0] != places[:, 1])
        _, order = self.mesh.force(places[is_edge], np.zeros(int(is_edge.sum()), np.bool_), exact=self._as_it_is)
        self.lines = [surface.lines[k] for k in kept]
        self.line_of_segment = np.concatenate((self.line_of_segment, owners[is_edge][order]))

    def misses(self) -> list[LineMiss]:
        """Return where lines with heights of their own pass a vertex of other make at another height.

        Returns
        -------
        list of LineMiss
        """
        mesh = self.mesh
        passing = turning.passing(mesh.arrays, 3 * mesh.triangle_count, mesh.segments, mesh.has_height)
        crossed = {crossing.place for crossing in self.crossings}
        out = []
        for vertex, segment, height in passing.tolist():
            v, line = int(vertex), int(self.line_of_segment[int(segment)])
            place = (float(mesh.xy[v, 0]), float(mesh.xy[v, 1]))
            if line >= 0 and place not in crossed and height != mesh.z[v]:
                out.append(LineMiss(line, v, place, (height, float(mesh.z[v]))))
        return sorted(out, key=lambda miss: (miss.place, miss.line))

    def turn_along(self, alignment: Floats, within: float, stretch: float) -> int:
        """Flip free edges near an alignment so that they run across it; return how many.

        Parameters
        ----------
        alignment : (k, 2) float64
            The line that edges are to cross.
        within : float
            How near, in units of the ground.
        stretch : float
            How much longer an edge may become, as a factor.

        Returns
        -------
        int
        """
        line = np.ascontiguousarray(alignment[:, :2])
        line = line[np.append(True, (np.diff(line, axis=0) != 0.0).any(axis=1))]
        xy = self.mesh.xy[: self.mesh.vertex_count]
        places = turning.chainages(line, xy, float(within), float(stretch))
        return 0 if np.isnan(places).all() else self.mesh.turn(places)

    def reach(self, ring: SourceLine, most: float = np.inf) -> tuple[SourceLine, int]:
        """Carry the ground out to a ring; return the ring with the places that were added on it, and how many.

        Parameters
        ----------
        ring : SourceLine
            The ring to reach.
        most : float
            How far from the rim, at most; where the ring is farther away, the ground ends there.

        Returns
        -------
        ring, added : SourceLine and int

        Raises
        ------
        GeometryError
            Where there is no ground to extrapolate, or it would be carried farther than twice its width.
        """
        ground = self.surface()[0]
        rim = rim_edges(ground)
        lengths = np.hypot(*(ground.vertices[rim[:, 0], :2] - ground.vertices[rim[:, 1], :2]).T)
        dense = dense_ring(ring.points, float(np.median(lengths)))
        outside = np.isnan(self.mesh.heights(dense))
        if outside.any():
            before = self.mesh.vertex_count
            feet = feet_on_rim(ground.vertices, rim, dense[outside])
            places = drawn_nearer(ground, feet, dense[outside], most, ring.name)
            heights = heights_beyond(ground.vertices, rim, places, feet)
            number = np.full(len(dense), NOWHERE, np.int32)
            number[outside] = self.mesh.reach(np.ascontiguousarray(places), heights)
            is_there = np.zeros(len(dense), np.bool_)
            is_there[outside] = (places == dense[outside]).all(axis=1)
            sides = np.column_stack((number, np.roll(number, -1)))
            # Sides that lie wholly beyond the data are held, so that no trimming passes them.
            beyond = np.ascontiguousarray(sides[is_there & np.roll(is_there, -1)])
            self.mesh.force(beyond, np.zeros(len(beyond), np.bool_))
            self._disown_segments()
            new = range(before, self.mesh.vertex_count)
            self.made |= dict.fromkeys(new, f"{EXTRAPOLATED} {ring.name}")
        points = np.column_stack((dense, np.full(len(dense), np.nan)))
        return replace(ring, points=points), int(outside.sum())

    def carve(self, groups: Sequence[Sequence[SourceLine]], *, crisp: bool = True) -> None:
        """Leave what boundaries leave, one group after the other; see `evrin.tin.mesh.limiting.is_kept`.

        Parameters
        ----------
        groups : sequence of sequences of SourceLine
            The rings of a group alternate where one lies in another, and have one effect, ``keep`` or ``cut``.
        crisp : bool
            Whether triangles are cut at the ring; otherwise whole triangles are kept or left out.
        """
        before = self.mesh.vertex_count
        limit_mesh(self.mesh, limits_of(groups), crisp=crisp)
        self._disown_segments()
        self.made |= dict.fromkeys(range(before, self.mesh.vertex_count), "cut along a boundary")

    def _disown_segments(self) -> None:
        """Number the segments of boundaries, too, which belong to no line."""
        new = len(self.mesh.segments) - len(self.line_of_segment)
        self.line_of_segment = np.concatenate((self.line_of_segment, np.full(new, NOWHERE)))

    def surface(self, boundaries: Sequence[SourceLine] = (), **named: str) -> tuple[Surface, Reading]:
        """Read the surface off the mesh.

        Parameters
        ----------
        boundaries : sequence of SourceLine
            Rings to put on record.
        **named : str
            ``name``, ``units``, ``crs`` and such of the surface.

        Returns
        -------
        surface, reading : Surface and Reading

        Raises
        ------
        GeometryError
            Where no triangle is left.
        """
        reading = self.mesh.read()
        if len(reading.triangles) == 0:
            raise GeometryError("no triangle is left: the boundaries and the longest edge leave nothing of the surface")
        edge_lines = reading.lines
        if len(self.line_of_segment):
            owners = np.append(self.line_of_segment, NOWHERE).astype(np.int32)
            owners[owners >= len(self.lines)] = NOWHERE
            # No line is -1, which is larger than any number where there is no sign.
            edge_lines = np.take(owners, np.minimum(reading.lines.view(np.uint32), len(owners) - 1))
        mesh, count = self.mesh, len(reading.vertices)
        kept = slice(count) if count == mesh.vertex_count else reading.vertices
        vertices = np.empty((count, 3))
        vertices[:, :2], vertices[:, 2] = mesh.xy[kept], mesh.z[kept]
        lines = (*self.lines, *boundaries)
        surface = Surface(vertices, reading.triangles, edge_lines, lines, **named)  # type: ignore[arg-type]
        return surface, reading
