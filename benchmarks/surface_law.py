"""Judge what Evrin makes of many random pairs of surfaces, each in a process that may neither stop nor crash."""

from __future__ import annotations

import sys
from pathlib import Path

import watched

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import pairs


def judge(kind: str, seed: int) -> list[str]:
    """Return what is wrong with a work on the pair of a seed."""
    return [what for _, what in pairs.judged(pairs.WORKS[kind], range(seed, seed + 1)) if what]


if __name__ == "__main__":
    watched.main(judge, tuple(pairs.WORKS), __doc__)
