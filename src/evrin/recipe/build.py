"""From a recipe to a surface: read, clean, triangulate, limit, edit, check."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from evrin.analysis import CheckPoints
from evrin.check import Acceptance, Evidence, Finding, Unfit, find
from evrin.recipe import remarks
from evrin.recipe.checking import checked_points
from evrin.recipe.edits import apply_edits, living
from evrin.recipe.gather import gather
from evrin.recipe.keys import Keys
from evrin.recipe.rows import Fate, Gathered
from evrin.recipe.schema import Tables
from evrin.recipe.shape import Shaped, in_counted_rows, shape
from evrin.recipe.stages import Progress, Stage, Stages
from evrin.recipe.store import NoStore, Store
from evrin.recipe.tally import tally_table
from evrin.surface import Provenance, SourceLine, Surface
from evrin.surface.triangulate import LineCrossing, Triangulation
from evrin.tin.mesh import Reading
from evrin.tin.types import Flags, Indices
from evrin.wording import counted


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
    edits : list of str
        What each edit that was applied did, beginning with its number.
    parts : dict of str to str
        Digests of the files and tables that it rests on.
    changed : list of str or None
        What has changed since the build before; None where none was kept.
    """

    surface: Surface
    findings: list[Finding]
    tally: pd.DataFrame
    stages: list[Stage]
    rings: tuple[SourceLine, ...]
    evidence: Evidence
    edits: list[str]
    parts: dict[str, str]
    changed: list[str] | None = None

    @property
    def checked(self) -> list[tuple[str, CheckPoints]]:
        """Check points that the recipe names, beside the surface, by the name of what holds them."""
        return self.evidence.checked

    @property
    def open_findings(self) -> list[Finding]:
        """Findings that someone still has to mend or accept."""
        return [finding for finding in self.findings if finding.is_open]


@dataclass(frozen=True, eq=False)
class Made:
    """A mesh with all edits applied, and what came up on the way.

    ``edited_out`` tells which mesh vertices had a triangle before the edits and have none after them.
    """

    gathered: Gathered
    shaped: Shaped
    unfit: list[Unfit]
    edits: list[str]
    edited_out: Flags
    parts: dict[str, str]

    @property
    def work(self) -> Triangulation:
        """The mesh."""
        return self.shaped.work


def make(folder: Path, tables: Tables, stages: Stages, store: Store | None = None) -> Made:
    """Make the mesh that a recipe asks for, with its edits applied."""
    kept: Store = store or NoStore()
    keys = Keys(folder, tables)
    gathered = _gathered(folder, tables, keys, kept, stages)
    shaped = shape(folder, tables, gathered, keys, kept, stages)
    before = living(shaped.work)
    unfit: list[Unfit] = []
    did: list[str] = []
    asked = sum(edit.on for edit in tables.edit)
    if asked:
        stages.start("edit")
        unfit, did = apply_edits(gathered, shaped.work, tables)
        stages.end(f"{len(did)} of {asked} applied")
    after = living(shaped.work)
    return Made(gathered, shaped, unfit, did, before & ~after[: len(before)], keys.parts())


def _gathered(folder: Path, tables: Tables, keys: Keys, store: Store, stages: Stages) -> Gathered:
    stages.start("read")
    gathered: Gathered | None = store.load(keys.gathered)
    if gathered is not None:
        stages.end(_what_was_read(gathered), reused=True)
        if gathered.did:
            stages.start("clean")
            stages.end("; ".join(gathered.did), reused=True)
        return gathered
    found: list[str] = []

    def told(name: str, was_kept: bool) -> None:
        if was_kept:
            found.append(name)
        if stages.progress is not None:
            stages.progress(f"read {name}")

    gathered = gather(folder, tables, keys, store, told)
    store.save(keys.gathered, gathered)
    again = f"; {', '.join(found)} as kept" if found else ""
    stages.end(_what_was_read(gathered) + again)
    if gathered.did:
        stages.start("clean")
        stages.end("; ".join(gathered.did))
    return gathered


def _what_was_read(gathered: Gathered) -> str:
    items, lines = counted(gathered.count, "item"), counted(len(gathered.lines), "line")
    guesses = [f"{source.name}: {note}" for source in gathered.sources for note in source.notes]
    return "; ".join([f"{items} from {counted(len(gathered.sources), 'source')}, {lines}", *guesses])


