"""Measuring what a `[[volume]]` table asks for: one way for recipes, the command and a record."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from evrin.analysis.heaps import SMOOTH, HeapVolume, heap_volume
from evrin.analysis.limit_cells import Area, Stripped
from evrin.analysis.planes import Plane
from evrin.analysis.volumes import Factors, Volume, volume_above
from evrin.check import Finding
from evrin.errors import DataError
from evrin.formats.area_files import read_areas
from evrin.formats.claims import Claim
from evrin.formats.surface_files import claimed_surface, transformed
from evrin.lazy import loaded
from evrin.recipe.tables.volume import VolumeTable
from evrin.surface import Surface
from evrin.surface.frame import Frame

Loader = Callable[[Path], Surface]


@dataclass(frozen=True, eq=False)
class MeasuredVolume:
    """What a table asked for, measured.

    Attributes
    ----------
    asked : VolumeTable
    volume : Volume
    top : Surface
    base : Surface or Plane
    areas : list of Area
    heap : HeapVolume or None
    findings : list of Finding
        What contradicts the site about files of areas.
    """

    asked: VolumeTable
    volume: Volume
    top: Surface
    base: Surface | Plane
    areas: list[Area] = field(default_factory=list)
    heap: HeapVolume | None = None
    findings: list[Finding] = field(default_factory=list)

    def rows(self) -> list[dict[str, Any]]:
        """Return the figures of each area as plain values; of a heap, its ± has the spread of the bases in it.

        Returns
        -------
        list of dict
        """
        rows = [{str(k): _plain(v) for k, v in row.items()} for row in self.volume.table.to_dict(orient="records")]
        if self.heap is not None:
            rows[0] |= {"net_95": self.heap.within_95, "base_spread": self.heap.base_spread}
        return rows


def _plain(value: Any) -> Any:
    return value.item() if hasattr(value, "item") else value


def as_read(frame: Frame | None, *, convert: bool = False) -> Loader:
    """Return how surfaces that a table names are read: a recipe is built, from what is kept where nothing changed.

    Parameters
    ----------
    frame : Frame, optional
        Of the site.
    convert : bool
        Whether surfaces in another unit or system are carried over into it.
    """

    def load(path: Path) -> Surface:
        file, claim = Claim.parsed(str(path))
        if file.suffix.lower() == ".toml":
            surface: Surface = loaded("evrin.recipe.recipe:Recipe").read(file).build(keep=True).surface
        else:
            surface = claimed_surface(file, claim, "")
        if convert and frame is not None and not surface.frame.is_like(frame):
            return transformed(surface, frame)
        return surface

    return load


def measured_volume(
    asked: VolumeTable, surface: Surface | None = None, folder: Path | None = None, load: Loader | None = None
) -> MeasuredVolume:
    """Measure what a table asks for.

    Parameters
    ----------
    asked : VolumeTable
    surface : Surface, optional
        The top, where the table names none.
    folder : Path, optional
        Files are relative to it; the folder of now if not given.
    load : callable, optional
        Reads a surface.

    Returns
    -------
    MeasuredVolume

    Raises
    ------
    DataError
        Where there is no top, a file cannot be read, or surfaces do not fit together.
    GeometryError
        Where surfaces have no ground in common, or no toe is found.
    """
    here = folder or Path()
    read = load or as_read(surface.frame if surface is not None else None)
    top = read(here / asked.top) if asked.top else surface
    if top is None:
        raise DataError(f"{asked.name}: no surface to measure to; give top")
    findings: list[Finding] = []
    areas = _areas_of(here / asked.within, top.frame, findings) if asked.within else []
    factors = Factors(asked.bulking, asked.compaction, asked.density)
    if asked.heap is not None or asked.toe:
        found = _heap(asked, top, here, factors, findings)
        area = Area("heap", [found.toe])
        return MeasuredVolume(asked, found.volumes[SMOOTH], top, found.bases[SMOOTH], [area], found, findings)
    base = _base_of(asked, here, read)
    stripped = _stripped_of(asked, top, base, here, findings)
    volume = volume_above(
        top,
        base,
        areas,
        stripped=stripped,
        factors=factors,
        tolerance=asked.no_change,
        spread=asked.spread,
        base_spread=asked.base_spread,
        shared_spread=asked.shared_spread,
    )
    return MeasuredVolume(asked, volume, top, base, areas, None, findings)


def _areas_of(file: Path, frame: Frame, findings: list[Finding]) -> list[Area]:
    areas, found = read_areas([Claim.parsed(str(file))], frame)
    findings += found
    return areas


def _heap(asked: VolumeTable, top: Surface, folder: Path, factors: Factors, findings: list[Finding]) -> HeapVolume:
    heap: Any = asked.heap
    if asked.toe:
        rings = [ring for area in _areas_of(folder / asked.toe, top.frame, findings) for ring in area.rings]
        if len(rings) != 1:
            raise DataError(f"{asked.toe}: {len(rings)} closed lines in it; the toe of a heap is one")
        heap = rings[0]
    return heap_volume(
        top, heap, reach=asked.reach, factors=factors, spread=asked.spread, shared_spread=asked.shared_spread
    )


def _base_of(asked: VolumeTable, folder: Path, read: Loader) -> Surface | Plane:
    if asked.base:
        return read(folder / asked.base)
    if asked.level is not None:
        return Plane.level(asked.level)
    if asked.grade is not None and asked.bearing is not None:
        return Plane.sloping(asked.plane[0], asked.grade, asked.bearing)
    return Plane.through(asked.plane)


def _stripped_of(
    asked: VolumeTable, top: Surface, base: Surface | Plane, folder: Path, findings: list[Finding]
) -> list[Stripped]:
    if asked.strip is None:
        return []
    if asked.strip_within:
        areas = _areas_of(folder / asked.strip_within, top.frame, findings)
        return [Stripped(area.name, area.rings, asked.strip) for area in areas]
    extents = np.array([top.extent, base.extent if isinstance(base, Surface) else top.extent])
    (west, south), (east, north) = extents[:, :2].min(axis=0), extents[:, 2:].max(axis=0)
    ring = np.array([[west, south], [east, south], [east, north], [west, north]])
    return [Stripped("all", [ring], asked.strip)]
