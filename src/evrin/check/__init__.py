"""What looks wrong: small rules, each with a code, that turn evidence into findings."""

from evrin.check.evidence import Acceptance, Evidence, Finding, RingGap, Unfit
from evrin.check.registry import RULES, Rule, find

from evrin.check import rules_ground, rules_lines, rules_shots, rules_sources  # isort: skip  (registers the rules)

__all__ = [
    "RULES",
    "Acceptance",
    "Evidence",
    "Finding",
    "RingGap",
    "Rule",
    "Unfit",
    "find",
    "rules_ground",
    "rules_lines",
    "rules_shots",
    "rules_sources",
]
