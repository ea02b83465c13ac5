"""A made-up step, edit, rule and format are a file each, those of docs/extending.md, and nothing else is changed."""

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from evrin.recipe.building.fates import fate
from evrin.recipe.building.schema import tables_model
from evrin.recipe.steps import Phase, Step, step
from sites import lay_out

ROOT = Path(__file__).parent.parent
PAGE = (ROOT / "docs" / "extending.md").read_text(encoding="utf-8")
FILES = re.findall(r"`src/evrin/([\w/]+\.py)`.*?```python\n(.*?)```", PAGE, re.DOTALL)
ADDED = """
import sys
extra = sys.argv.pop(1)
for package in ("recipe.steps", "recipe.edits", "check", "formats"):
    module = __import__(f"evrin.{package}", fromlist=["x"])
    module.__path__.append(f"{extra}/{package.replace('.', '/')}")
from evrin.cli.app import main
"""
USED = f"""{ADDED}
import json
from pathlib import Path
import evrin
site = sys.argv[1]
"""
USED += """
from evrin.check import RULES
from evrin.base.discovery import load_modules
load_modules("evrin.check", "rules_"), load_modules("evrin.formats")
recipe = evrin.Recipe.read(f"{site}/site.toml")
build = recipe.build(keep=True)
again = recipe.build(keep=True)
build.report(f"{site}/report.html")
sys.argv = ["evrin", "edit", f"{site}/site.toml", "level_off", "--help"]
evrin.write(f"{site}/out.heights", build.surface)
from evrin.formats import known_formats, read
print(json.dumps({
    "tally": build.tally.to_dict("records")[-1],
    "stages": [[s.name, s.did, s.reused] for s in again.stages],
    "edits": build.edits,
    "codes": [f.code for f in build.findings],
    "groups": [label for label, _ in recipe.steps()],
    "areas": [each.area for each in build.results],
    "report": "Areas above levels" in Path(f"{site}/report.html").read_text(encoding="utf-8"),
    "points": len(read(f"{site}/out.heights").points),
    "known": known_formats(),
    "rule": RULES["steep-ground"].looks_for,
}))
main()
"""


def test_each_is_one_file_and_everything_else_follows(tmp_path):
    assert [name.split("/")[-2] for name, _ in FILES] == ["steps", "steps", "edits", "check", "formats"]
    for name, text in FILES:
        path = tmp_path / "extra" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    site = tmp_path / "site"
    site.mkdir()
    field = "1,0,0,40,A\n2,0,20,41,A\n3,20,20,42,A\n4,20,0,41,A\n5,10,10,12,A\n6,9,12,80,A\n"
    extra = "[drop_low]\nbelow = 30.0\n[[area_above]]\nlevel = 50.0\n"
    extra += '[[edit]]\ndo = "level_off"\npolygon = [[-1, -1], [1, -1], [1, 30], [-1, 30]]\n'
    lay_out(site, extra, field=field)
    words = [sys.executable, "-c", USED, str(tmp_path / "extra"), str(site)]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    first, _, shown = done.stdout.partition("\n")
    found = json.loads(first)
    assert found["tally"]["too_low"] == 1 and found["tally"]["used"] == 5 and found["tally"]["read"] == 6
    assert ["drop low", "1 shot below 30 m left out", True] in found["stages"]
    assert found["edits"] == ["1: set 2 vertices to 40.500, a change of up to 0.500"]
    assert "steep-ground" in found["codes"] and found["rule"] == "triangles steeper than 1 in 1"
    assert "low shots left out" in found["groups"] and found["points"] == 5 and "heights (.heights)" in found["known"]
    assert len(found["areas"]) == 1 and 0.0 < found["areas"][0] < 400.0 and found["report"]
    command = [sys.executable, "-c", f"{ADDED}\nmain()", str(tmp_path / "extra"), "build", str(site / "site.toml")]
    printed, answered = (
        subprocess.run([*command, *more], capture_output=True, text=True, check=False) for more in ([], ["--json"])
    )
    assert "Areas above levels" in printed.stdout, printed.stderr
    assert json.loads(answered.stdout)["areas_above"] == [{"name": "above", "area": found["areas"][0]}]
    assert "Set all vertices in an area to the mean of their heights." in shown and "--polygon" in shown


def test_two_of_one_name_are_refused():
    assert "trim" in tables_model().model_fields
    with pytest.raises(ValueError, match="declared already"):
        fate(0, "again", "")
    with pytest.raises(ValueError, match="has the name, place or table"):
        step(Step("trim", 1, Phase.ROWS))
