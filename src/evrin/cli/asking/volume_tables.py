"""The figures of `evrin volume`: one set of tables, printed, written and answered alike."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

from evrin.cli.terminal import output, print_frame, print_rows, records

if TYPE_CHECKING:
    import pandas as pd

    from evrin.analysis.volumes.cut_and_fill import AreaVolume
    from evrin.recipe.handover.measuring import MeasuredVolume


@dataclass(frozen=True, eq=False)
class VolumeTables:
    """What was measured, and its tables beside the areas.

    Attributes
    ----------
    measured : MeasuredVolume
        Cut and fill.
    limits : list of float
        Of bands of depth; empty if none are asked for.
    """

    measured: MeasuredVolume
    limits: list[float]

    @classmethod
    def of(cls, measured: MeasuredVolume, limits: list[float]) -> VolumeTables:
        """Return the tables of what was measured."""
        return cls(measured, limits)

    @cached_property
    def bands(self) -> pd.DataFrame | None:
        """Areas and volume by band of depth."""
        from evrin.analysis.volumes.difference_surface import depth_bands

        measured = self.measured
        return depth_bands(measured.difference, self.limits, measured.base, measured.top) if self.limits else None

    def written(self) -> pd.DataFrame:
        """Return all tables as one, a word in its first column for which each row is of."""
        import pandas as pd

        heap = None if self.measured.heap is None else self.measured.heap.table
        named = {"bands": self.bands, "methods": self.measured.methods, "ground under the heap": heap}
        parts = [pd.DataFrame(self.measured.rows()).assign(table="areas")]
        parts += [frame.assign(table=name) for name, frame in named.items() if frame is not None]
        whole = pd.concat(parts, ignore_index=True)
        return whole[["table", *(name for name in whole.columns if name != "table")]]

    def answer(self) -> dict[str, object]:
        """Return what is answered beside the rows."""
        measured = self.measured
        tables = {"methods": measured.methods, "bands": self.bands}
        more: dict[str, object] = {name: [] if frame is None else records(frame) for name, frame in tables.items()}
        more |= {"base": measured.volume.base, "top": measured.volume.top, "heap": []}
        if measured.heap is not None:
            more["heap"] = records(measured.heap.table)
            more["touching"] = [{"volume": part.volume} for part in measured.heap.parts]
            more["doubts"] = [doubt._asdict() for doubt in measured.heap.doubts]
        return more

    def print(self) -> None:
        """Print every table."""
        _print(self)


def _print(tables: VolumeTables) -> None:
    measured = tables.measured
    console, unit, total = output(), measured.volume.frame.units, measured.volume.total
    console.print(f"{measured.volume.top} above {measured.volume.base}", style="bold")
    listed = measured.volume.rows if len(measured.volume.rows) == 1 else [*measured.volume.rows, total]
    rows = []
    for row, more in zip(listed, measured.rows(), strict=True):
        figures = (row.cut, row.fill, row.net, more["net_95"], row.net_spread.shots, row.net_spread.shared)
        rows.append([row.name, *(f"{value:,.3f}" for value in figures)])
    heads = ["area", f"cut {unit}³", f"fill {unit}³", "net", "± 95 %", "sd by shots", "sd shared"]
    print_rows(heads, rows, "", [False] + [True] * 6)
    _print_areas(measured, listed)
    _print_factors(measured)
    if measured.volume.overlap:
        console.print(
            f"areas lie upon one another on {measured.volume.overlap:,.3f} {unit}²; the total counts that once"
        )
    if measured.heap is not None:
        console.print()
        print_frame(measured.heap.table, "The ground under the heap, by four bases")
        how = "found" if measured.heap.is_found else "as given"
        parts = "; ".join(f"{name} {value:,.1f}" for name, value in measured.heap.spreads.items())
        console.print(f"toe {how}, {measured.heap.toe_length:,.1f} {unit} round", soft_wrap=True)
        console.print(f"of the ±, in {unit}³: {parts}; added as squares", soft_wrap=True)
    if measured.methods is not None:
        console.print()
        print_frame(measured.methods, f"Methods, {unit}³; a record keeps: {measured.asked.kept_method}")
    if tables.bands is not None:
        console.print()
        print_frame(tables.bands, f"Bands of depth, {unit}² in plan, on the base and on the top, and {unit}³")


def _print_areas(measured: MeasuredVolume, listed: list[AreaVolume]) -> None:
    unit = measured.volume.frame.units
    names = ("cut_area", "fill_area", "no_change_area", "only_base", "only_top", "neither")
    rows = [[row.name, *(f"{getattr(row, name):,.3f}" for name in names)] for row in listed]
    heads = ["area", *(name.replace("_area", "").replace("_", " ") for name in names)]
    print_rows(
        heads, rows, f"Plan areas, {unit}²; no change within {measured.volume.tolerance:g} {unit}", [False] + [True] * 6
    )


def _print_factors(measured: MeasuredVolume) -> None:
    factors, unit, total = measured.volume.factors, measured.volume.frame.units, measured.volume.total
    if factors.bulking != 1.0:
        output().print(f"cut as loose earth, times {factors.bulking:g}: {total.cut * factors.bulking:,.3f} {unit}³")
    if factors.compaction != 1.0:
        needed = total.fill * factors.compaction
        output().print(f"fill as earth in the ground, times {factors.compaction:g}: {needed:,.3f} {unit}³")
    if factors.density is not None:
        cut, fill = total.cut * factors.density, total.fill * factors.compaction * factors.density
        output().print(f"mass at {factors.density:g}: cut {cut:,.3f}, fill {fill:,.3f}")
