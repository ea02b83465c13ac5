"""What others sent about Ostrel Weir: an old drawing, a flight, the ponds, another office's surface and its edges."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.files import beside as named_beside
from evrin.base.files import whole_text_file
from evrin.demo import ground
from evrin.demo.ground import Floats, true_height
from evrin.demo.shots import SEED, beside, clear_of, within_site
from evrin.formats.door.format_registry import package
from evrin.formats.door.writers import write
from evrin.formats.drawing.drawing_writing import without_the_day, write_surface
from evrin.formats.gis.gis_files import write_layer
from evrin.making.from_arrays import triangulate
from evrin.surface.surface import Surface
from evrin.tin.query.inside_rings import is_inside_rings

if TYPE_CHECKING:
    from ezdxf.layouts import BaseLayout

FLIGHT_POINTS = 300_000
GROUND, BUSH, TREE, ROOF, NOISE_CLASS = 2, 3, 5, 6, 7
ZERO_SPOTS = (17, 58)
_CHUNK = 20_000


def received_files() -> dict[str, Callable[[Path], None]]:
    """Return the name of each file, and how to write it."""
    return {
        "old-survey.dxf": write_old_survey,
        "flight.laz": lambda path: write_flight(path, classified=True),
        "flight-bare.laz": lambda path: write_flight(path, classified=False),
        "ponds.gpkg": write_ponds,
        "other-office.xml": lambda path: write(path, other_office()),
        "other-office-edges.dxf": lambda path: write_surface(path, other_office(), ("edges",)),
        "river-bed.asc": write_river_bed,
    }


def write_old_survey(path: Path) -> None:
    """Draw the survey of thirty years ago: spot heights as blocks beside their numbers, two of them at zero height."""
    with without_the_day():
        drawing = package("ezdxf").new("R2000")
    drawing.units = 6
    for layer, colour in (
        *(("SPOT", 3), ("SPOT-NUMBERS", 3), ("BANK-TOP", 1), ("CONTOUR-25", 30), ("CONTOUR-PLAN", 32)),
        *(("SHEET", 7), ("OLD-FENCE", 8)),
    ):
        drawing.layers.add(layer, color=colour)
    drawing.layers.get("OLD-FENCE").freeze()
    block = drawing.blocks.new("SPOT")
    block.add_circle((0, 0), 0.2)
    space = drawing.modelspace()
    rng = np.random.default_rng(SEED + 1)
    _draw_spots(space, rng)
    _draw_bank_tops(space)
    _draw_contours(space)
    _draw_sheet(space)
    with whole_text_file(path, guarded=False) as stream, without_the_day():
        drawing.write(stream)


def old_spots(rng: np.random.Generator) -> Floats:
    """Return the places (n, 3) of the old spot heights, to the centimetre."""
    east, north = np.meshgrid(np.arange(4032.0, 4212.0, 14.0), np.arange(2826.0, 2914.0, 11.0))
    places = np.column_stack((east.ravel(), north.ravel())) + rng.uniform(-2.0, 2.0, (east.size, 2))
    places = places[~is_inside_rings(places, [ground.BARN])]
    return np.column_stack((places.round(2), true_height(*places.round(2).T).round(2)))


def _draw_spots(space: BaseLayout, rng: np.random.Generator) -> None:
    for number, (x, y, z) in enumerate(old_spots(rng).tolist(), 1):
        height = 0.0 if number in ZERO_SPOTS else z
        space.add_blockref("SPOT", (x, y, height), dxfattribs={"layer": "SPOT"})
        attributes = {"layer": "SPOT-NUMBERS", "height": 1.2}
        space.add_text(f"{z:.2f}", dxfattribs=attributes).set_placement((x + 0.5, y + 0.4))


def _draw_bank_tops(space: BaseLayout) -> None:
    """Draw the leat's bank tops as loose segments, as an old digitiser left them."""
    for side in (1.0, -1.0):
        places = within_site(beside("leat", side * ground.LEAT_TOP, 8.0))
        places = places[places[:, 1] > ground.BANK_NORTH + 4.0]
        for part in clear_of("track", places, ground.TRACK_VERGE + 0.2):
            tops = np.column_stack((part.round(3), true_height(*part.T).round(2)))
            for start, end in zip(tops[:-1].tolist(), tops[1:].tolist(), strict=True):
                space.add_line(start, end, dxfattribs={"layer": "BANK-TOP"})


