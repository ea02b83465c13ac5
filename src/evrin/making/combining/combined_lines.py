"""The lines of several surfaces on one that they became: whole where nothing of them was lost, or in pieces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from evrin.kernels import Floats, Indices, Ints
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patch_joining import Meeting
from evrin.making.patches.patches import Patch
from evrin.surface.surface import SourceLine, Surface

# What rounding may take from the length of a line, as a part of it.
_ROUNDING = 1e-9


def lines_on(
    patch: Patch, vertices: Floats, surfaces: Sequence[Surface], joins: Sequence[SourceLine], meeting: Meeting
) -> tuple[tuple[SourceLine, ...], Ints]:
    """Return the lines of a combined surface, joins last, and the line of each edge of its triangles.

    Parameters
    ----------
    patch : Patch
        Its lines numbered over all surfaces in turn.
    vertices : (n, 3) float64
        Of the patch, where they are.
    surfaces : sequence of Surface
        The surfaces that were combined.
    joins : sequence of SourceLine
        One for each pair of surfaces that meet, in the order of ``np.unique(found.surfaces, axis=0)``.
    meeting : Meeting
        Where they meet.
    """
    every = [line for surface in surfaces for line in surface.lines]
    if not every:
        return _with_joins(patch, [], np.full(patch.triangles.shape, NOWHERE, np.int32), joins, meeting)
    own = patch.edge_lines.copy()
    length_now = _lengths(vertices, patch.triangles, own, patch.mates, len(every))
    before = np.concatenate(
        [_lengths(each.vertices, each.triangles, each.edge_lines, each.mates, len(each.lines)) for each in surfaces]
    )
    kept: list[SourceLine] = []
    lost: list[tuple[int, int, list[list[int]]]] = []
    number = np.full(len(every) + 1, NOWHERE, np.int32)
    for k in np.flatnonzero(length_now > 0.0).tolist():
        if every[k].is_ring:
            continue
        number[k] = len(kept)
        if length_now[k] >= before[k] * (1.0 - _ROUNDING):
            kept.append(every[k])
        else:
            pieces = _pieces(patch, own, k)
            lost.append((k, len(kept), pieces))
            kept += [replace(every[k], points=vertices[piece], closed=False) for piece in pieces]
    edge_lines = number[own]
    for k, first, pieces in lost:
        _number_pieces(patch, edge_lines, np.flatnonzero(own.ravel() == k), first, pieces)
    return _with_joins(patch, kept, edge_lines, joins, meeting)


def _lengths(vertices: Floats, triangles: Ints, lines: Ints, mates: Ints, count: int) -> Floats:
    """Plan length of the edges of each line."""
    half = np.flatnonzero((lines.ravel() >= 0) & ((mates < 0) | (np.arange(len(mates)) < mates)))
    flat = triangles.ravel()
    start, end = vertices[flat[half], :2], vertices[flat[half - half % 3 + (half + 1) % 3], :2]
    sums = np.bincount(lines.ravel()[half], np.hypot(*(end - start).T), minlength=count)[:count]
    return np.asarray(sums, np.float64)


def _pieces(patch: Patch, own: Ints, line: int) -> list[list[int]]:
    """The edges that a line still has, end to end, as vertex numbers."""
    half: Indices = np.flatnonzero(own.ravel() == line)
    tails, heads = patch.ends(half)
    beside: dict[int, set[int]] = {}
    for a, b in zip(tails.tolist(), heads.tolist(), strict=True):
        beside.setdefault(a, set()).add(b)
        beside.setdefault(b, set()).add(a)
    paths = []
    while beside:
        ends = [v for v, others in beside.items() if len(others) == 1]
        path = [min(ends) if ends else min(beside)]
        while beside.get(path[-1]):
            here = path[-1]
            there = min(beside[here])
            for a, b in ((here, there), (there, here)):
                beside[a].discard(b)
                if not beside[a]:
                    del beside[a]
            path.append(there)
        paths.append(path)
    return paths


def _number_pieces(patch: Patch, edge_lines: Ints, half: Indices, first: int, pieces: list[list[int]]) -> None:
    """Write which piece each edge of a line is of."""
    of_edge = {edge: first + k for k, piece in enumerate(pieces) for edge in pairwise(piece)}
    flat = edge_lines.ravel()
    for h, a, b in zip(half.tolist(), *(each.tolist() for each in patch.ends(half)), strict=True):
        flat[h] = of_edge.get((a, b), of_edge.get((b, a), NOWHERE))
    edge_lines[:] = flat.reshape(edge_lines.shape)


def _with_joins(
    patch: Patch, kept: list[SourceLine], edge_lines: Ints, joins: Sequence[SourceLine], meeting: Meeting
) -> tuple[tuple[SourceLine, ...], Ints]:
    pairs, of_pair = np.unique(meeting.surfaces, axis=0, return_inverse=True)
    if not len(pairs):
        return tuple(kept), edge_lines
    count = len(patch.vertices)
    edges = np.concatenate((meeting.newer, meeting.older)).astype(np.int64)
    keys = np.minimum(edges[:, 0], edges[:, 1]) * count + np.maximum(edges[:, 0], edges[:, 1])
    order = np.argsort(keys, kind="stable")
    keys, owner = keys[order], np.concatenate((of_pair.ravel(), of_pair.ravel()))[order]
    is_near = np.zeros(count, np.bool_)
    is_near[edges] = True
    near = np.flatnonzero(is_near[patch.triangles].sum(axis=1) > 1)
    corners = patch.triangles[near].astype(np.int64)
    after = np.roll(corners, -1, axis=1)
    asked = np.minimum(corners, after) * count + np.maximum(corners, after)
    at = np.minimum(np.searchsorted(keys, asked), len(keys) - 1)
    met = (keys[at] == asked) & (edge_lines[near] < 0)
    edge_lines[near] = np.where(met, len(kept) + owner[at], edge_lines[near])
    return (*kept, *joins), edge_lines
