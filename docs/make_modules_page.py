"""Write build/docs/modules-and-tests.md: each module, what is in it, and the test files that use it."""

import ast
from pathlib import Path

ROOT = Path(__file__).parent.parent
LOADED = {
    "evrin.recipe.steps.": "evrin.recipe.building.schema",
    "evrin.recipe.edits.": "evrin.recipe.building.schema",
    "evrin.check.rules_": "evrin.check.rule_registry",
    "evrin.formats.": "evrin.formats.door.format_registry",
    "evrin.cli.": "evrin.cli.app",
}
HEAD = """\
# Modules and the tests that cover them

Made by `docs/make_modules_page.py` from imports. *Direct*: test files that import the module, or a name that its room
exports from it. *Through*, for a module without any: the nearest modules that use it, with their tests; `run` is the
fixture by which many test files run commands. A test checks that every module has one or the other.

| module | what is in it | direct | through |
|---|---|---|---|
"""


def modules() -> dict[str, Path]:
    """Return the path of each module by its dotted name, without those that only list what a room exports."""
    source = ROOT / "src"
    paths = sorted((source / "evrin").rglob("*.py"))
    names = {".".join(path.relative_to(source).with_suffix("").parts): path for path in paths}
    return {name: path for name, path in names.items() if not name.endswith(("__init__", "__main__"))}


def exported() -> dict[tuple[str, str], str]:
    """Return the module behind each name that a room exports."""
    found = {}
    for path in sorted((ROOT / "src" / "evrin").rglob("__init__.py")):
        room = ".".join(path.parent.relative_to(ROOT / "src").parts)
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom) and node.module:
                found |= {(room, alias.asname or alias.name): node.module for alias in node.names}
    for (room, name), module in list(found.items()):
        found[room, name] = found.get((module, name), module)
    return found


def imported_by(path: Path, known: dict[str, Path], names: dict[tuple[str, str], str]) -> set[str]:
    """Return the modules that a test file imports, directly or by a name that a room exports."""
    found = set()
    tree = ast.parse(path.read_text(encoding="utf-8"))
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                found.add(inner if inner in known else names.get((node.module, alias.name), node.module))
        elif isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "evrin":
            found.add(names.get(("evrin", node.attr), ""))
    return found & set(known)


def users() -> dict[str, set[str]]:
    """Return, by module, the modules that import it, directly, lazily by name, or by loading their folder."""
    known, names = modules(), exported()
    out: dict[str, set[str]] = {name: set() for name in known}
    for name, path in known.items():
        for used in imported_by(path, known, names) | lazily_named(path, known):
            out[used].add(name)
    for folder, loader in LOADED.items():
        for name in known:
            if name.startswith(folder):
                out[name].add(loader)
    return out


def lazily_named(path: Path, known: dict[str, Path]) -> set[str]:
    """Return the modules that texts such as ``evrin.analysis.contours.contour_lines:contours`` name."""
    texts = [
        node.value for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))) if isinstance(node, ast.Constant)
    ]
    return {text.partition(":")[0] for text in texts if isinstance(text, str)} & set(known)


def coverage() -> dict[str, tuple[list[str], dict[str, list[str]]]]:
    """Return, by module, its direct tests, and the nearest modules that use it with theirs."""
    known, names, used_by = modules(), exported(), users()
    files = [*sorted((ROOT / "tests").glob("test_*.py")), ROOT / "tests" / "conftest.py"]
    uses = {"run" if path.stem == "conftest" else path.stem: imported_by(path, known, names) for path in files}
    direct = {name: [test for test, used in uses.items() if name in used] for name in known}
    return {name: (direct[name], {} if direct[name] else _through(name, direct, used_by)) for name in known}


def _through(name: str, direct: dict[str, list[str]], used_by: dict[str, set[str]]) -> dict[str, list[str]]:
    seen, level = {name}, {name}
    while level:
        level = {user for each in level for user in used_by[each]} - seen
        seen |= level
        found = {user: direct[user] for user in sorted(level) if direct[user]}
        if found:
            return found
    return {}


def page() -> str:
    """Return the page."""
    rows = []
    for name, (direct, through) in coverage().items():
        what = (ast.get_docstring(ast.parse(modules()[name].read_text(encoding="utf-8"))) or "").splitlines()[0]
        users_of = [
            f"`{user.removeprefix('evrin.')}` ({', '.join(tests[:3])})" for user, tests in list(through.items())[:2]
        ]
        rows.append(f"| `{name.removeprefix('evrin.')}` | {what} | {', '.join(direct)} | {', '.join(users_of)} |")
    return HEAD + "\n".join(rows) + "\n"


if __name__ == "__main__":
    target = ROOT / "build" / "docs" / "modules-and-tests.md"
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_text(page(), encoding="utf-8")
