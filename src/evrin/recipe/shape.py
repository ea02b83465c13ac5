"""From rows and lines to a mesh of the right extent: triangulate, turn, mend, carry out, trim, carve."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from evrin.check import Finding, RingGap
from evrin.errors import DataError
from evrin.formats import read_rings
from evrin.recipe import remarks
from evrin.recipe.keys import Keys
from evrin.recipe.opening import selection_of
from evrin.recipe.rows import Gathered
from evrin.recipe.schema import Along, Boundary, Tables
from evrin.recipe.stages import Stages
from evrin.recipe.store import Store
from evrin.surface import SourceLine
from evrin.surface.mend import mend_flats
from evrin.surface.rings import cleaned_ring
from evrin.surface.triangulate import Triangulation, UnlikeHeights
from evrin.survey import Line
from evrin.wording import counted

_TOLD = 12


@dataclass(eq=False)
class Shaped:
    """A mesh, the rings that limit it, and what came up on the way.

    Attributes
    ----------
    work : Triangulation
    rings : list of SourceLine
    gaps : list of RingGap
    findings : list of Finding
    did : list of (str, str)
        By step, what it did.
    """

    work: Triangulation
    rings: list[SourceLine] = field(default_factory=list)
    gaps: list[RingGap] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    did: list[tuple[str, str]] = field(default_factory=list)


def shape(folder: Path, tables: Tables, gathered: Gathered, keys: Keys, store: Store, stages: Stages) -> Shaped:
    """Make the mesh that a recipe asks for, before its edits; steps that have not changed are found in the store."""
    shaped = _kept(store, keys.shaped, gathered)
    if shaped is not None:
        _tell_reused(shaped, stages)
        return shaped
    shaped = _kept(store, keys.triangulated, gathered)
    if shaped is not None:
        _tell_reused(shaped, stages)
    else:
        shaped = _triangulated(folder, tables, gathered, stages)
        _keep(store, keys.triangulated, shaped)
    if gathered.rings or any(row.on for row in tables.boundary) or (tables.trim is not None and tables.trim.on):
        _limit(folder, tables, gathered, shaped, stages)
        _keep(store, keys.shaped, shaped)
    return shaped


def _kept(store: Store, key: str, gathered: Gathered) -> Shaped | None:
    shaped: Shaped | None = store.load(key)
    if shaped is not None:
        shaped.work.lines = list(gathered.lines)
    return shaped


def _keep(store: Store, key: str, shaped: Shaped) -> None:
    """The lines are kept with the rows already."""
    lines, shaped.work.lines = shaped.work.lines, []
    try:
        store.save(key, shaped)
    finally:
        shaped.work.lines = lines


def _tell_reused(shaped: Shaped, stages: Stages) -> None:
    for name, did in shaped.did:
        stages.start(name)
        stages.end(did, reused=True)


def _tell(shaped: Shaped, stages: Stages, name: str, did: str) -> None:
    shaped.did.append((name, did))
    stages.end(did)


def _triangulated(folder: Path, tables: Tables, gathered: Gathered, stages: Stages) -> Shaped:
    stages.start("triangulate")
    policies: dict[str, str] = {
        "at_one_place": tables.duplicates.policy if tables.duplicates.on else "mean",
        "at_crossings": tables.crossings.policy if tables.crossings.on else "mean",
    }
    wanted = {key: "mean" if policy == "refuse" else policy for key, policy in policies.items()}
    work = Triangulation(gathered.xyz[gathered.point_rows], gathered.lines, gathered.taken, **wanted)
    _refuse_unlike(gathered, work, tables, policies)
    for row, what in gathered.made.items():
        work.made.setdefault(int(work.vertex_of[row]), what)
    shaped = Shaped(work)
    edges = counted(int((work.line_of_segment >= 0).sum()), "breakline edge")
    what = f"{counted(work.mesh.vertex_count, 'vertex', 'vertices')}, {edges}{_snapped(work, 0)}"
    if work.near_places:
        what += f", {counted(work.near_places, 'place')} merged within {_width(work)} of another"
    _tell(shaped, stages, "triangulate", what)
    if any(table.on for table in tables.along):
        stages.start("along")
        _tell(shaped, stages, "along", _turn_along(folder, tables.along, shaped))
    if tables.flat_triangles is not None and tables.flat_triangles.on:
        stages.start("mend flats")
        mended = mend_flats(work, with_points=tables.flat_triangles.mend == "points")
        _tell(shaped, stages, "mend flats", mended.told())
    return shaped


def _width(work: Triangulation) -> str:
    return f"{1e6 * work.mesh.snap:.2g} micrometres" if work.mesh.snap < 1e-3 else f"{work.mesh.snap:.2g}"


def _snapped(work: Triangulation, before: int) -> str:
    """How many lines were led through a vertex that they only nearly passed."""
    count = work.mesh.snapped - before
    return f", {counted(count, 'line')} led through a vertex within {_width(work)}" if count else ""


def _refuse_unlike(gathered: Gathered, work: Triangulation, tables: Tables, policies: dict[str, str]) -> None:
    limit = tables.check.height_tolerance
    told = []
    if policies["at_one_place"] == "refuse":
        for each in in_counted_rows(work.unlike, gathered):
            apart = float(np.ptp(each.heights)) if len(each.heights) else 0.0
            if apart > limit:
                told.append(f"{apart:.3f} apart: " + " and ".join(gathered.shots.describe(int(r)) for r in each.rows))
    if policies["at_crossings"] == "refuse":
        for crossing in work.crossings:
            apart = abs(crossing.heights[0] - crossing.heights[1])
            if apart > limit:
                names = " and ".join(work.line_names[number] for number in crossing.lines)
                told.append(f"{apart:.3f} apart: {names} cross at ({crossing.place[0]:.3f}, {crossing.place[1]:.3f})")
    if told:
        more = f"\n  … and {len(told) - _TOLD:,} more" if len(told) > _TOLD else ""
        raise DataError(
            f'policy "refuse": {counted(len(told), "place has", "places have")} unlike heights; settle them, or choose '
            "another policy to see them as findings:\n  " + "\n  ".join(told[:_TOLD]) + more
        )


def in_counted_rows(unlike: list[UnlikeHeights], gathered: Gathered) -> list[UnlikeHeights]:
    """Restate rows of the triangulation as rows of the files; a line joined from shots adds none of its own."""
    out = []
    for each in unlike:
        rows = gathered.counted_row[each.rows]
        own = rows >= 0
        out.append(UnlikeHeights(rows[own], each.heights[own]))
    return out


def _turn_along(folder: Path, tables: tuple[Along, ...], shaped: Shaped) -> str:
    turned = 0
    for number, table in enumerate(tables, 1):
        if not table.on:
            continue
        here = 0
        for line in _lines_of(folder, table, "an alignment", 2):
            here += shaped.work.turn_along(line.xyz, table.within, table.stretch)
        if not here:
            shaped.findings.append(remarks.along_no_effect(number, table.file))
        turned += here
    return f"{counted(turned, 'edge')} turned to run square across"


def _limit(folder: Path, tables: Tables, gathered: Gathered, shaped: Shaped, stages: Stages) -> None:
    work = shaped.work
    shaped.rings, reaching, shaped.gaps = _read_boundaries(folder, tables.boundary)
    shaped.rings = _cleaned(shaped.rings + gathered.rings, shaped.findings)
    cutting = list(shaped.rings)
    if any(reaching):
        stages.start("reach")
        made = 0
        for k, reaches in enumerate(reaching):
            if reaches:
                cutting[k], count = work.reach(shaped.rings[k])
                made += count
        _tell(shaped, stages, "reach", f"the ground carried out to {counted(made, 'place')} on the boundary")
    if tables.trim is not None and tables.trim.on:
        stages.start("trim")
        trim = tables.trim
        longest = trim.longest_edge if trim.longest_edge is not None else np.inf
        gone = work.mesh.trim(longest, trim.smallest_angle_deg or 0.0, inside=trim.inside)
        where = "triangle" if trim.inside else "rim triangle"
        _tell(shaped, stages, "trim", f"{counted(gone, where)} went")
    if cutting:
        stages.start("carve")
        before, snapped = work.mesh.vertex_count, work.mesh.snapped
        work.carve(cutting, crisp=tables.carve.edges == "crisp")
        along = counted(work.mesh.vertex_count - before, "vertex", "vertices")
        _tell(shaped, stages, "carve", f"{counted(len(cutting), 'ring')}, {along} made{_snapped(work, snapped)}")


def _cleaned(rings: list[SourceLine], findings: list[Finding]) -> list[SourceLine]:
    out = []
    for ring in rings:
        points, cleaning = cleaned_ring(ring.points, f"boundary {ring.name}")
        if str(cleaning):
            findings.append(remarks.ring_cleaned(ring.name, cleaning))
        out.append(replace(ring, points=points))
    return out


def _read_boundaries(folder: Path, tables: tuple[Boundary, ...]) -> tuple[list[SourceLine], list[bool], list[RingGap]]:
    rings, reaching, gaps = [], [], []
    for table in tables:
        if not table.on:
            continue
        lines = _lines_of(folder, table, "a boundary", 3)
        for line in lines:
            name = line.name if not table.name or len(lines) > 1 else table.name
            if not line.closed:
                gap = float(np.hypot(*(line.xyz[0, :2] - line.xyz[-1, :2])))
                gaps.append(RingGap(name, gap, (float(line.xyz[-1, 0]), float(line.xyz[-1, 1]))))
            rings.append(SourceLine(name, line.xyz, True, table.effect))
            reaching.append(table.reach)
    return rings, reaching, gaps


def _lines_of(folder: Path, table: Boundary | Along, what: str, least: int) -> list[Line]:
    """The lines that a boundary or an alignment takes from its file."""
    lines = read_rings(folder / table.file, table.columns)
    chosen = selection_of(folder, table.keep).all_met(list(lines))
    kept = [line for line, is_meant in zip(lines, chosen, strict=True) if is_meant]
    if not kept:
        raise DataError(f"{folder / table.file}: no line is left of which {what} could be made")
    for line in kept:
        if len(line.xyz) < least:
            raise DataError(f"{folder / table.file}: {line.name} has {len(line.xyz)} vertices; {what} needs {least}")
    return [replace(line, xyz=np.ascontiguousarray(line.xyz)) for line in kept]
