"""A flight in four files made a surface in tiles, as one that does not fit in memory would be; a part of it."""

import sys
import tempfile
from pathlib import Path

import laspy
import numpy as np

import evrin
from evrin.demo import lay_out, true_error
from evrin.large import Levels, tiled, workers, write_contours, write_heights

RECIPE = """
[site]
name = "Ostrel Weir from the air"

[[source]]
files = "flight/*.laz"
role  = "cloud"
ground_filter = {}
thin  = { tolerance = 0.08 }
"""


def cut_into_four(flight: Path, folder: Path) -> None:
    """Write the points of a flight north-east, north-west, south-east and south-west of its middle."""
    folder.mkdir()
    cloud = laspy.read(flight)
    is_east, is_north = cloud.x > np.median(cloud.x), cloud.y > np.median(cloud.y)
    for number in range(4):
        part = laspy.LasData(cloud.header)
        part.points = cloud.points[(is_east == bool(number % 2)) & (is_north == bool(number // 2))]
        part.write(folder / f"{number}.laz")


def main(folder: Path) -> None:
    """Make it a surface in tiles of 40 m with two workers; write contours and a grid; compare a part with the truth."""
    lay_out(folder, received=True)
    cut_into_four(folder / "received" / "flight-bare.laz", folder / "flight")
    (folder / "air.toml").write_text(RECIPE, encoding="utf-8")
    with workers(2) as crew:
        ground = tiled(evrin.Recipe.read(folder / "air.toml"), folder / "air-tiles", crew, tile=40.0)
        print(ground, *ground.notes, sep="\n")
        lines = write_contours(ground, crew, folder / "contours.gpkg", Levels(0.25))
        grid = write_heights(ground, crew, folder / "heights.tif", 0.5)
        print(f"{lines:,} contours; heights of {grid.columns:,} by {grid.rows:,} cells")
        part = ground.within((4080.0, 2860.0, 4130.0, 2900.0))
    rmse, largest = true_error(part)
    print(f"{part}: RMSE {rmse:.3f} m, largest error {largest:.2f} m")
    print(f"its first vertex is {part.provenance.describe(0)}")
    evrin.write(folder / "part.xml", part)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(Path(sys.argv[1]))
    else:
        with tempfile.TemporaryDirectory() as temporary:
            main(Path(temporary))
