"""Earthworks at Ostrel Weir, each with its true volume: the silt heap on three dates, and the river bed dredged.

The heap of every date has a ridge and even sides, so its volume above the fields is that of a prism and a cone. The bed
is dredged to an even depth with even sides, so what is taken out is a prismoid's.
"""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.analysis.volumes.heaps import SMOOTH, HeapVolume
from evrin.demo import ground
from evrin.demo.ground import Floats
from evrin.formats.door.writers import write
from evrin.making.from_arrays import triangulate
from evrin.recipe.handover.measuring import MeasuredVolume
from evrin.recipe.handover.volume_record import append_entry
from evrin.recipe.tables.volume_table import VolumeTable
from evrin.surface.surface import Surface

_NOISE, _BED_NOISE, _SPACING = 0.02, 0.03, 0.45
HEAP_PLACE = (4096.0, 2896.0)
_WINDOW = (4068.0, 2874.0, 4126.0, 2918.0)
BED_WINDOW = (4092.0, 2805.0, 4142.0, 2813.0)
DREDGED, DREDGED_DEPTH, DREDGED_SLOPE = (4098.0, 2806.5, 4136.0, 2811.5), 0.6, 1.5


class Flight(NamedTuple):
    """The heap on one date.

    Attributes
    ----------
    date : str
        When it was flown.
    height : float
        Of the ridge above the fields.
    slope : float
        Of its sides, rise over run.
    """

    date: str
    height: float
    slope: float

    @property
    def volume(self) -> float:
        """The true volume above the fields."""
        reach = self.height / self.slope
        length = float(np.hypot(*np.diff(ground.HEAP_RIDGE, axis=0)[0]))
        return length * reach * self.height + np.pi * reach**2 * self.height / 3.0


FLIGHTS = (Flight("2026-03-02", 2.2, 0.65), Flight("2026-04-13", 3.0, 0.65), Flight("2026-05-12", 3.6, 0.6))


def fields_height(x: Floats, y: Floats) -> Floats:
    """Return the height of the fields where the heap is, as if it were not there."""
    fields: Floats = ground.true_height(x, y) - ground.heap_height(x, y)
    return fields


def heap_cloud(flight: Flight, seed: int = 7) -> Floats:
    """Return the points of a small cloud (n, 3) of the heap on one date and the fields round it.

    Parameters
    ----------
    flight : Flight
        Which date.
    seed : int
        Of the noise.

    Returns
    -------
    (n, 3) float64

    Examples
    --------
    >>> from evrin.demo.earthworks import FLIGHTS, heap_cloud
    >>> heap_cloud(FLIGHTS[0]).shape[1]
    3
    """
    rng = np.random.default_rng([seed, int(flight.date.replace("-", ""))])
    x, y = _scattered(rng, _WINDOW, _SPACING)
    heap = ground.heap_height(x, y, flight.height, flight.slope)
    return np.column_stack((x, y, fields_height(x, y) + heap + rng.normal(0.0, _NOISE, len(x))))


def _scattered(
    rng: np.random.Generator, window: tuple[float, float, float, float], step: float
) -> tuple[Floats, Floats]:
    west, south, east, north = window
    x, y = np.meshgrid(np.arange(west, east, step), np.arange(south, north, step))
    x, y = (each.ravel() + rng.uniform(-0.4, 0.4, each.size) * step for each in (x, y))
    return x, y


def bed_height(x: Floats, y: Floats, *, dredged: bool) -> Floats:
    """Return the height of the river bed below the weir, before or after dredging."""
    bed = np.full(np.shape(x), ground.RIVER_BELOW)
    if not dredged:
        return bed
    west, south, east, north = DREDGED
    inside = np.minimum.reduce([x - west, east - x, y - south, north - y])
    lowered: Floats = bed - np.clip(inside / DREDGED_SLOPE, 0.0, DREDGED_DEPTH)
    return lowered


def dredged_volume() -> float:
    """Return the true volume taken out of the bed: by the prismoidal rule, exact for a pit with even sides.

    Returns
    -------
    float

    Examples
    --------
    >>> from evrin.demo.earthworks import dredged_volume
    >>> round(dredged_volume(), 3)
    91.428
    """
    west, south, east, north = DREDGED
    length, width, run = east - west, north - south, DREDGED_SLOPE * DREDGED_DEPTH
    top, foot = length * width, (length - 2.0 * run) * (width - 2.0 * run)
    middle = (length - run) * (width - run)
    return DREDGED_DEPTH * (top + 4.0 * middle + foot) / 6.0


