"""The figures of `evrin volume`: one set of tables, printed, written and answered alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

from evrin.base.named_values import Row
from evrin.base.quantity_units import QuantityUnits
from evrin.base.wording import unsigned
from evrin.cli.terminal import output, print_frame, print_rows, records

if TYPE_CHECKING:
    import pandas as pd

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
    units : QuantityUnits
        In which all is stated.
    """

    measured: MeasuredVolume
    limits: list[float]
    units: QuantityUnits

    @cached_property
    def rows(self) -> list[Row]:
        """The figures of each area."""
        return [{key: self._stated(key, value) for key, value in row.items()} for row in self.measured.rows()]

    def _stated(self, key: str, value: object) -> object:
        return value * factor_of(key, self.units) if isinstance(value, float) else value

    @cached_property
    def methods(self) -> pd.DataFrame | None:
        """Cut and fill by every method asked for."""
        return None if self.measured.methods is None else stated_in(self.measured.methods, self.units)

    @cached_property
    def heap(self) -> pd.DataFrame | None:
        """The ground under a heap."""
        return None if self.measured.heap is None else stated_in(self.measured.heap.table, self.units)

    @cached_property
    def bands(self) -> pd.DataFrame | None:
        """Areas and volume by band of depth."""
        from evrin.analysis.volumes.difference_surface import depth_bands

        measured = self.measured
        if not self.limits:
            return None
        return stated_in(depth_bands(measured.difference, self.limits, measured.base, measured.top), self.units)

    def written(self) -> pd.DataFrame:
        """Return all tables as one; the first column says which table a row is of."""
        import pandas as pd

        named = {"bands": self.bands, "methods": self.methods, "ground under the heap": self.heap}
        parts = [pd.DataFrame(self.rows).assign(table="areas")]
        parts += [frame.assign(table=name) for name, frame in named.items() if frame is not None]
        whole = pd.concat(parts, ignore_index=True)
        return whole[["table", *(name for name in whole.columns if name != "table")]]

    def answer(self) -> dict[str, object]:
        """Return what is answered beside the rows."""
        measured = self.measured
        tables = {"methods": self.methods, "bands": self.bands}
        more: dict[str, object] = {name: [] if frame is None else records(frame) for name, frame in tables.items()}
        more |= {"base": measured.volume.base, "top": measured.volume.top, "heap": []}
        more["quantities"] = {"volume": self.units.volume, "area": self.units.area, "mass": self.units.mass}
        if measured.heap is not None and self.heap is not None:
            more["heap"] = records(self.heap)
            more["touching"] = [{"volume": part.volume * self.units.volume_factor} for part in measured.heap.parts]
            more["doubts"] = [doubt._asdict() for doubt in measured.heap.doubts]
        return more


_PLAIN = ("from", "to", "level", "cut_percent", "fill_percent", "difference_percent")
_AREAS = ("only_base", "only_top", "neither", "area_below", "area_above")


def factor_of(key: str, units: QuantityUnits) -> float:
    """Return by what a figure is multiplied, by its name."""
    if key in _PLAIN:
        return 1.0
    return units.area_factor if key.endswith("_area") or key in _AREAS else units.volume_factor


def stated_in(table: pd.DataFrame, units: QuantityUnits) -> pd.DataFrame:
    """Return a table with its figures in other units."""
    out = table.copy()
    for name in table.columns:
        if table[name].dtype.kind == "f":
            out[name] = table[name] * factor_of(str(name), units)
    return out


def print_tables(tables: VolumeTables) -> None:
    """Print every table."""
    measured, units, rows = tables.measured, tables.units, tables.rows
    console, factor = output(), tables.units.volume_factor
    console.print(f"{measured.volume.top} above {measured.volume.base}", style="bold")
    keys = ("cut", "fill", "net", "net_95", "net_sd_shots", "net_sd_shared")
    heads = ["area", f"cut {units.volume}", f"fill {units.volume}", "net", "± 95 %", "sd by shots", "sd shared"]
    print_rows(heads, [_figures(row, keys) for row in rows], "", [False] + [True] * 6)
    _print_areas(tables)
    _print_factors(tables)
    if measured.volume.overlap:
        overlap = measured.volume.overlap * units.area_factor
        console.print(f"areas lie upon one another on {overlap:,.3f} {units.area}; the total counts that once")
    if measured.heap is not None and tables.heap is not None:
        console.print()
        print_frame(tables.heap, f"The ground under the heap, by four bases, {units.volume}")
        how = "found" if measured.heap.is_found else "as given"
        parts = "; ".join(f"{name} {value * factor:,.1f}" for name, value in measured.heap.spreads.items())
        console.print(f"toe {how}, {measured.heap.toe_length:,.1f} {measured.top.units} round", soft_wrap=True)
        console.print(f"of the ±, in {units.volume}: {parts}; added as squares", soft_wrap=True)
    if tables.methods is not None:
        console.print()
        print_frame(tables.methods, f"Methods, {units.volume}; a record keeps: {measured.asked.kept_method}")
    if tables.bands is not None:
        console.print()
        title = f"Bands of depth, {units.area} in plan, on the base and on the top, and {units.volume}"
        print_frame(tables.bands, title)


def _figures(row: Row, keys: Sequence[str]) -> list[str]:
    return [str(row["area"]), *(unsigned(float(row[key])) for key in keys)]


def _print_areas(tables: VolumeTables) -> None:
    keys = ("cut_area", "fill_area", "no_change_area", "only_base", "only_top", "neither")
    heads = ["area", *(name.replace("_area", "").replace("_", " ") for name in keys)]
    within = f"no change within {tables.measured.volume.tolerance:g} {tables.measured.volume.frame.units}"
    rows = [_figures(row, keys) for row in tables.rows]
    print_rows(heads, rows, f"Plan areas, {tables.units.area}; {within}", [False] + [True] * 6)


def _print_factors(tables: VolumeTables) -> None:
    factors, units, total = tables.measured.volume.factors, tables.units, tables.rows[-1]
    cut, fill = float(total["cut"]), float(total["fill"])
    if factors.bulking != 1.0:
        loose = f"{cut * factors.bulking:,.3f} {units.volume}"
        output().print(f"cut as loose earth, times {factors.bulking:g}: {loose}")
    if factors.compaction != 1.0:
        needed = f"{fill * factors.compaction:,.3f} {units.volume}"
        output().print(f"fill as earth in the ground, times {factors.compaction:g}: {needed}")
    if factors.density is not None:
        of_cut, of_fill = cut * factors.density, fill * factors.compaction * factors.density
        at = f"{factors.density:g} {units.mass}/{units.volume}"
        output().print(f"mass at {at}: cut {of_cut:,.3f} {units.mass}, fill {of_fill:,.3f} {units.mass}")
