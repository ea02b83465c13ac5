"""Reading the lines, surfaces and loose edges of a source."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.base.errors import DataError
from evrin.base.wording import counted
from evrin.formats.door.intake import Intake, Transformation
from evrin.making.recovering import recovered
from evrin.recipe.sources.edge_findings import about_edges, about_unset_edges
from evrin.recipe.sources.source_contents import SourceContents, check_holds, is_meant, shots_of
from evrin.recipe.sources.source_steps import with_steps_closed, without_loose_faces
from evrin.recipe.sources.source_table import HeightFrom, Source
from evrin.surface.provenance import Shots
from evrin.surface.surface import Surface
from evrin.survey.contents import Line, Points
from evrin.survey.heights import heights_in
from evrin.survey.selection import Selection
from evrin.survey.unset_heights import is_unset

_APART = ("boundary", "alignment")


def open_lines(
    opened: SourceContents,
    source: Source,
    taken: Intake,
    keep: Selection | None,
    leave_out: Selection | None,
) -> None:
    """Take the lines that are meant, with the heights that the table asks for."""
    contents = taken.contents
    if not contents.refused:
        check_holds(contents.lines, contents, "line")
    lines = list(contents.lines)
    meant = is_meant(lines, keep, leave_out)
    if keep is None or not keep.kinds:
        meant &= np.array([line.facts.get("kind") not in _APART for line in lines], np.bool_)
    opened.left_out += sum(line.drawn for line, is_meant in zip(lines, meant, strict=True) if not is_meant)
    meant_lines = [line for line, is_meant in zip(lines, meant, strict=True) if is_meant]
    opened.lines = [_with_heights(source, line, taken.transformation) for line in meant_lines]


def _with_heights(source: Source, line: Line, transformation: Transformation) -> Line:
    xyz = line.xyz.copy()
    if isinstance(source.heights, HeightFrom):
        if source.heights.level is not None:
            xyz[:, 2] = source.heights.level
        else:
            name = source.heights.attribute or ""
            if name not in line.facts:
                names = ", ".join(sorted(line.facts)) or "none"
                raise DataError(f"{source.file}: line {line.name} has no attribute {name!r}. Known here: {names}")
            given = transformation.heights(heights_in(np.array([line.facts[name]], object)))[0]
            if np.isnan(given):
                raise DataError(
                    f"{source.file}: line {line.name}: {name} is {line.facts[name]!r}, which is not a height"
                )
            xyz[:, 2] = given
    elif source.heights in ("surface", "levels"):
        xyz[:, 2] = np.nan
    elif source.heights == "own" and np.isnan(xyz[:, 2]).any():
        raise DataError(
            f'{source.file}: line {line.name} has no heights of its own. State heights = "shots" to take them from the '
            'shots it passes, "surface" to lay it on the ground, or { level = … } or { attribute = "…" }'
        )
    return replace(line, xyz=xyz)


def open_surface(opened: SourceContents, taken: Intake, keep: Selection | None, at_steps: str = "") -> None:
    """Take one surface unchanged, with one height at each place."""
    contents, given = taken.contents, taken.surfaces()
    wanted = [surface for surface in given if keep is None or _is_named(surface.name, keep)]
    if len(wanted) != 1:
        names = ", ".join(surface.name for surface in given) or "none"
        raise DataError(
            f'{contents.file}: {counted(len(wanted), "surface")} selected; choose one with keep = {{ names = ["…"] }} '
            f"of: {names}"
        )
    shots = shots_of(contents, wanted[0])
    surface, notes = with_steps_closed(contents.file, without_loose_faces(wanted[0]), at_steps)
    opened.notes += notes
    _take_surface(opened, surface, shots)


def _is_named(name: str, keep: Selection) -> bool:
    only_name = Points(np.zeros((1, 3)), Shots.of_file("", [0]), columns={"name": np.array([name], object)})
    only_name = replace(only_name, columns={**only_name.columns, "layer": np.array([name], object)})
    return bool(keep.all_met(only_name)[0])


def _take_surface(opened: SourceContents, surface: Surface, shots: Shots) -> None:
    """Keep the vertices of triangles; any other would change them."""
    used = np.unique(surface.triangles)
    opened.left_out += len(surface.vertices) - len(used)
    number = np.full(len(surface.vertices), -1, np.int64)
    number[used] = np.arange(len(used))
    named = {key: getattr(surface, key) for key in ("name", "description", "kind", "units", "crs", "colour")}
    taken = Surface.from_arrays(surface.vertices[used], number[surface.triangles], **named)
    hidden = number[surface.hidden]
    whole = (hidden >= 0).all(axis=1)
    if not whole.all():
        lost = counted(int((~whole).sum()), "hidden face")
        opened.notes.append(f"{lost} left out: a corner is in no other face")
    opened.surface = replace(taken.with_lines(surface.lines), hidden=hidden[whole].astype(np.int32))
    opened.points = Points(opened.surface.vertices, shots.take(used))


def open_edges(
    opened: SourceContents,
    source: Source,
    taken: Intake,
    keep: Selection | None,
    leave_out: Selection | None,
) -> None:
    """Find the triangles between loose edges, and report each edge that is in none."""
    open_lines(opened, source, taken, keep, leave_out)
    if not opened.lines:
        raise DataError(f"{taken.contents.file}: no line is selected, so there are no edges of triangles")
    lines, opened.lines = opened.lines, []
    segments, rows, shots = [], [], []
    for line in lines:
        ends = np.vstack((line.xyz, line.xyz[:1])) if line.closed else line.xyz
        segments.append(np.stack((ends[:-1], ends[1:]), axis=1))
        shots.append(line.shots.take(np.arange(len(ends) - 1)))
        rows.append(line.drawn)
    edges = np.concatenate(segments)
    if np.isnan(edges).any():
        raise DataError(f"{taken.contents.file}: an edge has an end without a height")
    owners = Shots.joined(shots)
    unset = is_unset(edges[..., 2].ravel(), taken.frame.units).reshape(-1, 2).any(axis=1)
    lost = 0
    if unset.any() and not unset.all():
        lost = len(np.unique(edges[unset].reshape(-1, 3), axis=0))
        opened.findings += about_unset_edges(opened.name, edges, owners, np.flatnonzero(unset))
        edges, owners = edges[~unset], owners.take(np.flatnonzero(~unset))
    recovery = recovered(edges, snap=source.snap, name=opened.name, units=taken.frame.units)
    surface = recovery.surface
    opened.findings += about_edges(opened.name, edges, owners, recovery)
    opened.notes.append(
        f"{counted(len(surface.triangles), 'triangle')} found in {counted(len(edges), 'edge')}, "
        f"with {counted(len(recovery.outline), 'outline')}"
    )
    opened.left_out += lost
    opened.merged += sum(rows) - len(surface.vertices) - lost
    opened.surface = surface
    opened.points = Points(surface.vertices, owners.take(recovery.edge_of))
