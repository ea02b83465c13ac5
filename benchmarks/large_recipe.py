"""A large recipe on disk: a million points, 100,000 breakline segments, 50 boundaries; and contours to weed."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd

from evrin.kernels import Floats
from evrin.survey.lines.strands import Strand

SIDE = 2000.0
RECIPE = """\
[[source]]
file = "points.csv"
role = "points"

[[source]]
file = "lines.csv"
role = "breaklines"

[[boundary]]
file   = "limit.geojson"
effect = "keep"

[[boundary]]
file   = "cuts.geojson"
effect = "cut"

[[edit]]
do = "raise"
at = [1000.0, 1000.0]
by = 0.1

[check]
edit_reach = 5.0
"""


def ground(x: Floats, y: Floats) -> Floats:
    return np.asarray(40.0 + 5.0 * np.sin(x / 90.0) * np.cos(y / 70.0))


def lay_out(folder: Path, count: int = 1_000_000) -> Path:
    """Write the files and the recipe, and return its path."""
    rng = np.random.default_rng(5)
    x, y = rng.uniform(0, SIDE, (2, count)).round(3)
    z = (ground(x, y) + rng.normal(0.0, 0.01, count)).round(3)
    points = {"number": np.arange(1, count + 1), "easting": x, "northing": y, "height": z, "code": "G"}
    pd.DataFrame(points).to_csv(folder / "points.csv", index=False)
    pd.concat([_line(k) for k in range(2000)]).to_csv(folder / "lines.csv", index=False)
    limit = [[5, 5], [1995, 5], [1995, 1995], [5, 1995]]
    _write_rings(folder / "limit.geojson", [limit])
    _write_rings(folder / "cuts.geojson", [_circle(100 + 260 * (k % 7), 100 + 260 * (k // 7)) for k in range(49)])
    (folder / "large.toml").write_text(RECIPE, encoding="utf-8")
    return folder / "large.toml"


def _line(number: int) -> pd.DataFrame:
    part = np.linspace(0.0, 1.0, 51)
    x = (number % 50) * 40.0 + 4.0 + 30.0 * part
    y = (number // 50) * 50.0 + 25.0 + 12.0 * np.sin(3.0 * part + number)
    return pd.DataFrame({"line": f"L{number}", "easting": x, "northing": y, "height": ground(x, y)}).round(3)


def _circle(east: float, north: float, radius: float = 30.0, count: int = 24) -> list[list[float]]:
    angle = np.linspace(0.0, 2.0 * np.pi, count, endpoint=False)
    ring = np.column_stack((east + radius * np.cos(angle), north + radius * np.sin(angle))).round(3)
    return [[float(value) for value in place] for place in ring]


def _write_rings(path: Path, rings: list[list[list[float]]]) -> None:
    features = [
        {
            "type": "Feature",
            "properties": {"name": f"{path.stem} {k}"},
            "geometry": {"type": "Polygon", "coordinates": [[*ring, ring[0]]]},
        }
        for k, ring in enumerate(rings, 1)
    ]
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}), encoding="utf-8")


def contours_to_weed(lines: int = 500, vertices: int = 1000) -> list[Strand]:
    """Return closed contours side by side."""
    angle = np.linspace(0.0, 2.0 * np.pi, vertices, endpoint=False)
    out = []
    for k in range(lines):
        radius = 50.0 + 0.5 * k + 0.2 * np.sin(12.0 * angle + 0.1 * k)
        ring = np.column_stack((radius * np.cos(angle), radius * np.sin(angle), np.full(vertices, 40.0 + 0.25 * k)))
        out.append(Strand.made(f"contour {k}", ring, closed=True))
    return out
