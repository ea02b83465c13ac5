"""The rules by code, and running them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

from evrin.check.evidence import Acceptance, Evidence, Finding, Severity

Check = Callable[[Evidence], Iterator[Finding]]


@dataclass(frozen=True)
class Rule:
    """A rule: its code, what it looks for in one line, the check, the gravest it gives, and how such is mended."""

    code: str
    looks_for: str
    check: Check
    severity: Severity = "warning"
    mend: str = ""


RULES: dict[str, Rule] = {}
_SHARED = ("mates", "gradients", "side_lengths", "triangle_areas")
_ORDER = {"error": 0, "warning": 1, "note": 2}


def rule(code: str, looks_for: str, severity: Severity = "warning", mend: str = "") -> Callable[[Check], Check]:
    """Register a check under a code that no other has."""

    def register(check: Check) -> Check:
        if code in RULES:
            raise ValueError(f"two rules are called {code!r}")
        RULES[code] = Rule(code, looks_for, check, severity, mend)
        return check

    return register


def find(evidence: Evidence, acceptances: Sequence[Acceptance] = ()) -> list[Finding]:
    """Run every rule.

    Parameters
    ----------
    evidence : Evidence
    acceptances : sequence of Acceptance
        Findings of the named code near the named place are accepted; an acceptance that meets none is told as a note.

    Returns
    -------
    list of Finding
        Errors first; within a severity by code and place.
    """
    with ThreadPoolExecutor(2) as pool:
        # What many of them need is made once, before they run side by side.
        list(pool.map(lambda name: getattr(evidence.surface, name), _SHARED))
        parts = pool.map(lambda each: list(each.check(evidence)), RULES.values())
        found = [finding for part in parts for finding in part]
    by_code: dict[str, list[int]] = {}
    for k, finding in enumerate(found):
        by_code.setdefault(finding.code, []).append(k)
    for acceptance in acceptances:
        met = [k for k in by_code.get(acceptance.code, ()) if _meets(acceptance, found[k])]
        for k in met:
            found[k] = replace(found[k], accepted=acceptance.why)
        if not met:
            found.append(
                Finding(
                    "unmet-acceptance",
                    "note",
                    acceptance.place,
                    f"accepts a {acceptance.code} here ({acceptance.why}), but there is none any more",
                    mend="drop the acceptance",
                )
            )
    return sorted(found, key=lambda f: (_ORDER[f.severity], f.code, f.place or (0.0, 0.0), f.message))


def _meets(acceptance: Acceptance, finding: Finding) -> bool:
    if finding.code != acceptance.code:
        return False
    if finding.place is None or acceptance.place is None:
        return finding.place is acceptance.place
    east, north = (finding.place[k] - acceptance.place[k] for k in range(2))
    return east * east + north * north <= acceptance.reach**2
