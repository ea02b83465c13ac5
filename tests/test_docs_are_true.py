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


PROVE = (ROOT / "docs" / "prove-it.md").read_text(encoding="utf-8")


def test_every_command_on_the_page_about_proving_can_be_typed():
    import shlex

    from typer.main import get_command

    group = get_command(app)
    typed = [
        shlex.split(row.split("#")[0].split(">>")[0])
        for block in re.findall(r"```sh\n(.*?)```", PROVE + README, re.DOTALL)
        for row in block.splitlines()
        if row.startswith("evrin ")
    ]
    assert len(typed) > 25
    for _, name, *words in typed:
        command = group.commands[name]
        command.make_context(name, list(words), resilient_parsing=False)


def test_the_python_on_the_page_about_proving_runs(tmp_path, monkeypatch, capsys):
    from evrin.demo import lay_out

    lay_out(tmp_path / "demo")
    monkeypatch.chdir(tmp_path)
    (code,) = re.findall(r"```python\n(.*?)```", PROVE, re.DOTALL)
    exec(compile(code, "prove-it.md", "exec"), {})
    told = capsys.readouterr().out
    assert "contours round depressions" in told and "'passed': True" in told
    assert (tmp_path / "report.html").stat().st_size > 1_000_000 and (tmp_path / "look.html").exists()


def test_the_tables_on_the_page_about_proving_are_ones():
    (text,) = re.findall(r"```toml\n(.*?)```", PROVE, re.DOTALL)
    source = '[[source]]\nfile = "a.csv"\nrole = "points"\n'
    tables = Tables.model_validate(tomlkit.parse(source + text).unwrap())
    assert tables.check_points[0].tolerance == 0.06 and tables.leave_out[0].numbers == ("874",)


def test_what_the_pages_carry_of_others_is_named_with_its_licence():
    import json

    vendor = ROOT / "src" / "evrin" / "report" / "vendor"
    told = (vendor / "LICENSES.txt").read_text(encoding="utf-8")
    for name, version in json.loads((ROOT / "web" / "package.json").read_text())["dependencies"].items():
        assert f"{name} {version}" in told
    assert told.count("Permission is hereby granted") == 2
