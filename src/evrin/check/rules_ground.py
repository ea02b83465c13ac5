"""Rules about triangles: too long, too large, running across ridges, and hollows that hold water."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import scipy

from evrin.analysis.quality.shot_distances import too_large
from evrin.analysis.terrain.drainage import hollow_vertices
from evrin.base.tolerances import HOLLOW_DEPTH
from evrin.base.wording import counted
from evrin.check import fixes
from evrin.check.evidence import LISTED, Evidence, Finding
from evrin.check.rule_registry import rule
from evrin.kernels import Flags, Indices
from evrin.surface.components import on_lines, triangle_parts
from evrin.surface.provenance import EXTRAPOLATED
from evrin.survey.doubts.doubtful_edges import find_doubtful_edges
from evrin.survey.doubts.level_triangles import level_triangles

_MOST_REMOVED = 20
_MOST_ASKED = 2000
_MUCH_EXTRAPOLATED = 0.25


LONG_EDGES = rule(
    "long-edges",
    "triangles with edges longer than the longest edge set",
    "warning",
    fix="shoot more ground there, cut it out with a boundary, or accept it",
)


@LONG_EDGES.finds
def long_edges(evidence: Evidence) -> Iterator[Finding]:
    """Find, group by group, triangles left inside the surface that are larger than the data should allow."""
    if evidence.longest_edge is None:
        return
    surface = evidence.surface
    # A side of the rim or of a breakline is as long as its owner drew it.
    too_long = surface.side_lengths > evidence.longest_edge
    too_long &= (surface.edge_lines < 0) & (surface.mates.reshape(-1, 3) >= 0)
    large = np.unique(np.flatnonzero(too_long.ravel()) // 3)
    # An area held at one level can be of any width.
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
            fixes.edit("remove", "too large for the shots around it", at=middle, hole=True)
            for middle in middles.tolist()
        ]
        yield LONG_EDGES.finding(
            (float(x), float(y)),
            f"{several} edges up to {evidence.length(longest.max(), 2)} long; the longest edge set is "
            f"{evidence.longest_edge:g} {surface.units}",
            evidence.named(surface.triangles[worst].astype(np.int64)),
            snippet="\n\n".join(removals) if len(removals) <= _MOST_REMOVED else "",
        )


DOUBTFUL_EDGE = rule(
    "doubtful-edge",
    "edges across a ridge or a valley: by every triangle around them the other diagonal fits better",
    "warning",
    fix="flip it, or force the ridge or valley line that is missing",
)


@DOUBTFUL_EDGE.finds
def doubtful_edges(evidence: Evidence) -> Iterator[Finding]:
    """Find edges that the ground beyond all four sides contradicts; see `surface.doubtful.find_doubtful_edges`."""
    surface = evidence.surface
    edges = find_doubtful_edges(surface)
    rows = zip(edges.ends.tolist(), edges.joins.tolist(), edges.places.tolist(), edges.changes.tolist(), strict=True)
    for number, (ends, joins, place, change) in enumerate(rows):
        if number == LISTED:
            what = f"{counted(len(edges.changes) - LISTED, 'more edge is', 'more edges are')} in doubt"
            yield DOUBTFUL_EDGE.finding(None, what, fix="fix the worst first, then check again")
            return
        shape, side = ("ridge", "lifts") if change > 0.0 else ("valley", "lowers")
        kept = [tuple(surface.vertices[v, :2].tolist()) for v in joins]
        yield DOUBTFUL_EDGE.finding(
            (place[0], place[1]),
            f"an edge runs across what looks like a {shape}: its flip {side} the ground there by "
            f"{evidence.length(abs(change))}, to the height that all triangles around it give",
            evidence.named([*ends, *joins]),
            snippet=fixes.edit("flip", f"the {shape} runs the other way", at=place, joins=kept),
        )


HOLLOW = rule(
    "hollow",
    "hollows at least 0.2 m deep from which no water can drain",
    "note",
    fix="look for a missing line, culvert or shot where the water should leave; a pond is not a fault",
)


@HOLLOW.finds
def standing_water(evidence: Evidence) -> Iterator[Finding]:
    """Report the deepest hollows: ponds, culverts that are not drawn, and dams made by triangles across a ditch."""
    surface = evidence.surface
    floors, spills = hollow_vertices(surface, HOLLOW_DEPTH.in_units(surface.units))
    # Those under a shot whose height was never set are reported already.
    asked = np.flatnonzero(~evidence.is_unset_vertex[floors])[:LISTED]
    for floor, spill in zip(floors[asked].tolist(), spills[asked].tolist(), strict=True):
        (x, y, z), (east, north, height) = surface.vertices[[floor, spill]].tolist()
        yield HOLLOW.finding(
            (x, y),
            f"water collects {evidence.length(height - z, 2)} deep before it spills at {east:.2f}, {north:.2f}, height "
            f"{height:.2f}",
            evidence.named([floor]),
        )


def _is_reported_elsewhere(evidence: Evidence, asked: Indices) -> Flags:
    """Return which triangles reach a contour, between two of which they are as wide as these lie apart, or far away."""
    surface = evidence.surface
    spared = on_lines(surface, ("contour",))
    # So are those added between contours.
    if surface.provenance is not None and spared.any():
        spared |= surface.provenance.shot_of < 0
    if evidence.box is not None:
        (west, south), (east, north) = evidence.box
        x, y = surface.vertices[:, 0], surface.vertices[:, 1]
        spared |= (x < west) | (x > east) | (y < south) | (y > north)
    return np.asarray(spared[surface.triangles[asked]].any(axis=1))


EXTRAPOLATED_GROUND = rule(
    "extrapolated-ground",
    "ground beyond the data, extrapolated to a boundary",
    "note",
    "warning",
    fix="draw the boundary nearer to the data, limit its reach, as in reach = 15.0, or survey the ground there",
)


@EXTRAPOLATED_GROUND.finds
def extrapolated_ground(evidence: Evidence) -> Iterator[Finding]:
    """Report how much of the surface is extrapolated and how far; a warning from a quarter of the surface on."""
    surface = evidence.surface
    origin = surface.provenance
    if origin is None:
        return
    is_added = np.zeros(len(surface.vertices), np.bool_)
    is_added[[vertex for vertex, what in origin.made.items() if what.startswith(EXTRAPOLATED)]] = True
    if not is_added.any() or is_added.all():
        return
    beyond = is_added[surface.triangles].any(axis=1)
    area = float(surface.triangle_areas[beyond].sum())
    tree = scipy.spatial.cKDTree(surface.vertices[~is_added, :2])
    distances = np.asarray(tree.query(surface.vertices[is_added, :2])[0])
    worst = int(np.argmax(distances))
    x, y = surface.vertices[is_added][worst, :2].tolist()
    share = area / surface.plan_area
    yield EXTRAPOLATED_GROUND.finding(
        (x, y),
        f"{evidence.length(area, 1)}² of the surface ({100.0 * share:.1f} %) are extrapolated, up to "
        f"{evidence.length(float(distances[worst]), 2)} beyond the nearest vertex; at each place the ground goes on at "
        "the slope that it has within twice the distance from the rim",
        severity="warning" if share > _MUCH_EXTRAPOLATED else "note",
        fix="draw the boundary nearer to the data, limit its reach, as in reach = "
        f"{0.5 * float(distances[worst]):.3g}, or survey the ground there",
    )


LARGE_TRIANGLE = rule(
    "large-triangle",
    "triangles far larger than those around them",
    "note",
    fix="shoot more ground there, or look at the trust map",
)


@LARGE_TRIANGLE.finds
def large_triangles(evidence: Evidence) -> Iterator[Finding]:
    """Report where triangles are too large for the spacing of the shots around them, the largest first."""
    surface = evidence.surface
    large = np.flatnonzero(too_large(surface, most=_MOST_ASKED))
    if not len(large):
        return
    large = large[~_is_reported_elsewhere(evidence, large) & ~level_triangles(surface, "flat")[large]]
    parts = triangle_parts(surface, large)
    areas = [float(surface.triangle_areas[part].sum()) for part in parts]
    for k in np.argsort(-np.array(areas), kind="stable")[:LISTED].tolist():
        widest = int(parts[k][np.argmax(surface.triangle_areas[parts[k]])])
        x, y = surface.vertices[surface.triangles[widest], :2].mean(axis=0)
        several = counted(len(parts[k]), "triangle is", "triangles are")
        yield LARGE_TRIANGLE.finding(
            (float(x), float(y)),
            f"{several} far larger than those around, {evidence.length(areas[k], 1)}² in area",
            evidence.named(surface.triangles[widest].astype(np.int64)),
        )
