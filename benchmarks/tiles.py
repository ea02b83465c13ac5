"""A flight made a surface in tiles: time a point, and the memory of all processes together, as it grows fourfold."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

import psutil
from flight import write_flight

RECIPE = """
[site]
name = "Ostrel Weir from the air"
units = "m"

[[source]]
files = "flight/*.laz"
role = "cloud"
ground_filter = {}
thin = { tolerance = 0.05 }
"""
OUTPUTS = ("--contours", "contours.gpkg", "--interval", "0.5", "--heights", "heights.tif", "--cell", "1")
A_FILE = 2_000_000


class Run(NamedTuple):
    """Time a million points in seconds, and the highest memory of all processes together in MB."""

    seconds: float
    megabytes: float


def tiled(folder: Path, points: int) -> Run:
    """Make a flight of so many points a surface in tiles, its contours and its grid."""
    write_flight(folder / "flight", points, max(points // A_FILE, 1))
    (folder / "site.toml").write_text(RECIPE, encoding="utf-8")
    evrin = str(Path(sys.executable).with_name("evrin"))
    start = time.perf_counter()
    words = [evrin, "tiles", "site.toml", *OUTPUTS, "--workers", "2", "-q"]
    process = psutil.Popen(words, cwd=folder, stdout=subprocess.DEVNULL)
    most = 0
    while process.poll() is None:
        most = max(most, _memory(process))
        time.sleep(0.3)
    if process.returncode:
        raise subprocess.CalledProcessError(process.returncode, "evrin tiles")
    return Run((time.perf_counter() - start) / points * 1e6, most / 1e6)


def _memory(process: Any) -> int:
    """Memory of a process and all that it has started; what several share is counted once."""
    total = 0
    try:
        for each in (process, *process.children(recursive=True)):
            total += each.memory_full_info().pss
    except psutil.Error:
        pass
    return total


def tile_rows(rows: Any) -> None:
    """Time 5 and 20 million points."""
    with TemporaryDirectory() as temporary:
        tiled(Path(temporary) / "first", 200_000)
        few, many = (tiled(Path(temporary) / str(size), size * 1_000_000) for size in (5, 20))
    rows.at_most("evrin tiles, 20 million: seconds a million points, beside 5", (many.seconds, few.seconds), 1.3)
    rows.limit("memory at the peak, all processes, 5 million points", few.megabytes, 2000, "MB")
    rows.limit("memory at the peak, all processes, 20 million points", many.megabytes, 2000, "MB")
