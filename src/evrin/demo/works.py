"""What is built at Ostrel Weir, and what changed: a lay-by by the track, holes bored for it, a corner shot again."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.base.files import whole_text_file
from evrin.demo import ground
from evrin.demo.ground import Floats
from evrin.formats.door.borehole_files import read_boreholes
from evrin.formats.door.writers import write, write_lines
from evrin.making.combining.combined_surfaces import Combined, combine
from evrin.making.from_arrays import triangulate
from evrin.making.layers.ground_layers import GroundLayers, layers_under
from evrin.making.pads.balancing import balanced
from evrin.making.pads.pad_earthworks import Pad
from evrin.making.pads.pad_slopes import Slopes
from evrin.making.pads.pads import PadToGround
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.query.inside_rings import is_inside_rings

# Forty metres by twelve along the east of the track, clear of its verge.
_MIDDLE, _ALONG = np.array([4143.8, 2893.5]), np.array([0.195, 0.981])
LAY_BY_SLOPES = Slopes(cut=2.0, fill=2.0)
_FIRST_LEVEL, _BULKING = 43.6, 1.0
CORNER = np.array([[4168, 2876], [4209, 2876], [4209, 2913], [4197, 2922], [4168, 2921]], float)
# A year later the ground north of the pond has been made up to a level bank.
BANK, BANK_HEIGHT, BANK_SLOPE = (4174.0, 2906.0, 4200.0, 2914.0), 0.8, 0.5
_SPACING, _NOISE = 1.5, 0.02
MATERIALS = ("made ground", "alluvium", "gravel")
_HOLES = (("BH1", 4138.5, 2878.0), ("BH2", 4152.5, 2881.0), ("BH3", 4136.0, 2896.0), ("BH4", 4160.0, 2900.0),
          ("BH5", 4146.5, 2911.0))  # fmt: skip
_DEPTHS = {"BH1": 5.0, "BH2": 5.0, "BH3": 2.4, "BH4": 5.0, "BH5": 5.0}
BETWEEN = (41.0, 42.6)
SECTION = [(4133.0, 2874.0), (4156.0, 2914.0)]


def lay_by_outline() -> Floats:
    """Return the corners of the lay-by (4, 2)."""
    along = _ALONG / np.hypot(*_ALONG)
    across = np.array([along[1], -along[0]])
    corners = [(-20, -6), (-20, 6), (20, 6), (20, -6)]
    return np.array([_MIDDLE + a * along + b * across for a, b in corners])


def made_thickness(x: Floats, y: Floats) -> Floats:
    """Return how thick the made ground beside the track is."""
    _, offset = ground.chainage_and_offset(ground.centre_line("track"), np.ravel(x), np.ravel(y))
    thick: Floats = np.clip((25.0 - np.abs(offset)) / 12.0, 0.0, 1.0).reshape(np.shape(x)) * 0.9
    return thick


def gravel_top(x: Floats, y: Floats) -> Floats:
    """Return the height of the top of the gravel, a plane that falls to the south."""
    top: Floats = 41.2 + 0.012 * (np.asarray(y) - 2880.0) - 0.004 * (np.asarray(x) - 4140.0)
    return top


def true_tops(x: Floats, y: Floats) -> list[Floats]:
    """Return the true height of the top of each material, from above."""
    surface = ground.true_height(x, y)
    alluvium = surface - made_thickness(x, y)
    return [surface, alluvium, np.minimum(gravel_top(x, y), alluvium)]


def borehole_rows() -> str:
    """Return the table of the boreholes, a row for each material that a hole meets."""
    lines = ["hole,easting,northing,ground,material,depth"]
    for name, x, y in _HOLES:
        surface, *tops = (round(float(np.ravel(top)[0]), 2) for top in true_tops(np.array([x]), np.array([y])))
        end = _DEPTHS[name]
        depths = [0.0, *(round(surface - top, 2) for top in tops)]
        for material, depth, below in zip(MATERIALS, depths, [*depths[1:], end], strict=True):
            if depth < end and below > depth:
                lines.append(f"{name},{x:.2f},{y:.2f},{surface:.2f},{material},{depth:.2f}")
        lines.append(f"{name},{x:.2f},{y:.2f},{surface:.2f},end,{end:.2f}")
    return "\n".join(lines) + "\n"


def height_a_year_later(x: Floats, y: Floats) -> Floats:
    """Return the true height of the corner when it was surveyed again."""
    west, south, east, north = BANK
    inside = np.minimum.reduce([x - west, east - x, y - south, north - y])
    later: Floats = ground.true_height(x, y) + np.clip(inside * BANK_SLOPE, 0.0, BANK_HEIGHT)
    return later


def bank_volume() -> float:
    """Return the true volume of the bank: by the prismoidal rule, exact for even sides."""
    west, south, east, north = BANK
    length, width, run = east - west, north - south, BANK_HEIGHT / BANK_SLOPE
    foot, top = length * width, (length - 2.0 * run) * (width - 2.0 * run)
    return BANK_HEIGHT * (foot + 4.0 * (length - run) * (width - run) + top) / 6.0


def corner_surface(seed: int = 29) -> Surface:
    """Return the corner as it was surveyed a year later."""
    rng = np.random.default_rng(seed)
    low, high = CORNER.min(axis=0), CORNER.max(axis=0)
    x, y = np.meshgrid(np.arange(low[0], high[0], _SPACING), np.arange(low[1], high[1], _SPACING))
    x, y = (each.ravel() + rng.uniform(-0.3, 0.3, each.size) * _SPACING for each in (x, y))
    inside = is_inside_rings(np.column_stack((x, y)), [CORNER])
    x, y = x[inside], y[inside]
    edges = _bank_edges()
    z = height_a_year_later(x, y) + rng.normal(0.0, _NOISE, len(x))
    return triangulate(np.column_stack((x, y, z)), edges, name="corner, a year later")


def _bank_edges() -> list[Floats]:
    """Foot and top of the bank, as shot."""
    west, south, east, north = BANK
    run = BANK_HEIGHT / BANK_SLOPE
    rings = []
    for inset in (0.0, run):
        corners = np.array([[west + inset, south + inset], [east - inset, south + inset],
                            [east - inset, north - inset], [west + inset, north - inset]])  # fmt: skip
        sides = [corners[k] + part * (corners[(k + 1) % 4] - corners[k]) for k in range(4) for part in (0.0, 0.5)]
        ring = np.array([*sides, sides[0]])
        rings.append(np.column_stack((ring, height_a_year_later(ring[:, 0], ring[:, 1]))))
    return rings


class Beside(NamedTuple):
    """A figure beside its truth.

    Attributes
    ----------
    name, units : str
        What it is, and its unit.
    found, truth : float
        The figure, and its truth.
    """

    name: str
    units: str
    found: float
    truth: float


class Works(NamedTuple):
    """What was built, combined and laid.

    Attributes
    ----------
    rows : list of Beside
        Figures beside their truths.
    lay_by : PadToGround
        The lay-by.
    combined : Combined
        The ground with the corner that was shot again.
    layers : GroundLayers
        Layers under the lay-by.
    """

    rows: list[Beside]
    lay_by: PadToGround
    combined: Combined
    layers: GroundLayers


def true_ground(window: tuple[float, float, float, float], step: float = 0.5) -> Surface:
    """Return the true ground of a window as a surface, sampled closely."""
    west, south, east, north = window
    x, y = (each.ravel() for each in np.meshgrid(np.arange(west, east, step), np.arange(south, north, step)))
    return triangulate(np.column_stack((x, y, ground.true_height(x, y))), name="true ground")


def lay_by_on(surface: Surface) -> tuple[float, PadToGround]:
    """Return the balancing level of the lay-by on a ground, and the lay-by there."""
    pad = Pad.of(lay_by_outline(), _FIRST_LEVEL, LAY_BY_SLOPES, "lay-by")
    balance = balanced(surface, [pad], _BULKING)
    return _FIRST_LEVEL + balance.shift, balance.built[0]


def true_volumes(step: float = 0.1) -> list[float]:
    """Return the true volume of each material in the outline of the lay-by, between two levels."""
    outline = lay_by_outline()
    low, high = outline.min(axis=0), outline.max(axis=0)
    x, y = (
        each.ravel()
        for each in np.meshgrid(*(np.arange(a, b, step) + step / 2.0 for a, b in zip(low, high, strict=True)))
    )
    inside = is_inside_rings(np.column_stack((x, y)), [outline])
    tops = true_tops(x[inside], y[inside])
    held = [float((np.clip(top, *BETWEEN) - BETWEEN[0]).sum()) * step * step for top in tops]
    return [upper - lower for upper, lower in zip(held, [*held[1:], 0.0], strict=True)]


def work_on(surface: Surface, folder: Path) -> Works:
    """Build the lay-by, lay the layers under it, and combine the ground with the corner, each beside its truth.

    Parameters
    ----------
    surface : Surface
        The existing ground.
    folder : Path
        Where `lay_out_works` wrote the boreholes.

    Returns
    -------
    Works
    """
    level, lay_by = lay_by_on(surface)
    true_level, true_lay_by = lay_by_on(true_ground((4110.0, 2855.0, 4180.0, 2921.0)))
    corner = corner_surface()
    combined = combine([surface, corner], name="ground with the corner")
    rise = combined.surface.volume_above(surface, within=_bank_ring()).total.net
    layers = layers_under(surface, read_boreholes(folder / "boreholes.csv", surface.frame)[0])
    volumes = layers.volumes(*BETWEEN, within=lay_by_outline())["volume"].tolist()
    rows = [
        Beside("balancing level of the lay-by", "m", level, true_level),
        Beside("its cut", "m³", lay_by.cut, true_lay_by.cut),
        Beside("bank in the corner, a year later", "m³", rise, bank_volume()),
    ]
    rows += [
        Beside(f"{name} under the lay-by, {BETWEEN[0]:g} to {BETWEEN[1]:g}", "m³", volume, truth)
        for name, volume, truth in zip(MATERIALS, volumes, true_volumes(), strict=False)
    ]
    return Works(rows, lay_by, combined, layers)


def _bank_ring() -> Floats:
    west, south, east, north = BANK
    return np.array([[west, south], [east, south], [east, north], [west, north]])


def lay_out_works(folder: Path) -> list[Path]:
    """Write outline, boreholes and the later corner, where they are not there yet.

    Parameters
    ----------
    folder : Path
        Where the files are written.

    Returns
    -------
    list of Path
        What was written.
    """
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    outline, holes, corner = (folder / name for name in ("lay-by.geojson", "boreholes.csv", "corner-later.xml"))
    if not outline.exists():
        ring = np.column_stack((lay_by_outline(), np.full(4, _FIRST_LEVEL)))
        write_lines(outline, [SourceLine("lay-by", ring, True)], units="m")
        written.append(outline)
    if not holes.exists():
        with whole_text_file(holes, guarded=False) as stream:
            stream.write(borehole_rows())
        written.append(holes)
    if not corner.exists():
        write(corner, corner_surface())
        written.append(corner)
    return written
