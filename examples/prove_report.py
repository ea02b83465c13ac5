"""From findings to a report: the fixes added to the raw recipe, what they settle, and the pages for the client."""

import tempfile
from collections import Counter
from pathlib import Path

import evrin
from evrin.check import fix_tables
from evrin.demo import lay_out
from evrin.report import write_look


def main(folder: Path) -> None:
    """Fix what tables can fix, then write the report of the clean recipe and the viewer page."""
    lay_out(folder)
    raw = evrin.Recipe.read(folder / "raw.toml").build()
    print(raw.surface, dict(Counter(finding.code for finding in raw.open_findings)))
    fixed = folder / "fixed.toml"
    fixed.write_text((folder / "raw.toml").read_text() + "\n" + fix_tables(raw.findings) + "\n", encoding="utf-8")
    left = evrin.Recipe.read(fixed).build()
    print(left.surface, dict(Counter(finding.code for finding in left.open_findings)))

    recipe = evrin.Recipe.read(folder / "clean.toml")
    build = recipe.build()
    build.report(folder / "report.html", look="look.html")
    write_look(folder / "look.html", build.surface, build.findings, build.surface.contours(0.25), report="report.html")
    for name in ("report.html", "look.html"):
        print(f"{name}: {(folder / name).stat().st_size // 1024:,} kB")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
