"""Reading one source of a recipe: brought to the site, selected and given its heights."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.base.wording import counted
from evrin.formats.door.format_registry import How
from evrin.formats.door.intake import Intake, take_in, take_in_cloud
from evrin.kernels import Floats
from evrin.recipe.handover.frozen_vertices import traced_shots
from evrin.recipe.sources.source_contents import SourceContents, check_holds, is_meant, shots_of
from evrin.recipe.sources.source_heights import heights_of, set_heights
from evrin.recipe.sources.source_lines import open_edges, open_lines, open_surface
from evrin.recipe.sources.source_table import LINE_ROLES, Source
from evrin.recipe.sources.source_thinning import take_parts
from evrin.recipe.tables import selection_of
from evrin.recipe.tables.file_sets import expanded
from evrin.surface.frame import Frame
from evrin.surface.grid import Grid
from evrin.surface.provenance import Shots
from evrin.survey.contents import BLOCK, POINT, SYMBOL, TEXT, VERTEX, Contents, Points, Refusal
from evrin.survey.selection import Selection

_NAMED = 1000


def open_source(folder: Path, source: Source, frame: Frame) -> SourceContents:
    """Read a source and apply its table.

    Raises
    ------
    DataError, MissingPackageError
        Where its file cannot be read, or the table asks for what the file does not hold.
    """
    opened = SourceContents(source.title)
    how = How(None, source.role in (*LINE_ROLES, "edges"), source.heights == "own", chord=source.chord)
    keep, leave_out = (selection_of(folder, t, frame) if t else None for t in (source.keep, source.leave_out))
    if source.role in ("cloud", "grid"):
        paths = paths_of(folder, source)
        parts = (part for path in paths for part in parts_of(path, source, frame, folder, opened))
        take_parts(opened, source, parts, frame)
        return opened
    taken = take_in(folder / source.file, frame, source.claim, how, **_heights(source))
    _note(opened, taken, taken.contents.notes, taken.contents.refused)
    if source.role == "points":
        _open_points(opened, source, taken, keep, leave_out)
    elif source.role in LINE_ROLES:
        open_lines(opened, source, taken, keep, leave_out)
    elif source.role == "edges":
        open_edges(opened, source, taken, keep, leave_out)
    else:
        open_surface(opened, taken, keep, source.at_steps)
        if source.traced_by is not None:
            shots = traced_shots(folder / source.traced_by, opened.points.xyz, taken.transformation)
            opened.points = replace(opened.points, shots=shots)
    return opened


def paths_of(folder: Path, source: Source) -> list[Path]:
    """Return the files of a source, each once."""
    return list(dict.fromkeys(path for name in source.named_files for path in expanded(folder, name)))


def parts_of(path: Path, source: Source, frame: Frame, folder: Path, opened: SourceContents) -> Iterator[Points]:
    """Yield the points of one file of a cloud or a grid, a part at a time: brought to the site and selected.

    Raises
    ------
    DataError, MissingPackageError
        Where it cannot be read.
    """
    how = How(None, False, source.heights == "own", chord=source.chord)
    keep, leave_out = (selection_of(folder, t, frame) if t else None for t in (source.keep, source.leave_out))
    tiles = _Tiles(
        opened=opened, source=source, frame=frame, how=how, heights=_heights(source), keep=keep, leave_out=leave_out
    )
    yield from (tiles.of_cloud if source.role == "cloud" else tiles.of_grid)(path)


def _heights(source: Source) -> dict[str, float]:
    return {"rise": source.raise_by, "stretch": source.scale_heights}


def _note(opened: SourceContents, taken: Intake, notes: Sequence[str], refused: Sequence[Refusal]) -> None:
    """Note what came up with a file; what was noted of another tile already is not noted again."""
    opened.notes += [note for note in [*notes, *taken.notes] if note not in opened.notes]
    opened.refused += refused
    opened.findings += [finding for finding in taken.findings if finding not in opened.findings]
    opened.is_stated = opened.is_stated or taken.is_stated


class _Tiles(NamedTuple):
    """How the files of one source are read, of which each is a tile of one cloud or grid."""

    opened: SourceContents
    source: Source
    frame: Frame
    how: How
    heights: dict[str, float]
    keep: Selection | None
    leave_out: Selection | None

    def of_cloud(self, path: Path) -> Iterator[Points]:
        """The points of a cloud, a part at a time."""
        cloud, taken = take_in_cloud(path, self.frame, self.source.claim, self.how, **self.heights)
        _note(self.opened, taken, cloud.notes, cloud.refused)
        for part in cloud.parts:
            self.opened.refused += part.refused
            bare = replace(part, refused=(), notes=())
            yield with_heights(self.opened, _chosen(self.opened, bare, solid(self.keep), self.leave_out))

    def of_grid(self, path: Path) -> Iterator[Points]:
        """The cells of the grids in a file, as points."""
        taken = take_in(path, self.frame, self.source.claim, self.how, **self.heights)
        _note(self.opened, taken, taken.contents.notes, taken.contents.refused)
        points = Points.joined([_grid_points(taken, grid) for grid in taken.contents.grids])
        check_holds(points.xyz, taken.contents, "grid")
        yield _chosen(self.opened, points, self.keep, self.leave_out)


def _chosen(opened: SourceContents, points: Points, keep: Selection | None, leave_out: Selection | None) -> Points:
    meant = is_meant(points, keep, leave_out)
    opened.left_out += int((~meant).sum())
    return points if meant.all() else points.take(meant)


def _all_points(contents: Contents, keep: Selection | None) -> Points:
    """The points of a file; where vertices are asked for by kind, those of its lines and surfaces too."""
    if keep is None or VERTEX not in keep.kinds:
        if not len(contents.points) and not contents.refused:
            raise DataError(
                f"{contents.file}: no point in it ({contents.form}); for the vertices of its lines or "
                'surfaces state keep = { kinds = ["vertex"] }'
            )
        return contents.points
    parts = [contents.points]
    for line in contents.lines:
        layer = np.full(len(line.xyz), line.facts.get("layer", ""), object)
        parts.append(_vertices(line.xyz, line.shots, layer))
    for surface in contents.surfaces:
        layer = np.full(len(surface.vertices), surface.name, object)
        parts.append(_vertices(surface.vertices, shots_of(contents, surface), layer))
    return Points.joined(parts)


def _vertices(xyz: Floats, shots: Shots, layer: np.ndarray) -> Points:
    return Points(xyz, shots, columns={"kind": np.full(len(xyz), VERTEX, object), "layer": layer})


def _grid_points(taken: Intake, grid: Grid) -> Points:
    xyz, cells = taken.grid_points(grid)
    kind = np.full(len(xyz), POINT, object)
    return Points(xyz, Shots.of_file(taken.contents.file, cells + 1, word="cell"), columns={"kind": kind})


def _open_points(
    opened: SourceContents, source: Source, taken: Intake, keep: Selection | None, leave_out: Selection | None
) -> None:
    points = _all_points(taken.contents, keep)
    texts = points.take(points.column("kind", POINT) == TEXT)
    rows = _chosen(opened, points, solid(keep, TEXT if source.heights == "text" else ""), leave_out)
    z = heights_of(opened, source, rows, texts, taken)
    set_heights(opened, source, rows, z, taken.frame.units)
    placed = replace(rows, xyz=np.column_stack((rows.xyz[:, :2], z)))
    missing = np.isnan(z)
    if source.heights == "text" and missing.any():
        opened.left_out += int(missing.sum())
        opened.notes.append(f"{counted(int(missing.sum()), 'text')} without a height left out")
        placed = placed.take(~missing)
    take_parts(opened, source, [with_heights(opened, placed)], taken.frame)


def solid(keep: Selection | None, kind: str = "") -> Selection:
    """If no kind is requested: the only kind present, otherwise the shots."""
    keep = keep or Selection()
    return keep if keep.kinds else replace(keep, kinds=(kind,) if kind else (POINT, BLOCK, SYMBOL))


def with_heights(opened: SourceContents, points: Points) -> Points:
    """Refuse points without a height: the first by name, the rest in one."""
    missing = np.isnan(points.xyz[:, 2])
    if not missing.any():
        return points
    rows = np.flatnonzero(missing)
    opened.refused += [Refusal(points.shots.describe(row), "it has no height") for row in rows[:_NAMED].tolist()]
    if len(rows) > _NAMED:
        where = f"{points.shots.describe(int(rows[_NAMED]))} and others after it"
        opened.refused.append(Refusal(where, "it has no height", len(rows) - _NAMED))
    return points.take(~missing)
