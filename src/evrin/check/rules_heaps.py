"""What makes the volume of a heap less sure than usual, as findings of a `[[volume]]` table."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from evrin.check.evidence import Finding
from evrin.check.fixes import Place
from evrin.check.rule_registry import rule

AT_EDGE = rule(
    "heap-at-edge",
    "heaps against a wall, another heap or the edge of the surface",
    "note",
    fix="look at its map; survey the ground beyond, or draw the toe",
)
TOUCHING = rule(
    "heaps-touch",
    "heaps that touch and lie within one toe",
    "note",
    fix="apart = true measures the one that the place is on; a toe that is drawn, as many as are meant",
)
TOE_UNSURE = rule(
    "heap-toe-unsure",
    "heaps whose toe might be laid elsewhere",
    "warning",
    fix="look at its map; draw the toe, or state a reach",
)
TOE_DRAWN = rule(
    "heap-toe-drawn",
    "toes that are drawn elsewhere than they are found",
    "warning",
    fix="look at its map; draw the toe on the ground beyond the foot of the heap",
)
_RULES = {"edge": AT_EDGE, "touching": TOUCHING, "other toe": TOE_UNSURE, "drawn": TOE_DRAWN}


def heap_findings(name: str, place: Place | None, doubts: Iterable[Sequence[str]]) -> list[Finding]:
    """Return what makes the volume of a heap less sure as findings.

    Examples
    --------
    >>> [found] = heap_findings("silt", (4.0, 2.0), [("touching", "2 heaps touch")])
    >>> found.code, found.message
    ('heaps-touch', 'silt: 2 heaps touch')
    """
    return [_RULES[kind].finding(place, f"{name}: {message}") for kind, message in doubts]
