"""What looks wrong: small rules, each with a code, that turn evidence into findings."""

# isort: off  (these register the rules)
from evrin.check import rules_checkpoints, rules_contours, rules_ground, rules_lines, rules_shots, rules_sources
from evrin.check.evidence import Acceptance, Evidence, Finding, RingGap, Unfit
from evrin.check.registry import RULES, Rule, find

# isort: on

__all__ = [
    "RULES",
    "Acceptance",
    "Evidence",
    "Finding",
    "RingGap",
    "Rule",
    "Unfit",
    "find",
    "rules_checkpoints",
    "rules_contours",
    "rules_ground",
    "rules_lines",
    "rules_shots",
    "rules_sources",
]
