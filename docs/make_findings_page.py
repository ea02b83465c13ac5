"""Write docs/findings.md from the registry of rules."""

from pathlib import Path

from evrin.check import RULES


def page() -> str:
    """Return the page: a row a rule."""
    rows = [f"| `{rule.code}` | {rule.looks_for} |" for rule in sorted(RULES.values(), key=lambda rule: rule.code)]
    head = [
        "# What the checks look for",
        "",
        "Each finding has a place, the shots concerned and a way to mend it. Errors and warnings stay open until they",
        "are mended or accepted in the recipe with a reason; notes leave nothing open.",
        "This page is made from the rules themselves by `docs/make_findings_page.py`.",
        "",
        "| code | looks for |",
        "|---|---|",
    ]
    return "\n".join([*head, *rows]) + "\n"


if __name__ == "__main__":
    (Path(__file__).parent / "findings.md").write_text(page(), encoding="utf-8")