def _draw_contours(space: BaseLayout) -> None:
    """Draw contours of the fields: at their heights in the west, in plan only in the east."""
    east, north = np.meshgrid(np.arange(4030.0, 4212.0, 3.0), np.arange(2826.0, 2914.0, 3.0))
    heights = ground.field(east.ravel(), north.ravel())
    lines = triangulate(np.column_stack((east.ravel(), north.ravel(), heights))).contours(0.25)
    for line in lines:
        if len(line.points) < 6:
            continue
        in_west = line.points[:, 0].mean() < 4120.0
        layer = "CONTOUR-25" if in_west else "CONTOUR-PLAN"
        attributes = {"layer": layer, "elevation": line.level if in_west else 0.0}
        space.add_lwpolyline(line.points.round(2).tolist(), dxfattribs=attributes)


def _draw_sheet(space: BaseLayout) -> None:
    frame = [(4010, 2790), (4260, 2790), (4260, 2930), (4010, 2930)]
    space.add_lwpolyline(frame, close=True, dxfattribs={"layer": "SHEET"})
    space.add_lwpolyline([(4218, 2790), (4218, 2930)], dxfattribs={"layer": "SHEET"})
    title = {"layer": "SHEET", "height": 3.0}
    for row, text in enumerate(("OSTREL WEIR", "SURVEY OF 1987", "1 : 500", "HEIGHTS IN METRES")):
        space.add_text(text, dxfattribs=title).set_placement((4222, 2920 - 6 * row))
    space.add_line((4180, 2830, 0), (4210, 2842, 0), dxfattribs={"layer": "OLD-FENCE"})
    space.add_hatch(dxfattribs={"layer": "SHEET"}).paths.add_polyline_path([(4222, 2795), (4240, 2795), (4240, 2800)])


def _in_water(x: Floats, y: Floats) -> np.ndarray:
    radius = np.hypot((x - ground.POND[0]) / ground.POND_RADII[0], (y - ground.POND[1]) / ground.POND_RADII[1])
    return np.asarray((radius < 1.0) | (y < ground.RIVER_NORTH))


def true_heights_of_many(x: Floats, y: Floats) -> Floats:
    """Return true heights a part at a time, as memory for all at once would be large."""
    parts = range(0, len(x), _CHUNK)
    return np.concatenate([true_height(x[k : k + _CHUNK], y[k : k + _CHUNK]) for k in parts])


@cache
def flight(count: int = FLIGHT_POINTS) -> tuple[Floats, np.ndarray]:
    """Return the points (n, 3) of the flight and what each hit; water gives no echo.

    Trees are scattered over the fields, bushes along the leat; the barn has its roof, and a few echoes are strays.
    """
    rng = np.random.default_rng(SEED + 2)
    x = rng.uniform(ground.WEST, ground.EAST, 2 * count)
    y = rng.uniform(ground.SOUTH, ground.NORTH, 2 * count)
    dry = np.flatnonzero(~_in_water(x, y))[:count]
    x, y = x[dry].round(3), y[dry].round(3)
    z = true_heights_of_many(x, y) + rng.normal(0.0, 0.02, len(x))
    hit = np.full(len(x), GROUND, np.uint8)
    _grow_trees(rng, x, y, z, hit)
    _grow_bushes(rng, x, y, z, hit)
    roof = is_inside_rings(np.column_stack((x, y)), [ground.BARN])
    ridge = np.abs((y - 2886.5) - 0.22 * (x - 4054.0))
    z[roof], hit[roof] = 47.8 - 0.35 * ridge[roof] + rng.normal(0.0, 0.02, int(roof.sum())), ROOF
    strays = rng.choice(len(x), 60, replace=False)
    z[strays] += np.where(np.arange(60) % 2 == 0, rng.uniform(12.0, 40.0, 60), rng.uniform(-12.0, -3.0, 60))
    hit[strays] = NOISE_CLASS
    return np.column_stack((x, y, z.round(3))), hit


