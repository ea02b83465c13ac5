"""What a recipe does to lines before they are triangulated: cut, level, weed, lead through shots, fill, part."""

from __future__ import annotations

from dataclasses import replace
from fnmatch import fnmatchcase

import numpy as np
import scipy

from evrin.errors import DataError
from evrin.recipe import remarks
from evrin.recipe.rows import Fate, Rows
from evrin.recipe.schema import CutLine, Source, Wall
from evrin.survey import heights_from_shots
from evrin.survey.cutting import cut_at, cut_between, nearest_on
from evrin.survey.filling import filled
from evrin.survey.levels import Ladder, levels_along
from evrin.survey.offsets import moved_left
from evrin.survey.strands import Strand
from evrin.survey.weeding import Weed, weeded
from evrin.wording import counted

_REACH = 0.1


def cut_lines(rows: Rows, tables: tuple[CutLine, ...]) -> None:
    """Stop lines short, or take stretches out of them."""
    cuts = gone = 0
    for number, table in enumerate(tables, 1):
        if not table.on:
            continue
        named = [k for k, strand in enumerate(rows.strands) if fnmatchcase(strand.name, table.line) and len(strand) > 1]
        away = [nearest_on(rows.strands[k], table.at)[1] for k in named]
        if not named or min(away) > table.reach:
            rows.findings.append(remarks.unmet_cut(number, table, min(away) if named else None))
            continue
        k = named[int(np.argmin(away))]
        strand = rows.strands[k]
        if table.to is not None:
            parts = cut_between(strand, table.at, table.to)
        else:
            parts = [cut_at(strand, table.at, table.keep or "before")]
        rows.strands[k : k + 1] = [
            replace(part, name=strand.name if not j else f"{strand.name} ({j + 1})") for j, part in enumerate(parts)
        ]
        left = np.concatenate([np.empty(0, np.int64), *(part.rows for part in parts)])
        gone += rows.drop_vertices(np.setdiff1d(strand.rows, left), Fate.LEFT_OUT)
        cuts += 1
    if cuts:
        rows.did.append(f"{counted(cuts, 'line')} cut, {counted(gone, 'vertex', 'vertices')} left out")


def level_contours(rows: Rows, sources: list[Source]) -> None:
    """Give bare contours their levels, and refuse those that get none."""
    for number, source in enumerate(sources):
        if source.heights != "levels":
            continue
        chosen = [k for k, strand in enumerate(rows.strands) if strand.source == number]
        strands = [rows.strands[k] for k in chosen]
        ladders = [Ladder(row.along, row.start, row.step) for row in source.ladder]
        levelled = levels_along(strands, ladders, [(row.at, row.to) for row in source.set_level])
        name = source.name or source.file
        rows.findings += remarks.about_levels(name, strands, levelled)
        bare = [strands[k].rows for k in np.flatnonzero(np.isnan(levelled.levels))]
        rows.drop_vertices(np.concatenate([np.empty(0, np.int64), *bare]), Fate.REFUSED)
        for k, level in zip(chosen, levelled.levels.tolist(), strict=True):
            strand = rows.strands[k]
            xyz = np.column_stack((strand.xyz[:, :2], np.full(len(strand), level)))
            rows.strands[k] = replace(strand, xyz=xyz)
            rows.xyz[strand.rows[strand.rows >= 0], 2] = level
        has_level = {k for k, level in zip(chosen, levelled.levels.tolist(), strict=True) if not np.isnan(level)}
        rows.strands = [s for k, s in enumerate(rows.strands) if s.source != number or k in has_level]
        rows.did.append(f"{name}: {counted(len(has_level), 'contour')} of {len(chosen):,} levelled")


