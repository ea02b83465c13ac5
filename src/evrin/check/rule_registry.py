"""The rules by code: what each looks for, how grave it is, how it is fixed; and running them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from functools import lru_cache

from evrin.base.errors import DataError
from evrin.base.progress import Parts
from evrin.check.evidence import Acceptance, Evidence, Finding, Severity
from evrin.check.fixes import Place

Check = Callable[[Evidence], Iterator[Finding]]


@dataclass(eq=False)
class Rule:
    """A rule. Every finding of its code is made by it.

    Attributes
    ----------
    code : str
        What findings, messages and `[[accept]]` call it.
    looks_for : str
        In one line.
    severities : tuple of {"error", "warning", "note"}
        What its findings can be, the usual one first.
    fix : str
        The usual way to fix it.
    check : callable or None
        Finds it in the evidence; None for what comes up while a recipe is built.

    Examples
    --------
    >>> from evrin.check import RULES
    >>> RULES["close-shots"].severities
    ('warning', 'note')
    """

    code: str
    looks_for: str
    severities: tuple[Severity, ...]
    fix: str = ""
    check: Check | None = field(default=None, repr=False)

    def finds(self, check: Check) -> Check:
        """Make a function this rule's check.

        Parameters
        ----------
        check : callable
            Takes `Evidence` and yields findings of this rule.

        Returns
        -------
        callable
            The same.
        """
        self.check = check
        return check

    def finding(
        self,
        place: Place | None,
        message: str,
        shots: tuple[str, ...] = (),
        *,
        severity: Severity | None = None,
        fix: str | None = None,
        snippet: str = "",
    ) -> Finding:
        """Return a finding of this rule.

        Parameters
        ----------
        place : (easting, northing) or None
            Where it is, if it is at one place.
        message : str
            What is wrong, with figures.
        shots : tuple of str
            The shots it rests on.
        severity : Severity, optional
            One of the rule's own; its first where None.
        fix : str, optional
            The rule's own where None.
        snippet : str
            A table for the recipe that fixes it.

        Returns
        -------
        Finding

        Raises
        ------
        ValueError
            For a severity that the rule does not declare.
        """
        grave = severity or self.severities[0]
        if grave not in self.severities:
            raise ValueError(f"{self.code} declares no severity {grave!r}")
        return Finding(
            code=self.code,
            severity=grave,
            place=place,
            message=message,
            shots=shots,
            fix=self.fix if fix is None else fix,
            snippet=snippet,
        )


RULES: dict[str, Rule] = {}
_SHARED = ("mates", "gradients", "side_lengths", "triangle_areas")
_NAMED = 6
_ORDER = {"error": 0, "warning": 1, "note": 2}


def rule(code: str, looks_for: str, *severities: Severity, fix: str = "") -> Rule:
    """Declare a rule under a code that no other has.

    Parameters
    ----------
    code : str
        What findings, messages and `[[accept]]` call it.
    looks_for : str
        What it looks for, in words.
    fix : str
        How a finding is usually fixed.
    *severities : Severity
        Those its findings may have, the usual one first.

    Returns
    -------
    Rule

    Raises
    ------
    ValueError
        For a code that is declared already.

    Examples
    --------
    >>> from evrin.check import RULES, rule
    >>> rule("too-green", "grass that is too green", "note").code
    'too-green'
    >>> del RULES["too-green"]
    """
    if code in RULES:
        raise ValueError(f"two rules are called {code!r}")
    RULES[code] = Rule(code, looks_for, severities or ("warning",), fix)
    return RULES[code]


def check_codes(codes: Sequence[str]) -> None:
    """Refuse codes that no rule has.

    Parameters
    ----------
    codes : sequence of str
        Codes that somebody wrote.

    Raises
    ------
    DataError
        With the nearest that there are.

    Examples
    --------
    >>> from evrin.check.rule_registry import check_codes
    >>> check_codes(["hollow"])
    """
    for code in codes:
        if code not in RULES:
            near = _nearest(code)
            meant = f"Did you mean {' or '.join(near)}?" if near else "evrin check prints those that there are"
            raise DataError(f"no finding has the code {code!r}. {meant}")


@lru_cache(maxsize=256)
def _nearest(code: str) -> list[str]:
    return get_close_matches(code, RULES, 3, 0.5)


def meant_finding(findings: Sequence[Finding], code: str, place: Place | None, reach: float) -> Finding:
    """Return the finding that an acceptance means.

    Parameters
    ----------
    findings : sequence of Finding
        Findings of a build.
    code : str
        The code that is accepted.
    place : (easting, northing), optional
        Needed where several findings have the code.
    reach : float
        How near it must be to the place.

    Returns
    -------
    Finding

    Raises
    ------
    DataError
        Where there is none, or more than one.

    Examples
    --------
    >>> from evrin.check import RULES
    >>> found = RULES["hollow"].finding((10.0, 20.0), "water collects 0.30 m deep")
    >>> meant_finding([found], "hollow", None, 1.0).place
    (10.0, 20.0)
    """
    check_codes([code])
    named = [finding for finding in findings if finding.code == code]
    if not named:
        raise DataError(f"nothing to accept: this recipe has no finding {code} now")
    if place is None:
        if len(named) > 1:
            raise DataError(
                f"{len(named):,} findings have the code {code}: give --at E,N. They are at {_places(named)}"
            )
        return named[0]
    distances = [math.dist(finding.place, place) if finding.place is not None else math.inf for finding in named]
    nearest = min(range(len(named)), key=distances.__getitem__)
    if distances[nearest] > reach:
        raise DataError(f"no finding {code} within {reach:g} of {place[0]:.2f}, {place[1]:.2f}: {_places(named)}")
    return named[nearest]


def _places(named: Sequence[Finding]) -> str:
    shown = [f"{each.place[0]:.2f},{each.place[1]:.2f}" if each.place else "no place" for each in named[:_NAMED]]
    return "; ".join(shown) + (f" and {len(named) - _NAMED:,} more" if len(named) > _NAMED else "")


UNMET_ACCEPTANCE = rule(
    "unmet-acceptance", "acceptances that meet no finding any more", "note", fix="drop the acceptance"
)


def find(evidence: Evidence, acceptances: Sequence[Acceptance] = ()) -> list[Finding]:
    """Run every rule, and add what came up while the recipe was built.

    Parameters
    ----------
    evidence : Evidence
        What the rules look at.
    acceptances : sequence of Acceptance
        Findings of the named code near the named place are accepted; an acceptance that meets none is a note.

    Returns
    -------
    list of Finding
        Errors first; within a severity by code and place.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> recipe = evrin.Recipe.read(small_site())
    >>> from evrin.check import find
    >>> len(find(recipe.evidence())) == len(recipe.build().findings)
    True
    """
    return accepted(run_rules(evidence), acceptances)


def run_rules(evidence: Evidence) -> list[Finding]:
    """Run every rule, and add what came up while the recipe was built; nothing is accepted yet.

    Parameters
    ----------
    evidence : Evidence
        What the rules look at.

    Returns
    -------
    list of Finding
    """
    checks = [each.check for each in RULES.values() if each.check is not None]
    rules_done = Parts(len(checks), "rules")

    def run(check: Check) -> list[Finding]:
        findings = list(check(evidence))
        rules_done.add(1)
        return findings

    # Loaded before the threads start, so that no rule is the first to import what another imports meanwhile.
    import scipy.sparse.csgraph
    import scipy.spatial  # noqa: F401

    with ThreadPoolExecutor(2) as pool:
        # What many of them need is made once, before they run side by side.
        list(pool.map(lambda name: getattr(evidence.surface, name), _SHARED))
        parts = pool.map(run, checks)
        return [*evidence.noted, *(finding for part in parts for finding in part)]


def accepted(findings: list[Finding], acceptances: Sequence[Acceptance]) -> list[Finding]:
    """Return findings in order, those that are accepted with the reason; an acceptance that meets none is a note.

    Parameters
    ----------
    findings : list of Finding
        Findings of a build.
    acceptances : sequence of Acceptance
        What the recipe accepts.

    Returns
    -------
    list of Finding
    """
    findings = list(findings)
    by_code: dict[str, list[int]] = {}
    for k, finding in enumerate(findings):
        by_code.setdefault(finding.code, []).append(k)
    for acceptance in acceptances:
        met = [k for k in by_code.get(acceptance.code, ()) if _meets(acceptance, findings[k])]
        for k in met:
            findings[k] = replace(findings[k], accepted=acceptance.why)
        if not met:
            what = f"accepts a {acceptance.code} here ({acceptance.why}), and there is none now"
            findings.append(UNMET_ACCEPTANCE.finding(acceptance.place, what))
    return sorted(findings, key=lambda f: (_ORDER[f.severity], f.code, f.place or (0.0, 0.0), f.message))


def _meets(acceptance: Acceptance, finding: Finding) -> bool:
    """Whether a finding of the code of an acceptance is at its place."""
    if finding.place is None or acceptance.place is None:
        return finding.place is acceptance.place
    east, north = (finding.place[k] - acceptance.place[k] for k in range(2))
    return east * east + north * north <= acceptance.reach**2
