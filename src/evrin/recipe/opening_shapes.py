"""Opening the lines, surfaces and loose edges of a source."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.errors import DataError
from evrin.recipe import remarks
from evrin.recipe.opened import Opened, Setting, check_holds, is_meant, set_right, shots_of
from evrin.recipe.schema import HeightFrom, Source
from evrin.surface import Shots, Surface
from evrin.surface.recover import recovered
from evrin.survey import Selection
from evrin.survey.heights import heights_in
from evrin.survey.things import Contents, Line, Points
from evrin.wording import counted

_APART = ("boundary", "alignment")


def open_lines(
    opened: Opened,
    source: Source,
    contents: Contents,
    setting: Setting,
    keep: Selection | None,
    leave_out: Selection | None,
) -> None:
    """Take the lines that are meant, with the heights that the table asks for."""
    if not contents.refused:
        check_holds(contents.lines, contents, "line")
    lines = [replace(line, xyz=setting.places(line.xyz)) for line in contents.lines]
    meant = is_meant(lines, keep, leave_out)
    if keep is None or not keep.kinds:
        meant &= np.array([line.facts.get("kind") not in _APART for line in lines], np.bool_)
    opened.left_out += sum(line.drawn for line, is_meant in zip(lines, meant, strict=True) if not is_meant)
    chosen = [line for line, is_meant in zip(lines, meant, strict=True) if is_meant]
    opened.lines = [_with_heights(source, line, setting) for line in chosen]


def _with_heights(source: Source, line: Line, setting: Setting) -> Line:
    xyz = line.xyz.copy()
    if isinstance(source.heights, HeightFrom):
        if source.heights.level is not None:
            xyz[:, 2] = source.heights.level
        else:
            name = source.heights.attribute or ""
            if name not in line.facts:
                known = ", ".join(sorted(line.facts)) or "none"
                raise DataError(f"{source.file}: line {line.name} has no attribute {name!r}; known here: {known}")
            given = set_right(heights_in(np.array([line.facts[name]], object)), setting)[0]
            if np.isnan(given):
                raise DataError(f"{source.file}: line {line.name}: {name} is {line.facts[name]!r}, which is no height")
            xyz[:, 2] = given
    elif source.heights in ("surface", "levels"):
        xyz[:, 2] = np.nan
    elif source.heights == "own" and np.isnan(xyz[:, 2]).any():
        raise DataError(
            f'{source.file}: line {line.name} has no heights of its own; say heights = "shots" to take them from the '
            'shots it passes, "surface" to lay it on the ground, or { level = … } or { attribute = "…" }'
        )
    return replace(line, xyz=xyz)


def open_surface(opened: Opened, contents: Contents, setting: Setting, keep: Selection | None) -> None:
    """Take one surface as it is."""
    given = [*contents.surfaces, *(grid.surface() for grid in contents.grids)]
    wanted = [surface for surface in given if keep is None or _is_named(surface.name, keep)]
    if len(wanted) != 1:
        names = ", ".join(surface.name for surface in given) or "none"
        raise DataError(
            f'{contents.file}: {counted(len(wanted), "surface")} chosen; choose one by keep = {{ names = ["…"] }} '
            f"of: {names}"
        )
    surface = wanted[0]
    _take_surface(opened, replace(surface, vertices=setting.places(surface.vertices)), shots_of(contents, surface))


def _is_named(name: str, keep: Selection) -> bool:
    known = Points(np.zeros((1, 3)), Shots.of_file("", [0]), columns={"name": np.array([name], object)})
    known = replace(known, columns={**known.columns, "layer": np.array([name], object)})
    return bool(keep.all_met(known)[0])


def _take_surface(opened: Opened, surface: Surface, shots: Shots) -> None:
    """Keep the vertices that triangles stand on; any other would change them."""
    used = np.unique(surface.triangles)
    opened.left_out += len(surface.vertices) - len(used)
    number = np.full(len(surface.vertices), -1, np.int64)
    number[used] = np.arange(len(used))
    named = {"name": surface.name, "kind": surface.kind, "units": surface.units}
    opened.surface = Surface.from_arrays(surface.vertices[used], number[surface.triangles], **named)
    opened.points = Points(opened.surface.vertices, shots.take(used))


def open_edges(
    opened: Opened,
    source: Source,
    contents: Contents,
    setting: Setting,
    keep: Selection | None,
    leave_out: Selection | None,
) -> None:
    """Find the triangles between loose edges, and tell of each edge that is in none."""
    open_lines(opened, source, contents, setting, keep, leave_out)
    if not opened.lines:
        raise DataError(f"{contents.file}: no line is left of which triangles could be made")
    lines, opened.lines = opened.lines, []
    segments, rows, shots = [], [], []
    for line in lines:
        ends = np.vstack((line.xyz, line.xyz[:1])) if line.closed else line.xyz
        segments.append(np.stack((ends[:-1], ends[1:]), axis=1))
        shots.append(line.shots.take(np.arange(len(ends) - 1)))
        rows.append(line.drawn)
    edges = np.concatenate(segments)
    if np.isnan(edges).any():
        raise DataError(f"{contents.file}: an edge has an end without a height")
    found = recovered(edges, snap=source.snap, name=opened.name)
    owners = Shots.joined(shots)
    surface = found.surface
    opened.findings += remarks.about_edges(opened.name, edges, owners, found)
    opened.notes.append(
        f"{counted(len(surface.triangles), 'triangle')} found in {counted(len(edges), 'edge')}, "
        f"with {counted(len(found.outline), 'outline')}"
    )
    opened.merged += sum(rows) - len(surface.vertices)
    opened.surface = surface
    opened.points = Points(surface.vertices, owners.take(found.edge_of))
