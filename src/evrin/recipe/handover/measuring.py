"""Measuring what a `[[volume]]` table asks for: one way for recipes, the command and a record."""

from __future__ import annotations

from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.volumes.cut_and_fill import Factors, Volume, volume_above
from evrin.analysis.volumes.difference_surface import difference_surface
from evrin.analysis.volumes.heaps import SMOOTH, HeapVolume, heap_volume
from evrin.analysis.volumes.volume_methods import EndAreas, methods_table
from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.check import Finding
from evrin.check.rules_heaps import heap_findings
from evrin.formats.door.area_files import read_areas
from evrin.formats.door.claims import Claim
from evrin.formats.door.surface_files import claimed_surface, transformed
from evrin.making.limits.limit_cells import Area, Stripped
from evrin.making.pads.planes import Plane
from evrin.recipe.handover import nested
from evrin.recipe.handover.lines_named import alignment_of
from evrin.recipe.tables.volume_table import VolumeTable
from evrin.surface.frame import Frame
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd

    from evrin.analysis.along.alignment import Alignment

# Recipes that are being built as a base or a top, one within the other.
_UNDER_WAY: ContextVar[tuple[Path, ...]] = ContextVar("_UNDER_WAY", default=())


@dataclass(frozen=True, eq=False)
class MeasuredVolume:
    """What a table asked for, measured.

    Attributes
    ----------
    asked : VolumeTable
        What was asked for.
    volume : Volume
        Cut and fill.
    top : Surface
        The surface measured to.
    base : Surface or Plane
        What it is measured from.
    areas : list of Area
        The areas measured in.
    heap : HeapVolume or None
        How the ground under a heap was found.
    methods : DataFrame or None
        Cut and fill by every method asked for; see `evrin.analysis.methods_table`.
    sections : EndAreas or None
        The sections of end areas.
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
    methods: pd.DataFrame | None = None
    sections: EndAreas | None = None

    @cached_property
    def difference(self) -> Surface:
        """How far the top lies above the base, within the areas; made once."""
        return difference_surface(self.top, self.base, self.areas)

    def rows(self) -> list[Row]:
        """Return the figures of each area as plain values; of a heap, its ± has the spread of the bases in it.

        Returns
        -------
        list of dict
        """
        rows = plain_rows(self.volume.table)
        if self.heap is not None:
            rows[0] |= {
                "net_95": self.heap.within_95,
                "base_spread": self.heap.base_spread,
                "toe_spread": self.heap.toe_spread,
                "ground_spread": self.heap.ground_spread,
                "sampling_spread": self.heap.sampling_spread,
            }
        return rows

    def kept_rows(self) -> list[Row]:
        """Return the figures that a record has: as `rows`, the last by the method asked for, with the others beside it.

        Returns
        -------
        list of dict
            Where other methods were asked for, the last has ``method`` and the net volume by each, as in
            ``net_end_areas``.
        """
        rows, by = self.rows(), self.asked.kept_method
        if self.methods is None:
            return rows
        for row in plain_rows(self.methods):
            rows[-1]["net_" + str(row["method"]).replace(", ", "_").replace(" ", "_")] = row["net"]
            if row["method"] == by:
                rows[-1] |= {"method": by, "cut": row["cut"], "fill": row["fill"], "net": row["net"]}
        return rows

    def with_methods(self, folder: Path) -> MeasuredVolume:
        """Return this with every method that the table asks for, where it asks for any."""
        asked = self.asked
        if asked.spacing is None and asked.cell is None:
            return self
        along: Alignment | list[tuple[float, ...]] | None = list(asked.line) or None
        findings = list(self.findings)
        if asked.along:
            path, claim = Claim.parsed(asked.along)
            along, about = alignment_of(folder / path, claim, self.top)
            findings += about
        methods, sections = methods_table(
            self.difference,
            (self.volume.total.cut, self.volume.total.fill),
            spacing=asked.spacing,
            along=along,
            bearing_deg=asked.sections_bearing,
            left=asked.left,
            right=asked.right,
            cell=asked.cell,
        )
        return replace(self, methods=methods, sections=sections, findings=findings)


def plain_rows(table: pd.DataFrame) -> list[dict[str, object]]:
    """Return a table's rows as plain values, to be kept or written as JSON; None for what is no number."""
    rows = table.to_dict(orient="records")
    return [{str(key): _plain(value) for key, value in row.items()} for row in rows]