def weed_lines(rows: Rows, sources: list[Source]) -> None:
    """Weed the lines of all sources that ask for it, together."""
    if not any(source.weed for source in sources):
        return
    asked = [sources[strand.source].weed if strand.source >= 0 else None for strand in rows.strands]
    how = [
        None if each is None else Weed(each.spacing or 0.0, each.deflection_deg or 0.0, each.tolerance or 0.0)
        for each in asked
    ]
    # A coded shot is a spot as well: it stands, and so do the lines joined from such.
    done = weeded(rows.strands, how)
    gone = [np.empty(0, np.int64)]
    for k, kept in enumerate(done.kept):
        if not kept.all():
            strand = rows.strands[k]
            gone.append(np.setdiff1d(strand.rows, strand.rows[kept]))
            rows.strands[k] = strand.take(np.flatnonzero(kept))
    rows.drop_vertices(np.concatenate(gone), Fate.WEEDED)
    stray = float(done.strays[[k for k, each in enumerate(how) if each is not None]].max(initial=0.0))
    rows.did.append(f"{done.before:,} line vertices weeded to {done.after:,}, the largest stray {stray:.3f}")


def lead_through_shots(rows: Rows, sources: list[Source]) -> None:
    """Lead lines that take their heights from shots through the shots they pass."""
    chosen = [
        k for k, strand in enumerate(rows.strands) if strand.source >= 0 and sources[strand.source].heights == "shots"
    ]
    if not chosen:
        return
    points = np.flatnonzero(rows.is_point)
    if not len(points):
        file = sources[rows.strands[chosen[0]].source].file
        raise DataError(f'{file}: heights = "shots", but no source of points is on to take them from')
    shots = rows.xyz[points]
    tree = scipy.spatial.cKDTree(shots[:, :2])
    for k in chosen:
        strand = rows.strands[k]
        fitted = heights_from_shots(strand.xyz, strand.closed, shots, sources[strand.source].reach or _REACH, tree)
        own = np.where(fitted.drawn_as >= 0, strand.rows[fitted.drawn_as], -1)
        own = np.where(fitted.shot_of >= 0, points[fitted.shot_of], own)
        rows.strands[k] = replace(strand, xyz=fitted.xyz, rows=own)
        moved = np.flatnonzero((fitted.gave_way_to >= 0) & (strand.rows >= 0))
        rows.stands_for[strand.rows[moved]] = points[fitted.gave_way_to[moved]]


def fill_lines(rows: Rows, sources: list[Source]) -> None:
    """Put vertices into the lines of all sources that ask for it."""
    before = sum(len(strand) for strand in rows.strands)
    for k, strand in enumerate(rows.strands):
        fill = sources[strand.source].fill if strand.source >= 0 else None
        if fill is not None and len(strand) > 1:
            rows.strands[k] = filled(strand, fill.spacing)
    made = sum(len(strand) for strand in rows.strands) - before
    if made:
        rows.did.append(f"{counted(made, 'vertex', 'vertices')} filled into lines")


def part_walls(rows: Rows, tables: tuple[Wall, ...]) -> None:
    """Move the tops of walls to the side of the high ground, or make them from their feet."""
    parted = 0
    for number, table in enumerate(tables, 1):
        if not table.on:
            continue
        named = [k for k, strand in enumerate(rows.strands) if fnmatchcase(strand.name, table.line) and len(strand) > 1]
        if not named:
            rows.findings.append(remarks.unmet_wall(number, table))
        distance = table.offset if table.high_side == "left" else -table.offset
        for k in named:
            strand = rows.strands[k]
            moved = moved_left(strand.xyz, distance, closed=strand.closed)
            top = np.column_stack((moved, strand.xyz[:, 2] + (table.rise or 0.0)))
            if table.rise is None:
                rows.strands[k] = replace(strand, xyz=top)
                rows.xyz[strand.rows[strand.rows >= 0]] = top[strand.rows >= 0]
            else:
                rows.strands.append(Strand.made(f"{strand.name} top", top, closed=strand.closed, where=strand.where))
            parted += 1
        if table.rise is None:
            _follow(rows)
    if parted:
        rows.did.append(f"{counted(parted, 'wall')} parted into top and foot")


def _follow(rows: Rows) -> None:
    """Let every line go where the shots have gone that it joins."""
    for k, strand in enumerate(rows.strands):
        own = strand.rows >= 0
        if own.any() and not np.array_equal(strand.xyz[own], rows.xyz[strand.rows[own]], equal_nan=True):
            xyz = strand.xyz.copy()
            xyz[own] = np.where(np.isnan(xyz[own]), np.nan, rows.xyz[strand.rows[own]])
            rows.strands[k] = replace(strand, xyz=xyz)
