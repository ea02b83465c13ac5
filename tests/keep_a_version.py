"""Pack what this version of Evrin leaves in a project's folder, for the tests to open from now on.

Run before a release: ``python tests/keep_a_version.py``.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

import evrin
from random_recipes import FILES, field
from sites import lay_out
from test_nothing_kept_is_stale import FURTHER, RICH

FLIGHT = '[site]\nname = "flight"\n[[source]]\nfiles = "flight/*.xyz"\nrole = "cloud"\ncolumns = "xyz"\n'
EVRIN = str(Path(sys.executable).with_name("evrin"))


def keep(folder: Path) -> None:
    """Lay out a recipe of many tables and a flight, and build, measure and record them."""
    folder.mkdir(parents=True)
    lay_out(folder, base=RICH, field=field(), **FILES, **FURTHER)
    rng = np.random.default_rng(7)
    (folder / "flight").mkdir()
    for number in range(2):
        xyz = np.round(rng.uniform(0, 20, (60, 3)) * (1, 1, 0.05) + (20 * number, 0, 40), 3)
        np.savetxt(folder / "flight" / f"{number}.xyz", xyz, fmt="%.3f")
    (folder / "flight.toml").write_text(FLIGHT)
    for words in (
        ["build", "site.toml", "-o", "ground.xml"],
        ["volume", "ground.xml", "--to-level", "40", "--append", "record.jsonl", "--allow-uncovered"],
        ["tiles", "flight.toml", "--tile", "10", "--workers", "1"],
    ):
        subprocess.run([EVRIN, "-q", *words], cwd=folder, check=False, stdout=subprocess.DEVNULL)


if __name__ == "__main__":
    place = Path(tempfile.gettempdir()) / "ostrel-weir"
    keep(place)
    packed = Path(__file__).with_name("data") / evrin.__version__
    packed.parent.mkdir(exist_ok=True)
    shutil.make_archive(str(packed), "zip", place)
    shutil.rmtree(place)
