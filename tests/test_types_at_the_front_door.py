"""Whoever checks types is told of each wrong use of Evrin, and of no right one."""

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

import evrin
from evrin.base.exports import loader

ROOT = Path(__file__).parents[1]
TYPING = ROOT / "tests" / "typing"
RIGHTLY, WRONGLY = TYPING / "used_rightly.py", TYPING / "used_wrongly.py"


def statements(path):
    """The statements of a file that come after its comment about what is wrong."""
    text = path.read_text(encoding="utf-8")
    first = next(number for number, line in enumerate(text.splitlines(), 1) if line.startswith("# From here on"))
    return [node.lineno for node in ast.parse(text).body if node.lineno > first]


@pytest.fixture(scope="module")
def errors():
    command = [sys.executable, "-m", "mypy", "--strict", "--no-error-summary", str(RIGHTLY), str(WRONGLY)]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 1, done.stdout + done.stderr
    return re.findall(r"(\w+\.py):(\d+): error: (.*)", done.stdout)


@pytest.mark.slow
def test_right_uses_pass_a_strict_check(errors):
    assert [error for error in errors if error[0] != WRONGLY.name] == []
    assert all(f"evrin.{name}" in RIGHTLY.read_text(encoding="utf-8") for name in evrin.__all__)


@pytest.mark.slow
def test_every_wrong_use_is_refused_where_it_is(errors):
    refused = {int(line) for name, line, _ in errors if name == WRONGLY.name}
    assert refused == set(statements(WRONGLY))
    assert len(refused) >= 100


def test_a_package_states_names_for_types_and_for_loading_alike():
    for path in sorted((ROOT / "src" / "evrin").glob("**/__init__.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        homes = [
            node
            for node in ast.walk(tree)
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == loader.__name__
        ]
        if not homes:
            continue
        loaded = ast.literal_eval(homes[0].args[1])
        typed = {
            name.name: node.module
            for block in tree.body
            if isinstance(block, ast.If) and isinstance(block.test, ast.Name)
            for node in block.body
            if isinstance(node, ast.ImportFrom)
            for name in node.names
        }
        listed = next(
            ast.literal_eval(node.value)
            for node in tree.body
            if getattr(node, "targets", None) and node.targets[0].id == "__all__"
        )
        assert set(listed) == set(loaded) == set(typed) & set(listed), path
        assert all(loaded[name] == typed[name] for name in listed), path
