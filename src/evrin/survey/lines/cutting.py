"""Cutting lines: at a place, between two places, and where they enter an area."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from evrin.kernels import Floats, Indices
from evrin.survey.lines.strands import Strand
from evrin.tin.query.inside_rings import is_inside_rings, ring_sides

Place = tuple[float, float]
Side = Literal["before", "after"]


def nearest_on(strand: Strand, at: Place) -> tuple[float, float]:
    """Return where along a line a place is nearest, in legs and parts of them, and how far away it is."""
    around = strand.around()[:, :2]
    legs = np.diff(around, axis=0)
    lengths = np.maximum((legs**2).sum(axis=1), 1e-300)
    offsets = np.asarray(at) - around[:-1]
    part = np.clip((offsets * legs).sum(axis=1) / lengths, 0.0, 1.0)
    distance = np.hypot(*(offsets - part[:, None] * legs).T)
    leg = int(np.argmin(distance))
    return leg + float(part[leg]), float(distance[leg])


def cut_at(strand: Strand, at: Place, keep: Side) -> Strand:
    """Stop a line short at a place.

    Parameters
    ----------
    strand : Strand
        The line.
    at : (float, float)
        The nearest place on the line counts; a vertex is added there, with the height of the line.
    keep : {"before", "after"}
        Which part stays, in the order in which the line was drawn. A ring is opened at its first vertex.

    Returns
    -------
    Strand
    """
    where, _ = nearest_on(strand, at)
    end = float(len(strand) - (0 if strand.closed else 1))
    return _stretch(strand, 0.0, where) if keep == "before" else _stretch(strand, where, end)


def cut_between(strand: Strand, at: Place, to: Place) -> list[Strand]:
    """Take the stretch between two places out of a line and return what is left, in the order in which it was drawn.

    Of a ring the shorter way round is taken out.
    """
    first, last = sorted((nearest_on(strand, at)[0], nearest_on(strand, to)[0]))
    count = float(len(strand) - (0 if strand.closed else 1))
    if not strand.closed:
        parts = [_stretch(strand, 0.0, first), _stretch(strand, last, count)]
        return [part for part in parts if len(part) > 1]
    if _length(strand, first, last) <= _length(strand, 0.0, count) / 2.0:
        start = int(np.floor(last))
        turned = np.roll(np.arange(len(strand)), -start)
        opened = strand.take(turned)
        return [_stretch(opened, last - start, first - start + count)]
    return [_stretch(strand, first, last)]


def _length(strand: Strand, first: float, last: float) -> float:
    part = _stretch(strand, first, last).xyz
    return float(np.hypot(*np.diff(part[:, :2], axis=0).T).sum())


def _stretch(strand: Strand, first: float, last: float) -> Strand:
    """The part of a line between two positions counted in legs."""
    around, rows = strand.around(), _rows_around(strand)
    inner = np.arange(int(np.floor(first)) + 1, int(np.ceil(last)))
    start, end = _position(around, rows, first), _position(around, rows, last)
    xyz = np.vstack((start[0], around[inner], end[0]))
    return replace(strand, xyz=xyz, rows=np.array([start[1], *rows[inner], end[1]], np.int64), closed=False)


def _rows_around(strand: Strand) -> Indices:
    return np.append(strand.rows, strand.rows[:1]) if strand.closed else strand.rows


def _position(around: Floats, rows: Indices, where: float) -> tuple[Floats, int]:
    """The vertex at a position counted in legs, and its row; one is added where there is none."""
    leg = min(int(where), len(around) - 2)
    part = where - leg
    if part in (0.0, 1.0):
        return around[leg + int(part)], int(rows[leg + int(part)])
    return around[leg] + part * (around[leg + 1] - around[leg]), -1


def clipped_outside(strand: Strand, rings: list[Floats], heights: Sequence[float]) -> tuple[list[Strand], Indices]:
    """Return the parts of a line outside rings, which meet each ring at its height, and the removed rows.

    Rings within rings alternate. A line that nowhere enters the rings is returned unchanged.
    """
    around = strand.around()
    rows = _rows_around(strand)
    sides = ring_sides(rings)
    of_sides = np.repeat(heights, [len(ring_sides([ring])) for ring in rings])
    inside = is_inside_rings(np.ascontiguousarray(around[:, :2]), rings)
    crossings = [_crossings(around[k, :2], around[k + 1, :2], sides) for k in range(len(around) - 1)]
    if not inside.any() and not any(len(parts) for parts, _ in crossings):
        return [strand], np.empty(0, np.int64)
    runs: list[list[tuple[Floats, int]]] = [[]]
    for k in range(len(around)):
        if not inside[k]:
            runs[-1].append((around[k], int(rows[k])))
        if k + 1 == len(around):
            break
        is_out = not inside[k]
        for part, side in zip(*crossings[k], strict=True):
            place = around[k] + part * (around[k + 1] - around[k])
            place[2] = of_sides[side]
            if not is_out:
                runs.append([])
            runs[-1].append((place, -1))
            is_out = not is_out
    kept = [run for run in runs if len(run) > 1]
    parts = [
        replace(strand, xyz=np.array([xyz for xyz, _ in run]), rows=np.array([row for _, row in run]), closed=False)
        for run in kept
    ]
    stays = np.concatenate([np.empty(0, np.int64), *(part.rows for part in parts)])
    return parts, np.setdiff1d(strand.rows[strand.rows >= 0], stays)


def _crossings(start: Floats, end: Floats, sides: Floats) -> tuple[Floats, Indices]:
    """Where a leg crosses the sides of rings, as parts of its length, in order, and which sides."""
    leg = end - start
    a, b = sides[:, :2] - start, sides[:, 2:] - start
    from_a, from_b = leg[0] * a[:, 1] - leg[1] * a[:, 0], leg[0] * b[:, 1] - leg[1] * b[:, 0]
    meets = (from_a > 0.0) != (from_b > 0.0)
    a, b, from_a, from_b = a[meets], b[meets], from_a[meets], from_b[meets]
    across = from_a / (from_a - from_b)
    place = a + across[:, None] * (b - a)
    part = (place @ leg) / max(float(leg @ leg), 1e-300)
    on_leg = (part > 0.0) & (part <= 1.0)
    part, crossed = part[on_leg], np.flatnonzero(meets)[on_leg]
    order = np.argsort(part, kind="stable")
    return part[order], crossed[order]