def build(folder: Path, tables: Tables, progress: Progress | None = None, store: Store | None = None) -> Build:
    """Build what *tables* say, with paths relative to *folder*; see `Recipe.build`."""
    stages = Stages(progress)
    made = make(folder, tables, stages, store)
    stages.start("check")
    bare, reading = made.work.surface(made.shaped.rings, **tables.site.model_dump())
    evidence = _evidence(made, bare, reading, tables)
    checked, refused = checked_points(folder, tables.check_points, tables.site, evidence.surface)
    evidence = replace(evidence, checked=checked, refused=evidence.refused + refused)
    acceptances = [
        Acceptance(row.finding, row.at, tables.check.accept_reach, row.why) for row in tables.accept if row.on
    ]
    findings = find(evidence, acceptances)
    open_count = sum(finding.is_open for finding in findings)
    stages.end(f"{counted(len(findings), 'finding')}, {open_count} open")
    tally = tally_table(made.gathered.sources, _fates(made, evidence))
    rings = tuple(made.shaped.rings)
    return Build(evidence.surface, findings, tally, stages.done, rings, evidence, made.edits, made.parts)


def _mesh_vertex(made: Made) -> Indices:
    """Mesh vertex that each row stands at, -1 where at none."""
    at = made.gathered.stands_at
    return np.where(at >= 0, made.work.vertex_of[at], -1)


def _evidence(made: Made, bare: Surface, reading: Reading, tables: Tables) -> Evidence:
    gathered, shaped, work = made.gathered, made.shaped, made.work
    number = np.full(work.mesh.vertex_count + 1, -1, np.int64)
    number[reading.vertices] = np.arange(len(reading.vertices))
    vertex_of = number[_mesh_vertex(made)]
    shot_of = np.full(len(reading.vertices), -1, np.int32)
    rows = np.flatnonzero(vertex_of >= 0)
    # Written backwards, so that of several shots at one place the first in the files names the vertex.
    shot_of[vertex_of[rows[::-1]]] = rows[::-1]
    made_here = {int(number[v]): what for v, what in work.made.items() if number[v] >= 0}
    changed = {int(number[v]): what for v, what in work.changed.items() if number[v] >= 0}
    outside = vertex_of < 0
    lost = np.flatnonzero(outside)
    outside[lost] = work.outside_rings(shaped.rings, np.ascontiguousarray(gathered.xyz[lost, :2]))
    surface = replace(bare, provenance=Provenance(gathered.shots, shot_of, made_here, changed))
    trim = tables.trim if tables.trim is not None and tables.trim.on else None
    return Evidence(
        surface,
        gathered.xyz,
        gathered.shots,
        vertex_of,
        outside,
        in_counted_rows(work.unlike, gathered),
        _between_lines(work.crossings),
        tuple(gathered.lines),
        tuple(shaped.rings),
        shaped.gaps,
        made.unfit,
        [refusal for source in gathered.sources for refusal in source.refused],
        trim.longest_edge if trim is not None else None,
        tables.check.height_tolerance,
        gathered.findings + shaped.findings + remarks.about_overlaps(work.overlaps),
        work.misses(),
        tables.duplicates.policy if tables.duplicates.on else "mean",
        tables.crossings.policy if tables.crossings.on else "mean",
        gathered.fate,
    )


def _between_lines(crossings: list[LineCrossing]) -> list[LineCrossing]:
    return sorted(crossings, key=lambda crossing: (crossing.place, crossing.lines))


def _fates(made: Made, evidence: Evidence) -> NDArray[np.int8]:
    at = _mesh_vertex(made)
    fates = np.full(len(at), Fate.USED, np.int8)
    gone = evidence.vertex_of < 0
    fates[gone] = Fate.TRIMMED
    fates[gone & (at >= 0) & np.append(made.edited_out, False)[np.minimum(at, len(made.edited_out))]] = Fate.EDITED_OUT
    fates[gone & evidence.is_outside] = Fate.OUTSIDE
    first = np.zeros(made.work.mesh.vertex_count + 1, np.int64)
    # Written backwards, so that of several rows at one vertex the first stays.
    first[at[::-1]] = np.arange(len(at))[::-1]
    fates[(first[at] != np.arange(len(at))) & (at >= 0)] = Fate.MERGED
    fates[at < 0] = Fate.OUTSIDE
    settled = made.gathered.fate != Fate.OPEN
    fates[settled] = made.gathered.fate[settled]
    return fates
