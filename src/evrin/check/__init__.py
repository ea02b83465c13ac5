"""What looks wrong: rules, each declared once under a code, that turn evidence into findings."""

from evrin.base.discovery import load_modules
from evrin.check.evidence import LISTED, Acceptance, Evidence, Finding, RingGap, Severity, Unfit
from evrin.check.fix_list import fix_tables
from evrin.check.rule_registry import RULES, Rule, find, rule

load_modules(__name__, "rules_")

__all__ = [
    "LISTED",
    "RULES",
    "Acceptance",
    "Evidence",
    "Finding",
    "RingGap",
    "Rule",
    "Severity",
    "Unfit",
    "find",
    "fix_tables",
    "rule",
]
