"""Opening one source of a recipe: read, set right, selected and given its heights."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np

from evrin.errors import DataError
from evrin.formats import How, open_cloud, read, read_rings
from evrin.formats.reference import DEGREES, METRES, units_of
from evrin.recipe import remarks
from evrin.recipe.opened import Opened, Setting, check_holds, is_meant, set_right, shots_of
from evrin.recipe.opening_shapes import open_edges, open_lines, open_surface
from evrin.recipe.schema import LINE_ROLES, HeightFrom, Selecting, Site, Source
from evrin.recipe.trace import traced_shots
from evrin.surface import Grid, Shots
from evrin.surface.thinning import thinned_by_tolerance
from evrin.survey import Selection
from evrin.survey.ground import is_ground
from evrin.survey.heights import has_no_height, heights_in, pair_with_texts
from evrin.survey.thin import thinned_by_cell
from evrin.survey.things import BLOCK, POINT, TEXT, VERTEX, Contents, Points, Refusal
from evrin.tin.types import Floats
from evrin.wording import counted

_TEXT_REACH = 5.0
_NAMED = 1000


def open_source(folder: Path, source: Source, site: Site) -> Opened:
    """Read a source and do to it what its table says.

    Raises
    ------
    DataError, MissingPackageError
        Where its file cannot be read, or the table asks for what the file does not hold.
    """
    opened = Opened(source.name or source.file)
    path = folder / source.file
    how = How(source.columns, source.role in LINE_ROLES, source.heights == "own", chord=source.chord)
    keep, leave_out = (selection_of(folder, t) if t else None for t in (source.keep, source.leave_out))
    if source.role == "cloud":
        _open_cloud(opened, source, site, path, how, keep, leave_out)
        return opened
    contents = read(path, how)
    opened.notes += contents.notes
    opened.refused += contents.refused
    setting = _setting(opened, source, site, contents.units, contents.crs, contents.hinted_units)
    if source.role == "points":
        points = _moved_points(_all_points(contents, keep), setting)
        _open_points(opened, source, points, setting, keep, leave_out)
    elif source.role == "grid":
        points = Points.joined([_moved_points(_grid_points(contents, grid), setting) for grid in contents.grids])
        check_holds(points.xyz, contents, "grid")
        _take_cloud(opened, source, [_chosen(opened, points, keep, leave_out)])
    elif source.role in LINE_ROLES:
        open_lines(opened, source, contents, setting, keep, leave_out)
    elif source.role == "edges":
        open_edges(opened, source, contents, setting, keep, leave_out)
    else:
        open_surface(opened, contents, setting, keep)
        if source.traced_by is not None:
            shots = traced_shots(folder / source.traced_by, opened.points.xyz)
            opened.points = replace(opened.points, shots=shots)
    return opened


def _setting(opened: Opened, source: Source, site: Site, units: str, crs: str, hinted: str) -> Setting:
    start = source.crs or crs
    carries = bool(start) and start != "local" and site.crs != "local" and start != site.crs
    # A system in degrees says nothing of heights.
    said = (source.units, units, units_of(start) if carries else "")
    stated = next((unit for unit in said if unit and unit != DEGREES), site.units)
    factor = METRES[stated] / METRES[site.units]
    if factor != 1.0:
        what = "heights read" if carries else "read"
        opened.notes.append(f"{what} as {stated}, converted to {site.units}")
    if hinted and hinted != site.units and source.units is None:
        opened.findings.append(remarks.hinted_units(opened.name, hinted, site.units))
    if carries:
        opened.notes.append(f"carried from {start} to {site.crs}")
    if source.exchanged:
        opened.notes.append("northing and easting exchanged")
    return Setting(source.exchanged, factor, start if carries else "", site.crs, source.raise_by, source.scale_heights)


def selection_of(folder: Path, table: Selecting) -> Selection:
    """Return what a table of a recipe means."""
    rings = [np.array(table.polygon, np.float64)] if table.polygon else []
    if table.within:
        rings += [ring.xyz[:, :2] for ring in read_rings(folder / table.within)]
    return Selection(
        table.codes,
        table.numbers,
        table.layers,
        table.names,
        table.kinds,
        table.classes,
        table.returns,
        table.where,
        table.window,
        tuple(np.ascontiguousarray(ring) for ring in rings),
    )


def _chosen(opened: Opened, points: Points, keep: Selection | None, leave_out: Selection | None) -> Points:
    meant = is_meant(points, keep, leave_out)
    opened.left_out += int((~meant).sum())
    return points if meant.all() else points.take(meant)


def _moved_points(points: Points, setting: Setting) -> Points:
    return replace(points, xyz=np.ascontiguousarray(setting.places(points.xyz)))


def _all_points(contents: Contents, keep: Selection | None) -> Points:
    """The points of a file; where vertices are asked for by kind, those of its lines and surfaces too."""
    if keep is None or VERTEX not in keep.kinds:
        if not len(contents.points) and not contents.refused:
            raise DataError(
                f"{contents.file}: there is no point in it ({contents.form}); for the vertices of its lines or "
                'surfaces say keep = { kinds = ["vertex"] }'
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


def _grid_points(contents: Contents, grid: Grid) -> Points:
    xyz, cells = grid.points()
    kind = np.full(len(xyz), POINT, object)
    return Points(xyz, Shots.of_file(contents.file, cells + 1, word="cell"), columns={"kind": kind})


def _open_points(
    opened: Opened,
    source: Source,
    points: Points,
    setting: Setting,
    keep: Selection | None,
    leave_out: Selection | None,
) -> None:
    texts = points.take(points.column("kind", POINT) == TEXT)
    taken = _chosen(opened, points, _solid(keep, TEXT if source.heights == "text" else ""), leave_out)
    z = _set_by_number(source, taken, _heights(opened, source, taken, texts, setting))
    placed = replace(taken, xyz=np.column_stack((taken.xyz[:, :2], z)))
    missing = np.isnan(z)
    if source.heights == "text" and missing.any():
        opened.left_out += int(missing.sum())
        opened.notes.append(f"{counted(int(missing.sum()), 'text')} that give no height left out")
        placed = placed.take(~missing)
    _take_cloud(opened, source, [_with_heights(opened, placed)])


def _solid(keep: Selection | None, kind: str = "") -> Selection:
    """Where no kind is asked for, one kind alone, or whatever is a shot."""
    keep = keep or Selection()
    return keep if keep.kinds else replace(keep, kinds=(kind,) if kind else (POINT, BLOCK))


def _with_heights(opened: Opened, points: Points) -> Points:
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


def _heights(opened: Opened, source: Source, taken: Points, texts: Points, setting: Setting) -> Floats:
    """Heights of points from wherever the table says, in the site's units."""
    z: Floats = taken.xyz[:, 2].copy()
    if isinstance(source.heights, HeightFrom):
        if source.heights.level is not None:
            return np.full(len(z), source.heights.level)
        return set_right(heights_in(_attribute(source, taken)), setting)
    if source.heights == "text":
        return set_right(heights_in(taken.column("text")), setting)
    if source.heights == "text nearby":
        given = set_right(heights_in(texts.column("text")), setting)
        numeric = np.flatnonzero(np.isfinite(given))
        reach = source.reach or _TEXT_REACH
        pairs = pair_with_texts(taken.xyz[:, :2], np.ascontiguousarray(texts.xyz[numeric, :2]), reach)
        # A height left at zero in the file may have been raised since.
        bare = has_no_height((z - setting.rise) / setting.stretch)
        told = given[numeric[pairs.texts]]
        opened.findings += remarks.about_texts(opened.name, taken, texts.take(numeric), pairs, bare, z, told)
        mended = bare[pairs.points]
        z[pairs.points[mended]] = told[mended]
        lone = np.intersect1d(pairs.lone_points, np.flatnonzero(bare))
        z[lone] = taken.xyz[lone, 2]
        opened.notes.append(f"{counted(int(mended.sum()), 'height')} taken from texts nearby")
    return z


