"""A flight over Ostrel Weir, as large as is asked for: LAZ files of hills, banks, a ditch, trees, barns and noise.

python benchmarks/flight.py FOLDER POINTS FILES
"""

from __future__ import annotations

import sys
from pathlib import Path

import laspy
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
DENSITY = 8.0
CORNER = np.array([4000.0, 2600.0])
_BLOCK = 2_000_000


def ground(x: Floats, y: Floats) -> Floats:
    """Return the height of the ground: hills, a leat between banks, a terrace, a river."""
    hills = 14.0 * np.sin(x / 410.0) * np.cos(y / 530.0) + 3.0 * np.sin(x / 61.0 + y / 83.0)
    small = 0.25 * np.sin(x / 11.0) * np.sin(y / 13.0)
    leat = np.abs(np.mod(y + 40.0 * np.sin(x / 300.0), 700.0) - 350.0)
    banks = np.interp(leat, [0.0, 2.0, 4.0, 5.5, 9.0], [-1.6, -1.6, 0.8, 0.8, 0.0])
    terrace = 2.5 * np.clip((np.mod(x, 900.0) - 400.0) / 6.0, 0.0, 1.0) * (np.mod(x, 900.0) < 800.0)
    return np.asarray(80.0 + hills + small + banks + terrace)


def points(count: int, box: tuple[float, float, float, float], random: np.random.Generator) -> Floats:
    """Return points (count, 3) of a part of the flight: ground, trees, barns, a few strays far below."""
    west, south, east, north = box
    x, y = random.uniform(west, east, count), random.uniform(south, north, count)
    z = ground(x, y) + random.normal(0.0, 0.012, count)
    wooded = np.sin(x / 90.0) * np.sin(y / 120.0) > 0.4
    z += np.where(wooded & (random.random(count) < 0.55), random.uniform(0.5, 14.0, count), 0.0)
    inside = (np.mod(x, 160.0) < 18.0) & (np.mod(y, 210.0) < 11.0)
    barn = np.floor(x / 160.0) * 7.0 + np.floor(y / 210.0) * 3.0
    z = np.where(inside & (np.mod(barn, 5.0) < 2.0), 95.0 + np.mod(barn, 9.0) + hills_at(x, y), z)
    z[random.random(count) < 2e-6] -= 30.0
    pond = np.hypot(np.mod(x, 1300.0) - 600.0, np.mod(y, 1700.0) - 900.0) < 60.0
    return np.asarray(np.column_stack((x, y, z))[~pond])


def hills_at(x: Floats, y: Floats) -> Floats:
    """Return how much a barn's roof is lifted by the hill under it."""
    return np.asarray(14.0 * np.sin(np.floor(x / 160.0) * 160.0 / 410.0) * np.cos(np.floor(y / 210.0) * 210.0 / 530.0))


def write_flight(folder: Path, total: int, files: int) -> None:
    """Write so many points in so many files that lie beside one another."""
    folder.mkdir(parents=True, exist_ok=True)
    columns = max(round(files**0.5), 1)
    while files % columns:
        columns -= 1
    rows = files // columns
    side = (total / DENSITY) ** 0.5
    width, height = side / columns, side / rows
    for number in range(files):
        column, row = number % columns, number // columns
        west, south = CORNER + (column * width, row * height)
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = np.full(3, 0.001), np.array([west, south, 0.0]).round()
        random = np.random.default_rng(number)
        with laspy.open(folder / f"flight-{number:03d}.laz", "w", header=header) as out:
            left = total // files
            while left:
                size = min(left, _BLOCK)
                xyz = points(size, (west, south, west + width, south + height), random)
                record = laspy.ScaleAwarePointRecord.zeros(len(xyz), header=header)
                record.x, record.y, record.z = xyz.T
                out.write_points(record)
                left -= size


if __name__ == "__main__":
    write_flight(Path(sys.argv[1]), int(float(sys.argv[2])), int(sys.argv[3]))
