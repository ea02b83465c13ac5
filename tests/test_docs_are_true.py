"""What README and the docs state is true."""

import re
import runpy
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
import tomlkit

import evrin
from evrin.base.written_files import note_written
from evrin.check import RULES
from evrin.cli.catalogue import all_commands
from evrin.recipe.building.schema import tables_model, tables_of

ROOT = Path(__file__).parent.parent
README = (ROOT / "README.md").read_text(encoding="utf-8")


PAGES = ("README.md", "docs/what-came-in.md", "docs/clean-build-edit.md", "docs/prove-it.md")


def blocks(page, language):
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.DOTALL)


@pytest.fixture
def laid_out(demo, tmp_path, monkeypatch):
    """The demo site as `make demo` leaves it, in a folder of its own."""
    shutil.copytree(demo[0], tmp_path / "demo")
    for path in (tmp_path / "demo").glob("*.*"):
        note_written(path)
    monkeypatch.chdir(tmp_path)
    return tmp_path / "demo"


@pytest.mark.slow
def test_the_reference_is_made_without_a_warning_and_has_a_page_for_each_name(tmp_path):
    made = subprocess.run(
        [sys.executable, str(ROOT / "docs/make_reference.py"), str(tmp_path)], capture_output=True, text=True
    )
    assert made.returncode == 0, made.stderr
    pages = {path.stem for path in (tmp_path / "html/names").glob("*.html")}
    assert {f"evrin.{name}" for name in evrin.__all__ if callable(getattr(evrin, name))} <= pages


@pytest.mark.slow
@pytest.mark.parametrize("page", PAGES)
def test_every_shell_line_runs_unchanged_from_top_to_bottom(page, laid_out, run):
    typed = [row for block in blocks(page, "sh") for row in block.splitlines() if row.strip()]
    assert len(typed) >= 3
    for row in typed:
        words = shlex.split(row, comments=True)
        if words[0] in ("make", "pip", "python", "export"):
            continue
        if words[0] == "cp":
            shutil.copy(laid_out / words[1], laid_out / words[2])
            continue
        assert words[0] == "evrin", row
        appended = laid_out / words[words.index(">>") + 1] if ">>" in words else None
        words = words[1 : words.index(">>")] if appended else words[1:]
        try:
            output = run(*words, folder=laid_out)
        except AssertionError:
            output = run(*words, folder=laid_out, code=1)
        if appended:
            appended.write_text(appended.read_text() + output.stdout)


@pytest.mark.slow
@pytest.mark.parametrize("page", PAGES)
def test_every_piece_of_python_runs_unchanged(page, laid_out, capsys):
    for code in blocks(page, "python"):
        exec(compile(code, page, "exec"), {})
    output = capsys.readouterr().out
    assert "'passed': True" in output or page != "docs/prove-it.md"


@pytest.mark.parametrize("page", PAGES)
def test_every_table_is_one_that_a_recipe_takes(page):
    for text in blocks(page, "toml"):
        source = "" if "[[source]]" in text else '[[source]]\nfile = "a.csv"\nrole = "points"\n'
        assert tables_of(tomlkit.parse(source + text).unwrap())


def test_every_command_is_in_the_readme_and_every_picture_linked():
    for name in all_commands():
        assert f"`evrin {name} " in README or f"`evrin {name}`" in README
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in README
    for link in re.findall(r"\]\(([^)h][^)]*)\)", README):
        assert (ROOT / link).exists(), link


def test_the_page_of_findings_is_made_from_the_rules():
    page = runpy.run_path(str(ROOT / "docs" / "make_findings_page.py"))["page"]()
    assert (ROOT / "docs" / "findings.md").read_text(encoding="utf-8") == page
    assert all(f"`{code}`" in page for code in RULES)


@pytest.mark.slow
def test_the_page_of_the_recipe_is_made_from_its_tables():
    page = runpy.run_path(str(ROOT / "docs" / "make_recipe_page.py"))["page"]()
    assert (ROOT / "docs" / "recipe.md").read_text(encoding="utf-8") == page


@pytest.mark.slow
def test_every_module_is_covered_by_tests():
    page = runpy.run_path(str(ROOT / "docs" / "make_modules_page.py"))["page"]()
    assert page.count("\n| `") > 300
    assert "|  |  |\n" not in page


def test_every_key_of_a_recipe_is_explained():
    page = (ROOT / "docs" / "recipe.md").read_text(encoding="utf-8")
    assert all(f"[{key}]" in page for key in tables_model().model_fields)


def test_every_room_of_the_house_is_on_its_plan():
    plan = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    for room in (ROOT / "src" / "evrin").iterdir():
        if room.is_dir() and (room / "__init__.py").exists():
            assert f"`evrin.{room.name}`" in plan


def test_every_place_that_the_plan_of_the_house_names_is_there():
    plan = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    named = re.findall(r"^\| .+ \| `([\w/]+\.py)` \|$", plan, re.M)
    assert len(named) == 20
    assert [name for name in named if not (ROOT / "src" / "evrin" / name).is_file()] == []


def test_what_the_pages_carry_of_others_is_named_with_its_licence():
    import json

    vendor = ROOT / "src" / "evrin" / "report" / "vendor"
    output = (vendor / "LICENSES.txt").read_text(encoding="utf-8")
    for name, version in json.loads((ROOT / "web" / "package.json").read_text())["dependencies"].items():
        assert f"{name} {version}" in output
    assert output.count("Permission is hereby granted") == 2