def _plain(value: object) -> object:
    plain = value.item() if hasattr(value, "item") else value
    return None if isinstance(plain, float) and np.isnan(plain) else plain


def _read(path: Path) -> Surface:
    """Read a surface that a table names; a recipe is built, from what is kept where nothing has changed.

    Raises
    ------
    DataError
        Where a recipe rests on itself.
    """
    file, claim = Claim.parsed(str(path))
    if file.suffix.lower() != ".toml":
        return claimed_surface(file, claim, "")
    resolved = file.resolve()
    if resolved in _UNDER_WAY.get():
        raise DataError(f"{file}: this recipe is measured from a recipe that is measured from it; leave one out")
    before = _UNDER_WAY.set((*_UNDER_WAY.get(), resolved))
    try:
        built: Surface = nested.built(file)
    finally:
        _UNDER_WAY.reset(before)
    return built


def read_surface_of(path: Path, frame: Frame) -> Surface:
    """Read a surface or build a recipe that a table names, carried over into the frame of a site.

    Raises
    ------
    DataError
        Where it cannot be read, or a recipe rests on itself.
    """
    return _carried_over(_read(path), frame)


def measured_volume(
    asked: VolumeTable, surface: Surface | None = None, folder: Path | None = None, *, convert: bool = False
) -> MeasuredVolume:
    """Measure what a table asks for.

    Parameters
    ----------
    asked : VolumeTable
        What is asked for.
    surface : Surface, optional
        The top, where the table names none.
    folder : Path, optional
        Files are relative to it; the current folder if not given.
    convert : bool
        Whether surfaces in another unit or reference system are carried over into that of the first: *surface*, or the
        top where the table names one and there is no other.

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
    top = _read(here / asked.top) if asked.top else surface
    if top is None:
        raise DataError(f"{asked.name}: no surface to measure to; give top")
    frame = top.frame if surface is None else surface.frame
    if convert:
        top = _carried_over(top, frame)
    findings: list[Finding] = []
    areas = _areas_of(here / asked.within, top.frame, findings) if asked.within else []
    factors = Factors(asked.bulking, asked.compaction, asked.density)
    if asked.heap is not None or asked.toe:
        heap = _heap(asked, top, here, factors, findings)
        findings += heap_findings(asked.name, asked.heap, heap.doubts)
        area = Area("heap", [heap.outline])
        return MeasuredVolume(
            asked=asked,
            volume=heap.volumes[SMOOTH],
            top=top,
            base=heap.bases[SMOOTH],
            areas=[area],
            heap=heap,
            findings=findings,
        ).with_methods(here)
    base = _base_of(asked, here)
    if convert and isinstance(base, Surface):
        base = _carried_over(base, frame)
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
    measured = MeasuredVolume(asked=asked, volume=volume, top=top, base=base, areas=areas, findings=findings)
    return measured.with_methods(here)


def _areas_of(file: Path, frame: Frame, findings: list[Finding]) -> list[Area]:
    areas, about_areas = read_areas([Claim.parsed(str(file))], frame)
    findings += about_areas
    return areas


def _heap(asked: VolumeTable, top: Surface, folder: Path, factors: Factors, findings: list[Finding]) -> HeapVolume:
    heap: ArrayLike = asked.heap or ()
    if asked.toe:
        rings = [ring for area in _areas_of(folder / asked.toe, top.frame, findings) for ring in area.rings]
        if len(rings) != 1:
            raise DataError(f"{asked.toe}: {len(rings)} closed lines in it; the toe of a heap is one")
        heap = rings[0]
    return heap_volume(
        top,
        heap,
        reach=asked.reach,
        apart=asked.apart,
        factors=factors,
        tolerance=asked.no_change,
        spread=asked.spread,
        shared_spread=asked.shared_spread,
    )


def _carried_over(surface: Surface, frame: Frame) -> Surface:
    return surface if surface.frame.is_like(frame) else transformed(surface, frame)


def _base_of(asked: VolumeTable, folder: Path) -> Surface | Plane:
    if asked.base:
        return _read(folder / asked.base)
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
