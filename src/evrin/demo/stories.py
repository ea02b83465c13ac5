"""Files that a colleague might send, each for a story with a beginning and an end, made up beside Ostrel Weir."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from evrin.formats.door.format_registry import package
from evrin.kernels import Floats

if TYPE_CHECKING:
    from ezdxf.document import Drawing
    from ezdxf.layouts import Modelspace

_HILL = (4040.0, 2930.0)


def hillside(x: Floats, y: Floats) -> Floats:
    """Return the height of a made-up hillside north of the site.

    Parameters
    ----------
    x, y : array of float64
        Easting and northing.

    Returns
    -------
    array of float64

    Examples
    --------
    >>> hillside(np.array([4040.0]), np.array([2930.0])).tolist()
    [44.0]
    """
    return np.asarray(44.0 + 0.08 * (y - _HILL[1]) + 1.2 * np.sin((x - _HILL[0]) / 40.0))


def write_bare_contours(folder: Path) -> None:
    """Write contours without levels, in pieces, and the limit of what is to be covered.

    Parameters
    ----------
    folder : Path
        Where the files are written.
    """
    document, space = _drawing()
    east = np.linspace(0.0, 100.0, 41)
    for k in range(9):
        level = 43.5 + 0.5 * k
        north = (level - 44.0 - 1.2 * np.sin(east / 40.0)) / 0.08
        line = np.column_stack((_HILL[0] + east, _HILL[1] + north))
        for start in (0, 14, 28):
            piece = line[start : start + 15]
            space.add_lwpolyline(piece.tolist(), dxfattribs={"layer": "CONTOURS"})
    document.saveas(folder / "bare-contours.dxf")
    limit = [(4036, 2928), (4144, 2924), (4144, 2982), (4036, 2986)]
    _write_polygons(folder / "limit.geojson", [limit])


def write_road(folder: Path) -> None:
    """Write a field book of a road between kerbs, with a coded building beside it.

    Parameters
    ----------
    folder : Path
        Where the files are written.
    """
    rows, number = [], 1
    for k in range(15):
        x = 4000.0 + 6.0 * k
        y = 2940.0 + 6.0 * np.sin(x / 45.0)
        start = " ST" if k == 0 else ""
        for code, off, up in (
            ("KERBL1", 3.0, 0.12),
            ("CHANL1", 2.9, 0.0),
            ("CHANR2", -2.9, 0.0),
            ("KERBR2", -3.0, 0.12),
        ):
            rows.append(f"{number},{y + off:.3f},{x:.3f},{44.0 + 0.01 * k + up:.3f},{code}{start}")
            number += 1
        for off in (7.0, 22.0, -10.0):
            rows.append(f"{number},{y + off:.3f},{x + 1.0:.3f},{44.05 + 0.01 * k + 0.02 * off:.3f},GRASS")
            number += 1
    corners = [(4030.0, 2953.0), (4042.0, 2953.0), (4042.0, 2960.0), (4030.0, 2960.0)]
    for k, (x, y) in enumerate(corners):
        mark = " ST" if k == 0 else " CL" if k == 3 else ""
        rows.append(f"{number},{y:.3f},{x:.3f},44.300,BLDG9{mark}")
        number += 1
    (folder / "road.csv").write_text("\n".join(rows) + "\n", encoding="utf-8")


def write_floor(folder: Path) -> None:
    """Write a drawing whose points are all at zero, with a text beside each that gives its height.

    Parameters
    ----------
    folder : Path
        Where the files are written.
    """
    document, space = _drawing()
    rng = np.random.default_rng(31)
    lattice = np.array([(10.0 * k, 10.0 * j) for k in range(8) for j in range(8)])
    for x, y in (lattice + rng.uniform(-3.0, 3.0, lattice.shape) + _HILL).tolist():
        z = float(hillside(np.array([x]), np.array([y]))[0])
        space.add_point((x, y, 0.0), dxfattribs={"layer": "SPOTS"})
        text = space.add_text(f"{z:.2f}", dxfattribs={"layer": "SPOT HEIGHTS", "height": 0.8})
        text.set_placement((x + 0.5, y + 0.4))
    document.saveas(folder / "floor.dxf")


def write_islands(folder: Path) -> None:
    """Write shots over a stretch of the river, and the three islands in it that were surveyed.

    Parameters
    ----------
    folder : Path
        Where the files are written.
    """
    rng = np.random.default_rng(32)
    places = rng.uniform(0.0, 1.0, (400, 2)) * (120.0, 60.0) + (4040.0, 2700.0)
    heights = 41.0 + 0.4 * np.sin(places[:, 0] / 11.0) * np.cos(places[:, 1] / 9.0)
    rows = [f"{k},{y:.3f},{x:.3f},{z:.3f},GRAVEL" for k, ((x, y), z) in enumerate(zip(places, heights, strict=True), 1)]
    (folder / "shots.csv").write_text("\n".join(rows) + "\n", encoding="utf-8")
    turn = np.linspace(0.0, 2.0 * np.pi, 25)[:-1]
    islands = [
        [(x + east * np.cos(t), y + north * np.sin(t)) for t in turn]
        for x, y, east, north in (
            (4062.0, 2722.0, 16.0, 9.0),
            (4100.0, 2738.0, 14.0, 12.0),
            (4138.0, 2718.0, 15.0, 8.0),
        )
    ]
    _write_polygons(folder / "islands.geojson", islands)


def _write_polygons(path: Path, rings: Sequence[Sequence[tuple[float, float]]]) -> None:
    features = [
        {
            "type": "Feature",
            "properties": {"name": f"{path.stem} {k}"},
            "geometry": {"type": "Polygon", "coordinates": [[[float(x), float(y)] for x, y in (*ring, ring[0])]]},
        }
        for k, ring in enumerate(rings, 1)
    ]
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}), encoding="utf-8")


def _drawing() -> tuple[Drawing, Modelspace]:
    document = package("ezdxf").new(setup=False)
    document.units = 6
    return document, document.modelspace()