def _attribute(source: Source, points: Points) -> np.ndarray:
    name = (source.heights.attribute or "") if isinstance(source.heights, HeightFrom) else ""
    if name not in points.columns:
        known = ", ".join(sorted(points.columns)) or "none"
        raise DataError(f"{source.file}: there is no attribute {name!r}; known here: {known}")
    return points.columns[name]


def _set_by_number(source: Source, points: Points, z: Floats) -> Floats:
    for correction in source.set_height:
        rows = np.flatnonzero(points.shots.numbers == correction.number)
        if len(rows) != 1:
            found = "none" if not len(rows) else f"{len(rows)} of them"
            raise DataError(f"{source.file}: set_height wants point {correction.number}, and there is {found}")
        z[rows] = correction.to
    return z


def _open_cloud(
    opened: Opened,
    source: Source,
    site: Site,
    path: Path,
    how: How,
    keep: Selection | None,
    leave_out: Selection | None,
) -> None:
    cloud = open_cloud(path, how)
    opened.notes += cloud.notes
    opened.refused += cloud.refused
    setting = _setting(opened, source, site, cloud.units, cloud.crs, cloud.hinted_units)

    def parts() -> Iterator[Points]:
        for part in cloud.parts:
            opened.refused += part.refused
            moved = replace(_moved_points(part, setting), refused=(), notes=())
            yield _with_heights(opened, _chosen(opened, moved, _solid(keep), leave_out))

    _take_cloud(opened, source, parts())


def _take_cloud(opened: Opened, source: Source, parts: Iterable[Points]) -> None:
    """Filter and thin what comes in, where the table asks for it."""
    thin, ground = source.thin, source.ground_filter
    if ground is not None:
        whole = Points.joined(list(parts))
        if len(whole):
            stands = is_ground(
                whole.xyz,
                cell=ground.cell,
                slope=ground.slope,
                window=ground.window,
                threshold=ground.threshold,
                scale=ground.scale,
            )
            opened.left_out += int((~stands).sum())
            opened.notes.append(f"{counted(int((~stands).sum()), 'point')} found not to be ground")
            whole = whole.take(stands)
        parts = [whole]
    if thin is not None and thin.cell is not None:
        points = _counted_thinning(opened, parts, thin.cell, thin.pick)
    else:
        points = Points.joined(list(parts))
    if thin is not None and thin.tolerance is not None and len(points):
        thinned = thinned_by_tolerance(points.xyz, thin.tolerance)
        opened.thinned += int((~thinned.kept).sum())
        opened.notes.append(
            f"{counted(int(thinned.kept.sum()), 'point')} hold the cloud within {thinned.worst:.3f} "
            f"(measured on all {len(points):,}; tolerance {thin.tolerance:g})"
        )
        points = points.take(thinned.kept)
    opened.points = points


def _counted_thinning(opened: Opened, parts: Iterable[Points], cell: float, pick: str) -> Points:
    came = 0

    def counting() -> Iterator[Points]:
        nonlocal came
        for part in parts:
            came += len(part)
            yield part

    points = thinned_by_cell(counting(), cell, pick)  # type: ignore[arg-type]
    opened.thinned += came - len(points)
    opened.notes.append(f"{came:,} points thinned to {len(points):,}, the {pick} of each cell of {cell:g}")
    return points