def bed_soundings(*, dredged: bool, seed: int = 11) -> Floats:
    """Return soundings (n, 3) of the bed before or after dredging.

    Parameters
    ----------
    dredged : bool
        Whether after dredging.
    seed : int
        Of the noise.

    Returns
    -------
    (n, 3) float64

    Examples
    --------
    >>> from evrin.demo.earthworks import bed_soundings
    >>> bed_soundings(dredged=True).shape[1]
    3
    """
    rng = np.random.default_rng([seed, int(dredged)])
    x, y = _scattered(rng, BED_WINDOW, _SPACING)
    return np.column_stack((x, y, bed_height(x, y, dredged=dredged) + rng.normal(0.0, _BED_NOISE, len(x))))


class VolumeAndTruth(NamedTuple):
    """One volume beside its truth.

    Attributes
    ----------
    name : str
        What was measured.
    volume, within_95, truth : float
        The volume, its ± at 95 percent, and the true volume.
    """

    name: str
    volume: float
    within_95: float
    truth: float


class Earthworks(NamedTuple):
    """What was measured.

    Attributes
    ----------
    rows : list of VolumeAndTruth
        Each volume beside its truth.
    heaps : dict of str to HeapVolume
        By date.
    surfaces : dict of str to Surface
        By the name of the file that holds each.
    """

    rows: list[VolumeAndTruth]
    heaps: dict[str, HeapVolume]
    surfaces: dict[str, Surface]


def measure() -> Earthworks:
    """Measure the heap on three dates and the dredging, each beside its truth.

    Returns
    -------
    Earthworks

    Examples
    --------
    >>> from evrin.demo.earthworks import measure
    >>> all(abs(row.volume - row.truth) <= row.within_95 for row in measure().rows)
    True
    """
    rows, heaps, surfaces = [], {}, {}
    for flight in FLIGHTS:
        surface = triangulate(heap_cloud(flight), name=f"heap {flight.date}")
        heap = surface.heap_volume(HEAP_PLACE)
        heaps[flight.date], surfaces[f"heap-{flight.date}.xml"] = heap, surface
        rows.append(VolumeAndTruth(f"silt heap, {flight.date}", heap.volume, heap.within_95, flight.volume))
    for dredged in (False, True):
        name = "after" if dredged else "before"
        surfaces[f"bed-{name}.xml"] = triangulate(bed_soundings(dredged=dredged), name=f"bed {name} dredging")
    before, after = surfaces["bed-before.xml"], surfaces["bed-after.xml"]
    total = after.volume_above(before, spread=_BED_NOISE, base_spread=_BED_NOISE).total
    rows.append(VolumeAndTruth("river bed dredged", -total.net, total.net_spread.within_95, dredged_volume()))
    return Earthworks(rows, heaps, surfaces)


def hand_over(folder: Path, earthworks: Earthworks) -> list[Path]:
    """Write the surfaces, a record of the heap on three dates, and a picture of it, where they are not there yet.

    Parameters
    ----------
    folder : Path
        Where the files are written.
    earthworks : Earthworks
        What was measured.

    Returns
    -------
    list of Path
        What was written.
    """
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for name, surface in earthworks.surfaces.items():
        if not (folder / name).exists():
            write(folder / name, surface)
            written.append(folder / name)
    record = folder / "heap.jsonl"
    if not record.exists():
        for date, heap in earthworks.heaps.items():
            top = folder / f"heap-{date}.xml"
            asked = VolumeTable(name="silt heap", heap=HEAP_PLACE, top=str(top))
            rows = MeasuredVolume(
                asked=asked,
                volume=heap.volumes[SMOOTH],
                top=earthworks.surfaces[top.name],
                base=heap.bases[SMOOTH],
                areas=[],
                heap=heap,
            ).rows()
            stated = asked.model_dump(mode="json", exclude_defaults=True)
            append_entry(record, asked.name, stated, {"top": top}, "m", rows, date)
        written.append(record)
    return written