def _grow_trees(rng: np.random.Generator, x: Floats, y: Floats, z: Floats, hit: np.ndarray) -> None:
    for _ in range(45):
        east, north = rng.uniform(ground.WEST, ground.EAST), rng.uniform(2826.0, ground.NORTH)
        crown, top = rng.uniform(1.8, 4.0), rng.uniform(5.0, 10.0)
        distance = np.hypot(x - east, y - north)
        caught = (distance < crown) & (rng.random(len(x)) < 0.65)
        count = int(caught.sum())
        z[caught] += (top * np.sqrt(1.0 - (distance[caught] / crown) ** 2)) * rng.uniform(0.55, 1.0, count) + 1.2
        hit[caught] = TREE


def _grow_bushes(rng: np.random.Generator, x: Floats, y: Floats, z: Floats, hit: np.ndarray) -> None:
    for east, north in rng.permutation(beside("leat", 7.5, 4.0))[:22].tolist():
        distance = np.hypot(x - east, y - north)
        caught = (distance < rng.uniform(0.8, 1.8)) & (hit == GROUND) & (rng.random(len(x)) < 0.7)
        z[caught] += rng.uniform(0.5, 1.8, int(caught.sum()))
        hit[caught] = BUSH


def write_flight(path: Path, *, classified: bool) -> None:
    """Write the flight as LAZ, with classes or with none."""
    laspy = package("laspy")
    points, hit = flight()
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.offsets, header.scales = np.array([4000.0, 2800.0, 0.0]), np.full(3, 0.001)
    header.creation_date, header.generating_software = None, "Evrin demo"
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = points.T
    cloud.classification = hit if classified else np.zeros_like(hit)
    cloud.return_number = np.ones(len(hit), np.uint8)
    cloud.number_of_returns = np.where(hit == TREE, 2, 1).astype(np.uint8)
    with named_beside(path) as target:
        cloud.write(target)


def write_ponds(path: Path) -> None:
    """Write the pond and a wet hollow with level and depth as attributes."""
    shapely = package("shapely")
    angle = np.linspace(0.0, 2.0 * np.pi, 41)
    circle = np.column_stack((np.cos(angle), np.sin(angle)))
    rings = [ground.POND + ground.POND_RADII * circle, np.array([4150.0, 2836.0]) + 2.5 * circle]
    shapes = np.array([shapely.Polygon(ring.round(2)) for ring in rings], object)
    fields = {
        "NAME": np.array(["mill pond", "wet hollow"], object),
        "LEVEL": np.array([ground.POND_LEVEL, 42.35]),
        "DEPTH": np.array([ground.POND_DEPTH, 0.3]),
    }
    with named_beside(path) as target:
        write_layer(target, "ponds", shapes, "Polygon", fields, "local")


def other_office() -> Surface:
    """Return the surface that another office made of a coarse grid of its own."""
    rng = np.random.default_rng(SEED + 3)
    east, north = np.meshgrid(np.arange(4030.0, 4212.0, 6.0), np.arange(2822.0, 2914.0, 6.0))
    places = (np.column_stack((east.ravel(), north.ravel())) + rng.uniform(-1.5, 1.5, (east.size, 2))).round(3)
    heights = (true_height(*places.T) + rng.normal(0.0, 0.03, len(places))).round(3)
    surface = triangulate(np.column_stack((places, heights)), longest_edge=12.0, name="ground 2019")
    return surface.renamed(description="from another office")


def write_river_bed(path: Path) -> None:
    """Write the river's bed above the weir as an echo sounder's grid, with gaps where it ran aground."""
    columns, rows = np.arange(4030.0, 4086.0, 2.0), np.arange(2803.0, 2813.0, 2.0)
    heights = true_height(*(axis.ravel() for axis in np.meshgrid(columns, rows))).reshape(len(rows), len(columns))
    heights[0, ::5] = -9999.0
    with whole_text_file(path, guarded=False) as stream:
        stream.write(f"ncols {len(columns)}\nnrows {len(rows)}\nxllcenter {columns[0]}\nyllcenter {rows[0]}\n")
        stream.write("cellsize 2.0\nNODATA_value -9999\n")
        np.savetxt(stream, heights[::-1], fmt="%.3f")
