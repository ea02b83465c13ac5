"""Patches cut, and put together: what is near the cut is arranged in one triangulation, all else stays as it is."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from evrin.kernels import Flags, Floats, Indices
from evrin.making.patches.arranging import NOWHERE, Arranged, ArrangedPart, arranged, with_heights
from evrin.making.patches.patches import Patch, merged, used_in
from evrin.tin.overlay.along_segments import as_segments, met_by


@dataclass(frozen=True, eq=False)
class Settled:
    """One or two patches, of which some triangles were arranged together.

    Attributes
    ----------
    rest : Patch
        The triangles that were not.
    divided : Patch
        Those that were, of the same vertices.
    of_first : (t,) bool
        Which of the divided ones the first patch covers.
    is_cut : (t,) bool
        Which of them lie inside the rings that cut.
    """

    rest: Patch
    divided: Patch
    of_first: Flags
    is_cut: Flags

    def whole(self, kept: Flags | None = None) -> Patch:
        """Return everything as one patch, or of what was divided only some."""
        divided = self.divided if kept is None else self.divided.only(kept)
        rest = self.rest
        return replace(
            divided,
            triangles=np.concatenate((rest.triangles, divided.triangles)),
            edge_lines=np.concatenate((rest.edge_lines, divided.edge_lines)),
            surface_of=np.concatenate((rest.surface_of, divided.surface_of)),
        )


def settled(
    patches: list[Patch],
    met: list[Flags],
    cut: Floats | None = None,
    along: Floats | None = None,
    *,
    first_as_it_is: bool = True,
) -> Settled:
    """Arrange some triangles of one or two patches in one triangulation.

    Parameters
    ----------
    patches : list of Patch
        Where both are, the first counts.
    met : list of (m,) bool
        Which triangles of each; more where an edge between them and the rest has a vertex on it.
    cut, along, first_as_it_is
        See `arranging.arranged`.
    """
    met = [flags.copy() for flags in met]
    while True:
        triangles = [np.flatnonzero(flags) for flags in met]
        used = [
            used_in(patch.triangles[rows], len(patch.vertices)) for patch, rows in zip(patches, triangles, strict=True)
        ]
        parts = [
            ArrangedPart(
                np.ascontiguousarray(patch.vertices[mine]),
                np.searchsorted(mine, patch.triangles[rows]).astype(np.int32),
                patch.edge_lines[rows],
            )
            for patch, rows, mine in zip(patches, triangles, used, strict=True)
        ]
        arrangement = arranged(parts, patches[0].snap, cut, along, first_as_it_is=first_as_it_is)
        if not _reach_further(patches, met, used, arrangement):
            return _put_back(patches, met, triangles, used, parts, arrangement)


def _reach_further(patches: list[Patch], met: list[Flags], used: list[Indices], arrangement: Arranged) -> bool:
    """Mark the triangles beyond edges at the border that were divided or led elsewhere; whether there are any."""
    count = len(arrangement.xy)
    further = False
    for patch, flags, mine, numbers, covers in zip(
        patches, met, used, arrangement.numbers, arrangement.covers, strict=True
    ):
        triangles = arrangement.triangles[covers].astype(np.int64)
        edges = triangles * count + np.roll(triangles, -1, axis=1)
        half = np.flatnonzero(np.repeat(flags, 3) & (patch.mates >= 0))
        half = half[~flags[patch.mates[half] // 3]]
        tail, head = (numbers[np.searchsorted(mine, each)].astype(np.int64) for each in patch.ends(half))
        holds = np.isin(tail * count + head, edges) & ~np.isin(head * count + tail, edges)
        flags[patch.mates[half[~holds]] // 3] = True
        further |= not bool(holds.all())
    return further


def _put_back(
    patches: list[Patch],
    met: list[Flags],
    triangles: list[Indices],
    used: list[Indices],
    parts: list[ArrangedPart],
    arrangement: Arranged,
) -> Settled:
    joint = merged(patches) if len(patches) > 1 else patches[0]
    rows = np.concatenate([part.rows for part in parts])
    starts = np.cumsum([0, *(len(part.rows) for part in parts)])
    local = np.concatenate([part.triangles + np.int32(k) for part, k in zip(parts, starts, strict=False)])
    numbers = np.concatenate(arrangement.numbers)
    covered = np.any(arrangement.covers, axis=0)
    of_first = arrangement.covers[0][covered]
    parent = arrangement.parents[0][covered]
    if len(parts) > 1:
        parent = np.where(of_first, parent, arrangement.parents[1][covered] + len(parts[0].triangles))
    placed = arrangement.triangles[covered]
    corners = with_heights(rows, local, parent, numbers, placed, arrangement.xy, patches[0].snap)
    shifts = np.cumsum([0, *(len(patch.vertices) for patch in patches)])
    every = np.concatenate([mine + shift for mine, shift in zip(used, shifts, strict=False)])
    number_of = np.concatenate((every, len(joint.vertices) + np.arange(len(corners.made))))
    vertices = np.concatenate((joint.vertices, corners.made))
    vertices[every, :2] = arrangement.xy[numbers]
    becomes = np.arange(len(joint.vertices))
    becomes[every] = every[corners.becomes]
    surface_of = np.concatenate([patch.surface_of[k] for patch, k in zip(patches, triangles, strict=True)])
    whole = np.concatenate(met)
    rest = replace(
        joint,
        vertices=vertices,
        triangles=becomes[joint.triangles[~whole]].astype(np.int32),
        edge_lines=joint.edge_lines[~whole],
        surface_of=joint.surface_of[~whole],
        row_of=np.concatenate((joint.row_of, np.full(len(corners.made), NOWHERE))),
    )
    divided = replace(
        rest,
        triangles=number_of[corners.triangles].astype(np.int32),
        edge_lines=arrangement.lines[covered],
        surface_of=surface_of[parent],
    )
    return Settled(rest, divided, of_first, arrangement.is_cut[covered])


def near_segments(patch: Patch, segments: Floats) -> Flags:
    """Return which triangles of a patch come so near to segments that a cut along these may divide them."""
    return met_by(patch.layer, segments, 4.0 * patch.snap)


def cut_along(patch: Patch, segments: Floats) -> Patch:
    """Return a patch whose triangles are cut along segments (s, 4), its ground unchanged.

    Only triangles that a segment touches are divided; their parts come last. New vertices lie on the triangles that
    they divide.
    """
    if not len(segments) or not len(patch.triangles):
        return patch
    met = near_segments(patch, segments)
    return settled([patch], [met], along=segments).whole() if met.any() else patch


def without(under: Patch, over: Patch) -> Patch:
    """Return the part of a patch where another is not, cut along its rim."""
    rim = as_segments(over.vertices, over.rim())
    met = near_segments(under, rim)
    middles = under.middles
    low, high = bounds(over)
    near = np.flatnonzero(((middles >= low) & (middles <= high)).all(axis=1) & ~met)
    covered = np.zeros(len(under.triangles), np.bool_)
    covered[near] = over.locator.triangles_at(np.ascontiguousarray(middles[near])) >= 0
    if not met.any():
        return under.only(~covered)
    patch = settled([under.only(~covered)], [met[~covered]], cut=rim)
    return patch.whole(~patch.is_cut)


def joined(over: Patch, beside: Patch, rim: Floats) -> Patch:
    """Return two patches as one that meet along the rim (s, 4) of the first, which counts where both are."""
    if not len(beside.triangles):
        return merged((beside, over))
    met = [near_segments(over, rim), near_segments(beside, rim)]
    if not met[0].any() or not met[1].any():
        return merged((beside, over))
    whole = settled([over, beside], met).whole()
    # The vertices of what lies beside come first, as they do where two patches are put together.
    first, second = len(over.vertices), len(beside.vertices)
    order = np.concatenate(
        (np.arange(first, first + second), np.arange(first), np.arange(first + second, len(whole.vertices)))
    )
    number = np.empty(len(order), np.int32)
    number[order] = np.arange(len(order), dtype=np.int32)
    return replace(whole, vertices=whole.vertices[order], triangles=number[whole.triangles], row_of=whole.row_of[order])


def bounds(patch: Patch) -> tuple[Floats, Floats]:
    """Return the south-western and the north-eastern corner of a patch."""
    box = patch.locator.boxes[-1]
    return box[:2], box[2:]


def may_meet(segments: Floats, low: Floats, high: Floats) -> Flags:
    """Return which segments (s, 4) come near to a box."""
    west, east = np.minimum(segments[:, 0], segments[:, 2]), np.maximum(segments[:, 0], segments[:, 2])
    south, north = np.minimum(segments[:, 1], segments[:, 3]), np.maximum(segments[:, 1], segments[:, 3])
    meets: Flags = (east >= low[0]) & (west <= high[0]) & (north >= low[1]) & (south <= high[1])
    return meets
