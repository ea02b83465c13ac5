"""All rows that the sources of a recipe give, and what becomes of each before anything is triangulated."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from evrin.check import Finding
from evrin.kernels import Flags, Floats, Indices
from evrin.making.merged_places import TakenSurface
from evrin.making.numberings import InputRowOfRow, RowOfInputRow
from evrin.recipe.building.fates import LEFT_OUT, OPEN
from evrin.surface.provenance import Shots
from evrin.surface.surface import SourceLine
from evrin.survey.contents import Refusal
from evrin.survey.lines.strands import Strand
from evrin.survey.mismatch import Located


@dataclass(frozen=True)
class SourceCount:
    """How many items of a source were kept and what became of the others, and what its reader guessed."""

    name: str
    kept: int
    left_out: int
    refused: tuple[Refusal, ...]
    notes: tuple[str, ...] = ()
    thinned: int = 0
    merged: int = 0

    @property
    def refused_count(self) -> int:
        """Items that could not be used."""
        return sum(refusal.count for refusal in self.refused)

    @property
    def read(self) -> int:
        """Items read, whatever became of them."""
        return self.kept + self.left_out + self.thinned + self.merged + self.refused_count


@dataclass(eq=False)
class Rows:
    """Rows and lines while they are cleaned.

    Attributes
    ----------
    xyz : (n, 3) float64
        Easting, northing, height; NaN if a line has no height there.
    shots : Shots
        What is behind each row.
    is_point : (n,) bool
        Points; the rest are vertices of lines.
    is_taken : (n,) bool
        Vertices of surfaces that are kept unchanged.
    fate : (n,) int8
        See `evrin.recipe.building.fates`.
    replaced_by : (n,) int64
        The row that replaces a row; itself where none does.
    strands : list of Strand
        The lines.
    findings : list of Finding
        What came up.
    did : list of (str, str)
        By step, what it did.
    counts, rings, waters, extents, taken
        Of the sources: how many items, boundaries from coded shots (source by source, those that cut last), shores
        from coded shots with their level, where they are, surfaces kept unchanged.
    """

    xyz: Floats
    shots: Shots
    is_point: Flags
    is_taken: Flags
    replaced_by: Indices
    strands: list[Strand]
    fate: NDArray[np.int8] = field(init=False)
    findings: list[Finding] = field(default_factory=list)
    did: list[tuple[str, str]] = field(default_factory=list)
    counts: list[SourceCount] = field(default_factory=list)
    rings: list[list[SourceLine]] = field(default_factory=list)
    waters: list[tuple[SourceLine, float]] = field(default_factory=list)
    extents: list[Located] = field(default_factory=list)
    taken: list[tuple[TakenSurface, int]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.fate = np.full(len(self.xyz), OPEN, np.int8)

    def roots(self) -> Indices:
        """Return the row that replaces each row in the end."""
        out = self.replaced_by
        while (out[out] != out).any():
            out = out[out]
        return out

    def is_active(self) -> Flags:
        """Return which points no other row replaces."""
        active: Flags = self.is_point & (self.fate == OPEN) & (self.replaced_by == np.arange(len(self.xyz)))
        return active

    def drop_vertices(self, rows: Indices, fate: int) -> int:
        """Give rows that were vertices of lines alone their fate; points remain as spots. Return how many."""
        lone = rows[(rows >= 0)]
        lone = lone[~self.is_point[lone] & (self.fate[lone] == OPEN)]
        removed = np.zeros(len(self.xyz) + 1, np.bool_)
        removed[lone] = True
        # A vertex that repeats another, such as the last of a ring, is removed with it.
        removed[:-1] |= removed[self.replaced_by] & ~self.is_point
        is_dropped = removed[:-1] & (self.fate == OPEN)
        self.fate[is_dropped] = fate
        return int(is_dropped.sum())

    def without(self, rows: Indices) -> None:
        """Take rows out of all lines."""
        removed = np.zeros(len(self.xyz) + 1, np.bool_)
        removed[rows] = True
        removed[-1] = False
        self.strands = [
            strand if not removed[strand.rows].any() else strand.take(np.flatnonzero(~removed[strand.rows]))
            for strand in self.strands
        ]

    def leave(self, rows: Indices) -> None:
        """Leave rows out, as points and as vertices of lines."""
        self.fate[rows] = LEFT_OUT
        self.without(rows)

    def on_lines(self) -> Flags:
        """Return which rows are vertices of lines."""
        out = np.zeros(len(self.xyz) + 1, np.bool_)
        for strand in self.strands:
            out[strand.rows] = True
        return out[:-1]


@dataclass(frozen=True, eq=False)
class Gathered:
    """All rows, joined, cleaned and ready to triangulate.

    Attributes
    ----------
    xyz : (n, 3) float64
        Easting, northing, height; NaN if a line has no height there.
    shots : Shots
        Rows kept, source after source.
    sources : list of SourceCount
        What became of the items of each.
    lines : list of SourceLine
        Breaklines and contours, with their vertices as coordinates.
    point_rows : (p,) int64
        Rows that are triangulated as points.
    input_row_of : (n,) int64
        Input row of each row; see `evrin.making.numberings`.
    row_of_input : (t,) int64
        Row of each input row, -1 where a line's vertex is a shot counted already, or was added.
    fate : (n,) int8
        What is settled already; see `evrin.recipe.building.fates`.
    is_replaced : (n,) bool
        Rows that another is used instead of.
    made : dict of int to str
        What a triangulated row is that is in no file.
    taken : list of TakenSurface
        Surfaces that are kept unchanged.
    rings : list of (list of SourceLine)
        Boundaries joined from coded shots, source by source, those that cut last.
    findings : list of Finding
        What came up on the way.
    did : list of (str, str)
        By step, what it did.
    extents : list of Located
        Of each source.
    """

    xyz: Floats
    shots: Shots
    sources: list[SourceCount]
    lines: list[SourceLine]
    point_rows: Indices
    input_row_of: InputRowOfRow
    row_of_input: RowOfInputRow
    fate: NDArray[np.int8]
    is_replaced: Flags
    made: dict[int, str]
    taken: list[TakenSurface]
    rings: list[list[SourceLine]]
    findings: list[Finding]
    did: list[tuple[str, str]]
    extents: list[Located]

    @property
    def count(self) -> int:
        """Items read, whatever became of them."""
        return sum(source.read for source in self.sources)

    @property
    def triangulated(self) -> Floats:
        """(t, 3) float64: the rows of the triangulation."""
        return np.concatenate([self.xyz[self.point_rows], *(line.points for line in self.lines)])


def numbered(rows: Rows) -> Gathered:
    """Number all rows, the points first and the vertices of the lines after them."""
    point_rows = np.flatnonzero(rows.is_active())
    at = np.full(len(rows.xyz) + 1, -1, np.int64)
    at[point_rows] = np.arange(len(point_rows))
    back = [point_rows]
    made: dict[int, str] = {}
    next_row = len(point_rows)
    for strand in rows.strands:
        here = np.arange(next_row, next_row + len(strand))
        own = np.where((strand.rows >= 0) & ~rows.is_point[strand.rows], strand.rows, -1)
        at[own[own >= 0]] = here[own >= 0]
        back.append(own)
        made |= dict.fromkeys(here[strand.rows < 0].tolist(), f"added on {strand.name}")
        next_row += len(strand)
    roots = rows.roots()
    fate = np.where(rows.fate == OPEN, rows.fate[roots], rows.fate).astype(np.int8)
    input_row_of = at[roots]
    input_row_of[fate != OPEN] = -1
    return Gathered(
        xyz=rows.xyz,
        shots=rows.shots,
        sources=rows.counts,
        lines=[
            SourceLine(
                name=s.name, points=s.xyz, closed=s.closed, effect=s.effect, where=s.where, description=s.description
            )
            for s in rows.strands
        ],
        point_rows=point_rows,
        input_row_of=InputRowOfRow(input_row_of),
        row_of_input=RowOfInputRow(np.concatenate(back)),
        fate=fate,
        is_replaced=roots != np.arange(len(roots)),
        made=made,
        taken=[TakenSurface(each.name, each.surface, int(at[start])) for each, start in rows.taken],
        rings=[group for group in rows.rings if group],
        findings=rows.findings,
        did=rows.did,
        extents=rows.extents,
    )
