"""Judge many random fields, each in a process that may neither stop responding nor crash, and print one table."""

from __future__ import annotations

import sys
from pathlib import Path

import watched

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import fields


def judge(kind: str, seed: int) -> list[str]:
    """Return what the field of a kind and a seed breaks."""
    field = fields.make(kind, seed)
    wrong: list[str] = fields.judge(field)
    if seed % 4 == 0 and fields.differs_in_another_order(field):
        wrong.append("order: another order of rows or rings gives another surface")
    return wrong


if __name__ == "__main__":
    watched.main(judge, fields.KINDS, __doc__)
