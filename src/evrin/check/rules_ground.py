"""Rules about triangles: too long, too large, running across ridges, and hollows that hold water."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.analysis.drainage import hollows
from evrin.analysis.trust import too_large
from evrin.check import mends
from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule
from evrin.surface.doubtful import find_doubtful_edges
from evrin.surface.mend import level_triangles
from evrin.surface.parts import on_lines, triangle_parts
from evrin.survey.inventory import is_on_floor
from evrin.tin.types import Flags, Indices
from evrin.wording import counted

_MOST = 12
_MOST_REMOVED = 20
_MOST_ASKED = 2000
_HOLLOW = 0.2


@rule(
    "long-edges",
    "triangles with edges longer than the longest edge set",
    "warning",
    "shoot more ground there, cut it out with a boundary, or accept it",
)
def long_edges(evidence: Evidence) -> Iterator[Finding]:
    """Find, group by group, triangles left inside the surface that are larger than the data should allow."""
    if evidence.longest_edge is None:
        return
    surface = evidence.surface
    # A side of the rim or of a breakline is as long as its owner drew it.
    too_long = surface.side_lengths > evidence.longest_edge
    too_long &= (surface.edge_lines < 0) & (surface.mates.reshape(-1, 3) >= 0)
    large = np.unique(np.flatnonzero(too_long.ravel()) // 3)
    # An area held at one level is as wide as it is.
    large = large[~level_triangles(surface, "flat")[large]]
    if len(large) == 0:
        return
    for members in triangle_parts(surface, large):
        longest = np.where(too_long[members], surface.side_lengths[members], 0.0).max(axis=1)
        worst = int(members[np.argmax(longest)])
        middles = surface.vertices[surface.triangles[members], :2].mean(axis=1)
        x, y = surface.vertices[surface.triangles[worst], :2].mean(axis=0)
        several = counted(len(members), "triangle has", "neighbouring triangles have")
        removals = [
            mends.edit("remove", "too large for the shots round it", at=middle, hole=True)
            for middle in middles.tolist()
        ]
        yield Finding(
            "long-edges",
            "warning",
            (float(x), float(y)),
            f"{several} edges up to {longest.max():.2f} long, beyond the longest edge set ({evidence.longest_edge:g})",
            evidence.named(surface.triangles[worst].astype(np.int64)),
            "shoot more ground there, cut it out with a boundary, or accept it",
            "\n\n".join(removals) if len(removals) <= _MOST_REMOVED else "",
        )


@rule(
    "doubtful-edge",
    "edges across a ridge or a valley: every triangle round them speaks for the other diagonal",
    "warning",
    "flip it, or force the ridge or valley line that is missing",
)
def doubtful_edges(evidence: Evidence) -> Iterator[Finding]:
    """Find edges that the ground beyond all four sides contradicts; see `surface.doubtful.find_doubtful_edges`."""
    surface = evidence.surface
    found = find_doubtful_edges(surface)
    rows = zip(found.ends.tolist(), found.joins.tolist(), found.places.tolist(), found.changes.tolist(), strict=True)
    for number, (ends, joins, place, change) in enumerate(rows):
        if number == _MOST:
            what = f"{counted(len(found.changes) - _MOST, 'more edge is', 'more edges are')} in doubt"
            yield Finding("doubtful-edge", "warning", None, what, (), "mend the worst first, then look again")
            return
        shape, side = ("ridge", "lifts") if change > 0.0 else ("valley", "lowers")
        kept = [tuple(surface.vertices[v, :2].tolist()) for v in joins]
        yield Finding(
            "doubtful-edge",
            "warning",
            (place[0], place[1]),
            f"an edge runs across what looks like a {shape}: its flip {side} the ground there by {abs(change):.3f}, "
            "to where all triangles round it point",
            evidence.named([*ends, *joins]),
            "flip it, or force the ridge or valley line that is missing",
            mends.edit("flip", f"the {shape} runs the other way", at=place, joins=kept),
        )


@rule(
    "hollow",
    "hollows from which no water can leave, by at least 0.2 deep",
    "note",
    "look for a missing line, culvert or shot at the way out; ponds are none",
)
def standing_water(evidence: Evidence) -> Iterator[Finding]:
    """Tell the deepest hollows: ponds, culverts that are not drawn, and dams made by triangles across a ditch."""
    found = hollows(evidence.surface, _HOLLOW)
    # Those under a shot on the floor are told already.
    found = found[~is_on_floor(evidence.surface.vertices[:, 2])[found["vertex"]]]
    for row in found[:_MOST].to_dict(orient="records"):
        yield Finding(
            "hollow",
            "note",
            (row["easting"], row["northing"]),
            f"water stands {row['depth']:.2f} deep before it spills at {row['spill_easting']:.2f}, "
            f"{row['spill_northing']:.2f}, at {row['spill_height']:.2f}",
            evidence.named([int(row["vertex"])]),
            "look for a missing line, culvert or shot at the way out; a pond is no fault",
        )


def _is_told_elsewhere(evidence: Evidence, asked: Indices) -> Flags:
    """Tell which triangles reach a contour, between two of which they are as wide as these lie apart, or far away."""
    surface = evidence.surface
    spared = on_lines(surface, ("contour",))
    # So are those that mending put between contours.
    if surface.provenance is not None and spared.any():
        spared |= surface.provenance.shot_of < 0
    if evidence.box is not None:
        (west, south), (east, north) = evidence.box
        x, y = surface.vertices[:, 0], surface.vertices[:, 1]
        spared |= (x < west) | (x > east) | (y < south) | (y > north)
    return np.asarray(spared[surface.triangles[asked]].any(axis=1))


@rule(
    "large-triangle",
    "triangles far larger than those round them",
    "note",
    "shoot more ground there, or look at the trust map",
)
def large_triangles(evidence: Evidence) -> Iterator[Finding]:
    """Tell where triangles are too large for the spacing of the shots round them, the largest first."""
    surface = evidence.surface
    large = np.flatnonzero(too_large(surface, most=_MOST_ASKED))
    large = large[~_is_told_elsewhere(evidence, large)]
    parts = triangle_parts(surface, large)
    areas = [float(surface.triangle_areas[part].sum()) for part in parts]
    for k in np.argsort(-np.array(areas), kind="stable")[:_MOST].tolist():
        widest = int(parts[k][np.argmax(surface.triangle_areas[parts[k]])])
        x, y = surface.vertices[surface.triangles[widest], :2].mean(axis=0)
        several = counted(len(parts[k]), "triangle is", "triangles are")
        yield Finding(
            "large-triangle",
            "note",
            (float(x), float(y)),
            f"{several} far larger than those round about, {areas[k]:.1f} in area",
            evidence.named(surface.triangles[widest].astype(np.int64)),
            "shoot more ground there, or look at the trust map",
        )
