"""Write docs/findings.md from the rules."""

from pathlib import Path

import evrin.recipe.build
import evrin.recipe.building.schema
from evrin.check import RULES

# Rules are declared where they are found: some by checks, some by steps of a build.
evrin.recipe.building.schema.tables_model()
HEAD = """\
# What the checks look for

Each finding has a place, the shots concerned, a suggested fix and, where a table can fix it, the table itself:
`evrin check RECIPE --fixes` prints all of them, to be added to the recipe. Errors and warnings stay open until they are
fixed, or accepted in the recipe with a reason; notes leave nothing open. The usual severity comes first. This page is
made from the rules themselves by `docs/make_findings_page.py`.

| code | severity | looks for | fix |
|---|---|---|---|
"""


def page() -> str:
    """Return the page: a row for each rule."""
    rows = [
        f"| `{rule.code}` | {', '.join(rule.severities)} | {rule.looks_for} | {rule.fix} |"
        for rule in sorted(RULES.values(), key=lambda rule: rule.code)
    ]
    return HEAD + "\n".join(rows) + "\n"


if __name__ == "__main__":
    (Path(__file__).parent / "findings.md").write_text(page(), encoding="utf-8")
