"""Findings about loose edges: those in no triangle, and openings that stay open."""

from __future__ import annotations

import numpy as np
import scipy

from evrin.base.wording import counted
from evrin.check import LISTED, Finding, Rule, rule
from evrin.check.fixes import rounded_up
from evrin.kernels import Floats, Indices
from evrin.making.recovering import Recovered
from evrin.surface.provenance import Shots

_MOST = LISTED
DOUBLED_EDGES = rule("doubled-edges", "loose edges that repeat another", "note")
UPRIGHT_EDGES = rule("upright-edges", "loose edges without length in plan", "warning")
CROSSING_EDGES = rule(
    "crossing-edges", "loose edges that cross or lie on another", "warning", fix="draw one of them again"
)
DANGLING_EDGES = rule(
    "dangling-edges", "loose edges that end where no other does", "warning", fix="join it, or leave it"
)
OPEN_FACE = rule(
    "open-face",
    "openings between loose edges that are not triangles",
    "warning",
    fix="draw the missing edges, or accept it if it is a hole",
)
NEAR_MISS = rule(
    "near-miss",
    "ends of loose edges that miss another narrowly",
    "warning",
    fix="state snap = 0.01, or as far as they are apart, to join them",
)
UNSET_EDGES = rule(
    "unset-edges",
    "loose edges with an end at a height that was never set, such as zero",
    "warning",
    fix="draw them at their heights, or leave them out",
)
UNLIKE_ENDS = rule(
    "unlike-ends", "ends of loose edges that meet at different heights", "warning", fix="draw them to one height"
)


def about_edges(name: str, edges: Floats, shots: Shots, recovered: Recovered) -> list[Finding]:
    """Report every loose edge that is in no triangle, and every opening."""
    out: list[Finding] = []
    for each, rows, what in (
        (DOUBLED_EDGES, recovered.doubled, "repeats another edge; it was used once"),
        (UPRIGHT_EDGES, recovered.upright, "has no length in plan; it bounds no triangle"),
        (CROSSING_EDGES, recovered.crossing, "crosses or lies on another; neither was used"),
        (DANGLING_EDGES, recovered.dangling, "ends where no other does; it bounds no triangle"),
    ):
        out += _edge_findings(each, name, edges, shots, rows, what)
    for ring in recovered.gaps[:_MOST]:
        x, y = ring[:, :2].mean(axis=0)
        what = f"{counted(len(ring), 'edge')} bound an opening, which stays open ({name})"
        if len(ring) == 3:
            what = f"three edges bound an opening with something inside, which stays open ({name})"
        out.append(OPEN_FACE.finding((float(x), float(y)), what))
    if len(recovered.gaps) > _MOST:
        more = counted(len(recovered.gaps) - _MOST, "more opening")
        out.append(OPEN_FACE.finding(None, f"{more} of {name} stay open", fix="see them on a map"))
    if len(recovered.nearly):
        x, y = recovered.nearly[0, :2]
        ends = counted(len(recovered.nearly), "end misses", "ends miss")
        apart = _farthest_miss(edges, recovered.nearly)
        fix = f"state snap = {rounded_up(apart)} for the source to join them" if apart > 0.0 else None
        out.append(NEAR_MISS.finding((float(x), float(y)), f"{ends} another narrowly", (name,), fix=fix))
    for x, y, z in recovered.unlike[:_MOST].tolist():
        what = f"edges meet here at different heights; that of most of them is used, {z:.3f} ({name})"
        out.append(UNLIKE_ENDS.finding((x, y), what))
    if len(recovered.unlike) > _MOST:
        more = f"edges of {name} meet at different heights at {counted(len(recovered.unlike) - _MOST, 'more place')}"
        out.append(UNLIKE_ENDS.finding(None, more))
    return out


def about_unset_edges(name: str, edges: Floats, shots: Shots, rows: Indices) -> list[Finding]:
    """Report edges that were left out, since one of their ends has no height."""
    what = "has an end at a height that was never set; it was not used"
    return _edge_findings(UNSET_EDGES, name, edges, shots, rows, what)


def _farthest_miss(edges: Floats, nearly: Floats) -> float:
    """The largest distance from an end that misses another to that other."""
    ends = np.unique(edges.reshape(-1, 3)[:, :2], axis=0)
    distances = np.asarray(scipy.spatial.cKDTree(ends).query(nearly[:, :2], k=2)[0])
    return float(distances[np.isfinite(distances)].max(initial=0.0))


def _edge_findings(each: Rule, name: str, edges: Floats, shots: Shots, rows: Indices, what: str) -> list[Finding]:
    out = []
    for row in rows[:_MOST].tolist():
        x, y = edges[row, :, :2].mean(axis=0)
        out.append(each.finding((float(x), float(y)), f"an edge {what}", (shots.describe(row),)))
    if len(rows) > _MOST:
        out.append(each.finding(None, f"{counted(len(rows) - _MOST, 'more edge')} of {name} of the same kind"))
    return out
