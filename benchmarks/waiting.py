"""How long a person waits: whole commands as they are typed, warm, each beside what it is measured by."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import pandas as pd
from large_recipe import lay_out
from timing import side_by_side

import evrin
from evrin.demo.laying_out import lay_out as lay_out_demo
from evrin.formats import How, read
from evrin.recipe.store.kept_results import FOLDER

EVRIN = str(Path(sys.executable).with_name("evrin"))
ROUNDS = 7


def command(*words: str, folder: Path | None = None) -> Callable[[], object]:
    return lambda: subprocess.run(words, cwd=folder, capture_output=True, check=False)


def median_of(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Return the median of several times, after one that is not counted."""
    work()
    spent = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        spent.append(time.perf_counter() - start)
    return float(np.median(spent))


def first_key_rows(rows: Any) -> None:
    """Time commands that only read a text, and answers about a surface that is kept."""
    with TemporaryDirectory() as temporary:
        site = Path(temporary) / "site"
        lay_out_demo(site)
        bare = median_of(command(sys.executable, "-c", "import numpy"))
        for words in (["--help"], ["--version"], ["edit", "clean.toml", "list"]):
            beside = (median_of(command(EVRIN, *words, folder=site)), bare)
            rows.at_most(f"evrin {' '.join(words)}, beside importing NumPy", beside, 2)
        for words in (
            ["height", "clean.toml", "--at", "4120,2877"],
            ["check", "clean.toml"],
            ["figures", "clean.toml"],
        ):
            spent = median_of(command(EVRIN, *words, folder=site))
            rows.limit(f"evrin {words[0]} on the demo's surface, kept", spent * 1000.0, 1200, "ms")


def large_rows(rows: Any) -> None:
    """Time a million shots: read, built, built again, handed over."""
    with TemporaryDirectory() as temporary:
        folder = Path(temporary)
        recipe = lay_out(folder)
        build = command(EVRIN, "build", str(recipe))
        build()
        shutil.rmtree(folder / FOLDER)
        first = median_of(lambda: (shutil.rmtree(folder / FOLDER, ignore_errors=True), build()), 1)
        unchanged = median_of(build, 3)
        rows.limit("evrin build, nothing changed, a million shots", unchanged * 1000.0, 1500, "ms")
        by = iter(range(1, 100))

        def edited() -> None:
            text = recipe.read_text(encoding="utf-8")
            recipe.write_text(text.replace(text[text.index("by = ") :].split("\n")[0], f"by = {next(by) / 100.0}"))
            build()

        rows.faster("evrin build after one edit, beside the first", (median_of(edited, 3), first), 5)
        points = folder / "points.csv"
        read(points, How())
        beside = side_by_side(lambda: read(points, How()), lambda: pd.read_csv(points), ROUNDS)
        rows.at_most("a million plain rows of CSV, beside pandas", beside, 1.5)
        plain = folder / "plain.toml"
        plain.write_text('[[source]]\nfile = "points.csv"\nrole = "points"\n', encoding="utf-8")
        words = (EVRIN, "build", str(plain), "--fresh", "--overwrite", "-o", str(folder / "ground.xml"))
        rows.limit("a million shots from CSV to LandXML", median_of(command(*words), 2), 8, "s")


def public_rows(rows: Any, mesh_of: Callable[..., object], xy: np.ndarray) -> None:
    """Time the public call beside the bare kernel, and the kernel on both cores."""
    xyz = np.column_stack((xy, np.sin(xy[:, 0] / 50.0)))
    evrin.triangulate(xyz)
    beside = side_by_side(lambda: evrin.triangulate(xyz), lambda: mesh_of(xy), ROUNDS)
    rows.at_most("evrin.triangulate, beside the kernel on both cores", beside, 1.4)
    beside = side_by_side(lambda: evrin.triangulate(xyz), lambda: mesh_of(xy, 1), ROUNDS)
    rows.at_most("evrin.triangulate, beside the kernel on one", beside, 1.4)


def compiling_row(rows: Any) -> None:
    """Time the first build of the demo's recipe on a machine, and one for which every kernel is compiled."""
    first = _first_build({})
    rows.limit("first build of the demo on a machine", first, 15, "s")
    rows.noted("the same, every kernel compiled for it", _first_build({"EVRIN_KERNELS": "compiled"}), "no limit")


def _first_build(variables: dict[str, str]) -> float:
    with TemporaryDirectory() as temporary:
        site = Path(temporary) / "site"
        lay_out_demo(site)
        start = time.perf_counter()
        env = {**os.environ, "EVRIN_CACHE": str(Path(temporary) / "cache"), **variables}
        subprocess.run([EVRIN, "build", "clean.toml"], cwd=site, capture_output=True, check=True, env=env)
        return time.perf_counter() - start
