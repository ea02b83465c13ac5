"""Build many random recipes, plain and with every number at an extreme, and print one table.

Each ends in a sound surface whose tally adds up, or in an error of Evrin's own, within the limit of time.
"""

from __future__ import annotations

import re
import sys
import tempfile
from pathlib import Path

import numpy as np
import watched

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import evrin
import exact
import random_recipes
from sites import BASE, lay_out

EXTREMES = ("0", "-1", "1e-8", "1e-3", "1e5", "1e300", "inf", "nan")
KINDS = ("plain", "extreme", "far")
_KEYS = ("spacing", "within", "reach", "tolerance", "deflection_deg", "rise", "level", "depth", "bank", "longest_edge")
_KEYS += ("smallest_angle_deg", "by", "height", "start", "step")
_NUMBER = re.compile(rf"\b({'|'.join(_KEYS)}) = (-?[0-9.]+)")


def _text(kind: str, rng: np.random.Generator) -> str:
    tables = [*random_recipes.SOURCES, *random_recipes.TABLES]
    picked = [text for text in tables if rng.random() < 0.4]
    if kind == "extreme":
        picked = [
            _NUMBER.sub(lambda m: f"{m[1]} = {rng.choice(EXTREMES)}" if rng.random() < 0.4 else m[0], text)
            for text in picked
        ]
    singles = [text for text in picked if not text.startswith("[[")]
    return BASE + "\n" + "\n".join([text for text in picked if text not in singles] + singles)


def _files(kind: str, rng: np.random.Generator) -> dict[str, str]:
    files = dict(random_recipes.FILES)
    if kind == "far":
        away = 10.0 ** rng.uniform(1, 8)
        for name in ("wide__csv", "limit__csv", "pond__csv"):
            head, *rows = files[name].splitlines()
            moved = []
            for row in rows:
                label, x, y = row.split(",")
                moved.append(f"{label},{4000 + (float(x) - 4000) * away:.3f},{2800 + (float(y) - 2800) * away:.3f}")
            if rng.random() < 0.5:
                files[name] = "\n".join([head, *moved]) + "\n"
    return files


def judge(kind: str, seed: int) -> list[str]:
    """Return what the recipe of a kind and a seed breaks."""
    rng = np.random.default_rng([KINDS.index(kind), seed])
    with tempfile.TemporaryDirectory() as place:
        path = lay_out(Path(place), _text(kind, rng), field=random_recipes.field(), base="", **_files(kind, rng))
        try:
            build = evrin.Recipe.read(path).build()
        except evrin.EvrinError as error:
            return ["empty message"] if not str(error) else []
    wrong = []
    xy = build.surface.vertices[:, :2]
    triangles = build.surface.triangles
    if any(exact.turn(*xy[t]) <= 0 for t in triangles[:: 1 + len(triangles) // 20_000]):
        wrong.append("triangle: without area or upside down")
    if not np.isfinite(build.surface.vertices).all():
        wrong.append("number: a vertex is not finite")
    counts = build.tally.iloc[:, 1:].to_numpy(float)
    if (counts[:, 0] != counts[:, 1:].sum(axis=1)).any():
        wrong.append("tally: does not add up")
    return wrong


if __name__ == "__main__":
    watched.main(judge, KINDS, __doc__)
