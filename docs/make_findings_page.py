"""Write docs/findings.md from the registry of rules."""

from pathlib import Path

from evrin.check import RULES


def page() -> str:
    """Return the page: a row a rule."""
    rows = [
        f"| `{rule.code}` | {rule.severity} | {rule.looks_for} | {rule.fix} |"
        for rule in sorted(RULES.values(), key=lambda rule: rule.code)
    ]
    head = [
        "# What the checks look for",
        "",
        "Each finding has a place, the shots concerned, a way to mend it and, where that is a matter of a table, the",
        "table itself: `evrin check RECIPE --fixes` prints all of them, to be added to the recipe. Errors and warnings",
        "stay open until they are mended or accepted in the recipe with a reason; notes leave nothing open.",
        "The severity is the gravest that a rule gives. A check that builds on what the sources brought up tells its",
        "mend in the finding itself.",
        "This page is made from the rules themselves by `docs/make_findings_page.py`.",
        "",
        "| code | severity | looks for | mend |",
        "|---|---|---|---|",
    ]
    return "\n".join([*head, *rows]) + "\n"


if __name__ == "__main__":
    (Path(__file__).parent / "findings.md").write_text(page(), encoding="utf-8")
