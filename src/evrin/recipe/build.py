"""From a recipe to a surface: read, select, join lines, triangulate, trim, carve, edit, check."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from evrin.check import Acceptance, Evidence, Finding, RingGap, Unfit, find
from evrin.errors import DataError, EditError
from evrin.formats import read_rings
from evrin.recipe import remarks
from evrin.recipe.gather import Gathered, gather
from evrin.recipe.opening import selection_of
from evrin.recipe.schema import Boundary, Tables
from evrin.recipe.tally import Fate, tally_table
from evrin.surface import Provenance, SourceLine, Surface
from evrin.surface.triangulate import LineCrossing, Triangulation, UnlikeHeights
from evrin.survey import Line
from evrin.tin.mesh import Reading
from evrin.wording import counted

Progress = Callable[[str], None]


@dataclass(frozen=True)
class Stage:
    """One step of a build: its name, how long it took, and what it did."""

    name: str
    seconds: float
    did: str


@dataclass(frozen=True, eq=False)
class Build:
    """What a recipe built.

    Attributes
    ----------
    surface : Surface
    findings : list of Finding
    tally : DataFrame
        A row a source; every item read stands in exactly one column.
    stages : list of Stage
    rings : tuple of SourceLine
        The boundaries.
    evidence : Evidence
        What the findings rest on.
    """

    surface: Surface
    findings: list[Finding]
    tally: pd.DataFrame
    stages: list[Stage]
    rings: tuple[SourceLine, ...]
    evidence: Evidence

    @property
    def open_findings(self) -> list[Finding]:
        """Findings that someone still has to mend or accept."""
        return [finding for finding in self.findings if finding.is_open]


@dataclass
class _Stages:
    progress: Progress | None
    done: list[Stage] = field(default_factory=list)
    _started: float = 0.0
    _name: str = ""

    def start(self, name: str) -> None:
        self._name, self._started = name, time.perf_counter()
        if self.progress is not None:
            self.progress(name)

    def end(self, did: str) -> None:
        self.done.append(Stage(self._name, time.perf_counter() - self._started, did))


@dataclass(frozen=True)
class _Made:
    """A mesh with all edits applied, and what came up on the way."""

    gathered: Gathered
    work: Triangulation
    rings: list[SourceLine]
    gaps: list[RingGap]
    unfit: list[Unfit]


def _make(folder: Path, tables: Tables, stages: _Stages) -> _Made:
    stages.start("read")
    gathered = gather(folder, tables)
    rings, gaps = _read_boundaries(folder, tables.boundary)
    rings += gathered.rings
    items, lines = counted(gathered.count, "item"), counted(len(gathered.lines), "line")
    guesses = [f"{source.name}: {note}" for source in gathered.sources for note in source.notes]
    stages.end("; ".join([f"{items} from {counted(len(gathered.sources), 'source')}, {lines}", *guesses]))
    stages.start("triangulate")
    work = Triangulation(gathered.xyz[gathered.point_rows], gathered.lines, gathered.taken)
    triangles = work.mesh.triangle_count
    edges = counted(len(work.line_of_segment), "breakline edge")
    stages.end(f"{counted(work.mesh.vertex_count, 'vertex', 'vertices')}, {edges}")
    stages.start("trim")
    trim = tables.trim if tables.trim is not None and tables.trim.on else None
    gone = work.mesh.trim(trim.longest_edge) if trim else 0
    stages.end(f"{counted(gone, 'rim triangle')} went" if trim else "nothing asked")
    stages.start("carve")
    work.carve(rings, crisp=tables.carve.edges == "crisp")
    along = counted((work.mesh.triangle_count - triangles) // 2, "vertex", "vertices")
    stages.end(f"{counted(len(rings), 'ring')}, {along} made" if rings else "nothing asked")
    stages.start("edit")
    unfit = _apply_edits(work, tables)
    asked = sum(edit.on for edit in tables.edit)
    stages.end(f"{asked - len(unfit)} of {asked} applied" if asked else "nothing asked")
    return _Made(gathered, work, rings, gaps, unfit)


def preview_flip(
    folder: Path, tables: Tables, at: tuple[float, float], progress: Progress | None = None
) -> tuple[tuple[str, str], tuple[str, str]]:
    """Return the shots that the edge at a place joins, and those that it would join after a flip.

    Raises
    ------
    EditError
        Where that flip does not fit the surface as the recipe now makes it.
    """
    made = _make(folder, tables, _Stages(progress))
    mesh = made.work.mesh
    edge = mesh.edge_near(*at)
    ends, joined = mesh.edge_ends(edge), mesh.flip_ends(edge)
    mesh.flip(edge)
    first_row: dict[int, int] = {}
    for row, vertex in enumerate(made.work.vertex_of[made.gathered.triangulated_row].tolist()):
        first_row.setdefault(vertex, row)

    def name(vertex: int) -> str:
        if vertex in first_row:
            return made.gathered.shots.describe(first_row[vertex])
        return made.work.made.get(vertex, "a made vertex")

    return (name(ends[0]), name(ends[1])), (name(joined[0]), name(joined[1]))


def build(folder: Path, tables: Tables, progress: Progress | None = None) -> Build:
    """Build what *tables* say, with paths relative to *folder*; see `Recipe.build`."""
    stages = _Stages(progress)
    made = _make(folder, tables, stages)
    gathered, work, rings = made.gathered, made.work, made.rings
    gaps, unfit = made.gaps, made.unfit
    stages.start("check")
    bare, reading = work.surface(rings, **tables.site.model_dump())
    evidence = _evidence(gathered, work, bare, reading, rings, gaps, unfit, tables)
    acceptances = [
        Acceptance(row.finding, row.at, tables.check.accept_reach, row.why) for row in tables.accept if row.on
    ]
    findings = find(evidence, acceptances)
    open_count = sum(finding.is_open for finding in findings)
    stages.end(f"{counted(len(findings), 'finding')}, {open_count} open")
    fates = _fates(gathered, work, evidence)
    return Build(evidence.surface, findings, tally_table(gathered, fates), stages.done, tuple(rings), evidence)


def _read_boundaries(folder: Path, tables: tuple[Boundary, ...]) -> tuple[list[SourceLine], list[RingGap]]:
    rings, gaps = [], []
    for table in tables:
        if not table.on:
            continue
        lines = _rings_of(folder, table)
        for line in lines:
            name = line.name if not table.name or len(lines) > 1 else table.name
            if len(line.xyz) < 3:
                raise DataError(f"{folder / table.file}: boundary {line.name} has {len(line.xyz)} vertices; it needs 3")
            if not line.closed:
                gap = float(np.hypot(*(line.xyz[0, :2] - line.xyz[-1, :2])))
                gaps.append(RingGap(name, gap, (float(line.xyz[-1, 0]), float(line.xyz[-1, 1]))))
            rings.append(SourceLine(name, line.xyz, True, table.effect))
    return rings, gaps


def _rings_of(folder: Path, table: Boundary) -> list[Line]:
    """The lines that a boundary takes from its file."""
    lines = read_rings(folder / table.file, table.columns)
    selection = selection_of(folder, table.keep)
    chosen = [line for line, is_meant in zip(lines, selection.all_met(lines), strict=True) if is_meant]
    if not chosen:
        raise DataError(f"{folder / table.file}: no line is left of which a boundary could be made")
    return chosen


def _apply_edits(work: Triangulation, tables: Tables) -> list[Unfit]:
    unfit = []
    for number, edit in enumerate(tables.edit, 1):
        if not edit.on:
            continue
        try:
            work.mesh.flip(work.mesh.edge_near(*edit.at))
        except EditError as error:
            unfit.append(Unfit(number, edit.do, edit.at, str(error)))
    return unfit


def _evidence(
    gathered: Gathered,
    work: Triangulation,
    bare: Surface,
    reading: Reading,
    rings: list[SourceLine],
    gaps: list[RingGap],
    unfit: list[Unfit],
    tables: Tables,
) -> Evidence:
    counted = work.vertex_of[gathered.triangulated_row]
    number = np.full(work.mesh.vertex_count + 1, -1, np.int64)
    number[reading.vertices] = np.arange(len(reading.vertices))
    vertex_of = number[counted]
    shot_of = np.full(len(reading.vertices), -1, np.int32)
    rows = np.flatnonzero(vertex_of >= 0)
    # Written backwards, so that of several shots at one place the first in the files names the vertex.
    shot_of[vertex_of[rows[::-1]]] = rows[::-1]
    made = {int(number[v]): what for v, what in work.made.items() if number[v] >= 0}
    surface = replace(bare, provenance=Provenance(gathered.shots, shot_of, made))
    return Evidence(
        surface,
        gathered.xyz,
        gathered.shots,
        vertex_of,
        work.outside_rings(rings, np.ascontiguousarray(gathered.xyz[:, :2])),
        _in_counted_rows(work.unlike, gathered.counted_row),
        _between_lines(work.crossings),
        tuple(gathered.lines),
        tuple(rings),
        gaps,
        unfit,
        [refusal for source in gathered.sources for refusal in source.refused],
        tables.trim.longest_edge if tables.trim is not None and tables.trim.on else None,
        tables.check.height_tolerance,
        gathered.findings + remarks.about_overlaps(work.overlaps),
    )


def _in_counted_rows(unlike: list[UnlikeHeights], counted_row: NDArray[np.int64]) -> list[UnlikeHeights]:
    """Restate rows of the triangulation as rows of the files; a line joined from shots adds none of its own."""
    out = []
    for each in unlike:
        rows = counted_row[each.rows]
        own = rows >= 0
        out.append(UnlikeHeights(rows[own], each.heights[own]))
    return out


def _between_lines(crossings: list[LineCrossing]) -> list[LineCrossing]:
    return sorted(crossings, key=lambda crossing: (crossing.place, crossing.lines))


def _fates(gathered: Gathered, work: Triangulation, evidence: Evidence) -> NDArray[np.int8]:
    counted = work.vertex_of[gathered.triangulated_row]
    fates = np.full(len(counted), Fate.USED, np.int8)
    fates[evidence.vertex_of < 0] = Fate.TRIMMED
    fates[(evidence.vertex_of < 0) & evidence.is_outside] = Fate.OUTSIDE
    first = np.zeros(len(counted), np.bool_)
    first[np.unique(counted, return_index=True)[1]] = True
    fates[~first & (counted >= 0)] = Fate.MERGED
    fates[counted < 0] = Fate.OUTSIDE
    return fates
