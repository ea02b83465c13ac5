"""Make small harmful changes to the source, one at a time, and see whether the tests that cover each notice it.

Run by hand: ``python tests/harmful_changes.py`` prints a row a change, seen or not; with words, only
the changes whose file or text holds one of them. Each runs in a copy of what is committed, two at a time: first against
the tests named here and the examples of its own file, then against the quick ones that come to the file by imports.
"""

import os
import re
import runpy
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

ROOT = Path(__file__).parents[1]
# A row a change: a file under src/evrin, a text in it, and what replaces that.
_TABLE = ROOT / "tests/harmful_changes.tsv"
_MOST_SECONDS = 300.0
_QUICK = "not slow and not thorough"
# They judge pages and builds, not what a change does.
_OTHERS = {"test_what_ships", "test_docs_are_true", "test_house", "test_plain_words"}
# Tests that run recipes, and so cover modules whose names they never mention.
FURTHER = {
    "recipe/sources": ("test_every_key_in_every_role", "test_limits_on_both_sides", "test_limits_in_turn"),
    "recipe/": ("test_what_files_and_tables_hold",),
    "formats/": ("test_what_files_and_tables_hold",),
    "formats/intake": ("test_every_key_in_every_role", "test_meshes_and_what_travels"),
    "recipe/steps": ("test_limits_on_both_sides",),
    "check/": ("test_limits_on_both_sides", "test_findings"),
    "survey/": ("test_what_files_and_tables_hold", "test_every_key_in_every_role", "test_limits_on_both_sides"),
    "surface/editor": ("test_what_files_and_tables_hold", "test_limits_on_both_sides"),
    "recipe/pipeline": ("test_nothing_kept_is_stale",),
    "recipe/keeping": ("test_nothing_kept_is_stale",),
    "analysis/": ("test_what_columns_hold",),
    "analysis/s": ("test_what_files_and_tables_hold",),
    "formats/landxml": ("test_every_key_in_every_role",),
    "report/": ("test_what_columns_hold",),
}


def changes():
    """Every change, with line ends where the table has ``\\n``."""
    rows = _TABLE.read_text(encoding="utf-8").splitlines()[1:]
    return [tuple(cell.replace("\\n", "\n") for cell in row.split("\t")) for row in rows]


def tests_of(file):
    """The test files that cover a module, by the page that is made from imports."""
    name = file.removesuffix(".py").removesuffix("/__init__").replace("/", ".")
    page = runpy.run_path(str(ROOT / "docs" / "make_modules_page.py"))["page"]()
    for row in page.splitlines():
        if row.startswith(f"| `{name}`"):
            return sorted(set(re.findall(r"test_\w+", row)) - _OTHERS)
    raise SystemExit(f"{name} is not on the page of modules")


def tried(change):
    """Make one change in a copy and run the quick ones among its tests."""
    file, old, new = change
    began = time.time()
    with tempfile.TemporaryDirectory() as folder:
        archive = subprocess.run(["git", "archive", "HEAD"], cwd=ROOT, capture_output=True, check=True).stdout
        subprocess.run(["tar", "x", "-C", folder], input=archive, check=True)
        path = Path(folder) / "src/evrin" / file
        text = path.read_text(encoding="utf-8")
        if text.count(old) != 1:
            return change, f"{text.count(old)} times in the source", 0.0
        path.write_text(text.replace(old, new), encoding="utf-8")
        env = os.environ | {"PYTHONPATH": f"{folder}/src", "EVRIN_CACHE": f"{folder}/cache"}
        (Path(folder) / "cache").mkdir(mode=0o700)
        (Path(folder) / "cache/kernels").symlink_to(_kernels(), target_is_directory=True)
        further = [name for start, names in FURTHER.items() if file.startswith(start) for name in names]
        near = [f"tests/{name}.py" for name in further] + [f"src/evrin/{file}"]
        others = [f"tests/{name}.py" for name in tests_of(file) if name not in further]
        what = _failing(near, folder, env, "not thorough") or _failing(others, folder, env, _QUICK)
    return change, what, time.time() - began


def _failing(files, folder, env, marked):
    """The first of the tests in some files that fails, nothing where none does in time."""
    asked = ["--doctest-modules", "-m", marked, "-p", "no:cacheprovider"]
    words = [sys.executable, "-m", "pytest", "-q", "-x", *asked, *files]
    try:
        done = subprocess.run(words, cwd=folder, env=env, capture_output=True, text=True, timeout=_MOST_SECONDS)
    except subprocess.TimeoutExpired:
        return ""
    if done.returncode in (0, 5):
        return ""
    failed = re.search(r"^(?:FAILED|ERROR) \S+", done.stdout, re.MULTILINE)
    return failed.group() if failed else done.stdout[-200:]


def _kernels():
    from evrin.base.cache_folder import kept_folder

    return kept_folder() / "kernels"


def main():
    words = sys.argv[1:]
    chosen = [c for c in changes() if not words or any(word in f"{c[0]} {c[1]}" for word in words)]
    seen = 0
    with ThreadPoolExecutor(2) as workers:
        for done in as_completed(workers.submit(tried, change) for change in chosen):
            (file, old, _), what, seconds = done.result()
            seen += what.startswith(("FAILED", "ERROR"))
            state = "seen" if what else "NOT SEEN"
            print(f"{state} | {file} | {old.splitlines()[0][:70]} | {what[:110]} | {seconds:.0f} s", flush=True)
    print(f"{seen} of {len(chosen)} seen")


if __name__ == "__main__":
    main()
