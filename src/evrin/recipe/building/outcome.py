"""The outcome of a build: the surface read off the mesh, the evidence for the rules, and the fate of every row."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from evrin.base.wording import counted
from evrin.check import Evidence, Finding, rule
from evrin.kernels import Indices, Ints
from evrin.making.limits.limit_effects import limits_of
from evrin.making.merged_places import LineCrossing
from evrin.making.numberings import MeshVertexOfRow, SurfaceVertexOfMeshVertex, SurfaceVertexOfRow
from evrin.recipe.building.fates import MERGED, OPEN, OUTSIDE, USED
from evrin.recipe.building.work import Work
from evrin.recipe.steps.check import CHECK
from evrin.recipe.steps.check_points import compared
from evrin.recipe.steps.crossings import CROSSINGS
from evrin.recipe.steps.duplicates import DUPLICATES
from evrin.recipe.steps.edit import EDITED_OUT
from evrin.recipe.steps.source import SOURCE
from evrin.recipe.steps.triangulate import in_counted_rows
from evrin.recipe.steps.trim import TRIM, TRIMMED
from evrin.surface.provenance import Provenance
from evrin.tin.mesh.limiting import are_kept

SURFACE_CHANGED = rule("surface-changed", "surfaces some of whose triangles could not be kept as given", "warning")


def _mesh_vertex_of(work: Work) -> MeshVertexOfRow:
    at = work.gathered.input_row_of
    return MeshVertexOfRow(np.where(at >= 0, work.shaped.triangulation.mesh_vertex_of[at], -1))


def _named(work: Work) -> dict[str, str]:
    """What the surface is called: as the recipe states it, or else as the one surface states it that it is made of."""
    site, sources = work.tables.site, work.tables.on(SOURCE)
    named = site.named
    if len(sources) == len(work.gathered.taken) == 1:
        given = work.gathered.taken[0].surface
        for key in ("name", "description", "kind", "colour"):
            if key not in site.model_fields_set and getattr(given, key):
                named[key] = str(getattr(given, key))
    return named


def _owners(work: Work) -> Indices:
    """The row that each vertex of the mesh comes from, -1 for none; with one more entry, for rows without a vertex.

    Of several it is one that no other is used instead of, with the height that is used, and of those the first.
    """
    at, mesh = _mesh_vertex_of(work), work.shaped.triangulation.mesh
    owners = np.full(mesh.vertex_count + 1, -1, np.int64)
    rows = np.flatnonzero(at >= 0)
    owners[at[rows]] = rows
    several = rows[np.bincount(at[rows], minlength=len(owners))[at[rows]] > 1]
    is_other_height = work.gathered.xyz[several, 2] != mesh.z[at[several]]
    order = several[np.lexsort((several, is_other_height, work.gathered.is_replaced[several]))]
    # Written backwards, so that the first of the order stays.
    owners[at[order[::-1]]] = order[::-1]
    return owners


def evidence_of(work: Work) -> Evidence:
    """Read the surface off the mesh, and collect all that the rules look at."""
    gathered, shaped, tables = work.gathered, work.shaped, work.tables
    triangulation = shaped.triangulation
    bare, reading = triangulation.surface(shaped.rings, **_named(work))
    number = np.full(triangulation.mesh.vertex_count + 1, -1, np.int64)
    number[reading.vertices] = np.arange(len(reading.vertices))
    vertex_of = SurfaceVertexOfRow(number[_mesh_vertex_of(work)])
    shot_of = _owners(work)[reading.vertices].astype(np.int32)
    made_here = {int(number[v]): what for v, what in triangulation.made.items() if number[v] >= 0}
    changed = {int(number[v]): what for v, what in triangulation.changed.items() if number[v] >= 0}
    outside = vertex_of < 0
    off = np.flatnonzero(outside)
    outside[off] = ~are_kept(limits_of(shaped.limits), np.ascontiguousarray(gathered.xyz[off, :2]))
    origin = Provenance(gathered.shots, shot_of, made_here, changed)
    surface = replace(
        bare, provenance=origin, hidden=_hidden_faces(work, SurfaceVertexOfMeshVertex(number)), facts=tables.site.facts
    )
    trim = tables.one(TRIM)
    evidence = Evidence(
        surface=surface,
        xyz=gathered.xyz,
        shots=gathered.shots,
        surface_vertex_of=vertex_of,
        is_outside=outside,
        unlike=in_counted_rows(triangulation.unlike, gathered),
        crossings=_between_lines(triangulation.crossings),
        lines=tuple(gathered.lines),
        rings=tuple(shaped.rings),
        gaps=shaped.gaps,
        unfit=work.unfit,
        refused=[refusal for source in gathered.sources for refusal in source.refused],
        longest_edge=trim.longest_edge if trim is not None else None,
        height_tolerance=tables.settled(CHECK).height_tolerance,
        noted=gathered.findings + shaped.findings + _about_overlaps(triangulation.overlaps),
        misses=triangulation.misses(),
        duplicate_policy=tables.settled(DUPLICATES).policy,
        crossing_policy=tables.settled(CROSSINGS).policy,
        fate=gathered.fate,
        accept_reach=tables.settled(CHECK).accept_reach,
        limits=limits_of(shaped.limits),
    )
    measured = compared(work, surface)
    return replace(
        evidence,
        checked=[(each.name, each.checked) for each in measured],
        refused=evidence.refused + [refusal for each in measured for refusal in each.refused],
        noted=evidence.noted + [finding for each in measured for finding in each.findings],
    )


def _hidden_faces(work: Work, number: SurfaceVertexOfMeshVertex) -> Ints:
    """Hidden faces of surfaces kept unchanged, whose corners are all vertices still."""
    faces = [np.empty((0, 3), np.int32)]
    for taken in work.gathered.taken:
        rows = taken.first + taken.surface.hidden
        corners = number[work.shaped.triangulation.mesh_vertex_of[rows]]
        faces.append(corners[(corners >= 0).all(axis=1)].astype(np.int32))
    return np.concatenate(faces)


def _between_lines(crossings: list[LineCrossing]) -> list[LineCrossing]:
    return sorted(crossings, key=lambda crossing: (crossing.place, crossing.lines))


def fates_of(work: Work, evidence: Evidence) -> NDArray[np.int8]:
    """Return what became of every row."""
    at = _mesh_vertex_of(work)
    fates = np.full(len(at), USED, np.int8)
    off = evidence.surface_vertex_of < 0
    fates[off] = TRIMMED
    fates[off & (at >= 0) & np.append(work.edited_out, False)[np.minimum(at, len(work.edited_out))]] = EDITED_OUT
    fates[off & evidence.is_outside] = OUTSIDE
    fates[(_owners(work)[at] != np.arange(len(at))) & (at >= 0)] = MERGED
    fates[at < 0] = OUTSIDE
    settled = work.gathered.fate != OPEN
    fates[settled] = work.gathered.fate[settled]
    return fates


def _about_overlaps(overlaps: list[tuple[str, str, tuple[float, float]]]) -> list[Finding]:
    """Report surfaces that could not be kept unchanged, because they overlap one another or themselves."""
    places: dict[tuple[str, str], list[tuple[float, float]]] = {}
    for one, other, place in overlaps:
        places.setdefault((min(one, other), max(one, other)), []).append(place)
    out = []
    for (one, other), shared in sorted(places.items()):
        what = f"{one} overlaps itself" if one == other else f"{one} and {other} overlap"
        message = f"{what}: edges cross at {counted(len(shared), 'place')}, where vertices were added"
        fix = "keep one of the two" if one != other else "use its points and lines instead of its triangles"
        out.append(SURFACE_CHANGED.finding(min(shared), message, (one, other), fix=fix))
    return out
