"""What README and the docs say holds."""

import re
import runpy
from pathlib import Path

import tomlkit

from evrin.check import RULES
from evrin.cli.app import app
from evrin.recipe.schema import Tables

ROOT = Path(__file__).parent.parent
README = (ROOT / "README.md").read_text(encoding="utf-8")


def blocks(language):
    return re.findall(rf"```{language}\n(.*?)```", README, re.DOTALL)


def test_the_recipe_in_the_readme_is_one():
    (text,) = blocks("toml")
    tables = Tables.model_validate(tomlkit.parse(text).unwrap())
    assert tables.source[1].heights == "shots" and tables.edit[0].do == "flip"


def test_the_ten_lines_of_python_run(tmp_path, monkeypatch, capsys):
    from evrin.demo import lay_out

    lay_out(tmp_path / "demo")
    monkeypatch.chdir(tmp_path)
    (code,) = blocks("python")
    exec(compile(code, "README.md", "exec"), {})
    assert "all" in capsys.readouterr().out
    assert {path.name for path in tmp_path.iterdir()} == {"demo", "ground.dxf", "contours.geojson"}


def test_every_command_is_in_the_readme_and_every_picture_linked():
    for command in app.registered_commands:
        assert f"`evrin {command.callback.__name__} " in README or f"`evrin {command.callback.__name__}`" in README
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in README
    for link in re.findall(r"\]\(([^)h][^)]*)\)", README):
        assert (ROOT / link).exists(), link


def test_the_page_of_findings_is_made_from_the_rules():
    page = runpy.run_path(str(ROOT / "docs" / "make_findings_page.py"))["page"]()
    assert (ROOT / "docs" / "findings.md").read_text(encoding="utf-8") == page
    assert all(f"`{code}`" in page for code in RULES)


def test_every_room_of_the_house_is_on_its_plan():
    plan = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    for room in (ROOT / "src" / "evrin").iterdir():
        if room.is_dir() and (room / "__init__.py").exists():
            assert f"`evrin.{room.name}`" in plan
