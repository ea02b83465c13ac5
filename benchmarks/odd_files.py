"""Read many odd files of every format, each in a process that may neither stop nor crash, and print one table."""

from __future__ import annotations

import sys
from pathlib import Path

import watched

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import odd_files

if __name__ == "__main__":
    watched.main(odd_files.judge, odd_files.KINDS, __doc__)
