"""Rules about how sources were read; what they tell came up while the sources were opened."""

from __future__ import annotations

from collections.abc import Iterator

from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import Check, rule

_LOOKS_FOR = {
    "units-differ": "headers and reference systems that name other units than the site's",
    "height-from-text": "points at zero that took their heights from texts beside them",
    "text-disagrees": "points whose heights differ from the texts beside them",
    "height-missing": "points at zero without a text that gives their height",
    "text-left-alone": "texts that give heights, without a point beside them",
    "doubled-edges": "loose edges that repeat another",
    "upright-edges": "loose edges without length in plan",
    "crossing-edges": "loose edges that cross or lie on another",
    "dangling-edges": "loose edges that end where no other does",
    "open-face": "openings between loose edges that are no triangles",
    "unlike-ends": "ends of loose edges that meet at different heights",
    "near-miss": "ends of loose edges that miss another narrowly",
    "sources-degrees": "sources in degrees of longitude and latitude",
    "sources-exchanged": "sources with northing and easting exchanged",
    "sources-feet-beside-metres": "sources in feet beside others in metres",
    "sources-heights-in-feet": "sources whose heights are in feet beside others in metres",
    "sources-apart": "sources that do not overlap",
    "cut-does-not-fit": "cuts and walls whose line is not there",
    "contour-without-level": "bare contours that got no level, or two",
    "near-duplicates": "points within a distance of each other that gave way",
    "bust-left-out": "shots left out because of their heights",
    "along-no-effect": "alignments along which there was nothing to turn",
    "boundary-cleaned": "boundaries with repeated vertices, spikes, or sides that meet",
    "leave-out-unmet": "single shots to leave out that are not there",
    "surface-changed": "surfaces some of whose triangles could not be kept as given",
}


def _passed_on(code: str) -> Check:
    def check(evidence: Evidence) -> Iterator[Finding]:
        return (finding for finding in evidence.noted if finding.code == code)

    check.__doc__ = f"Pass on what opening the sources brought up about {_LOOKS_FOR[code]}."
    return check


for _code, _what in _LOOKS_FOR.items():
    rule(_code, _what)(_passed_on(_code))
