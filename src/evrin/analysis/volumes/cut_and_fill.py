"""How much lies between two surfaces: cut and fill, exact for the surfaces, with the uncertainty that heights leave."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.volumes.volume_spread import Spread, Spreads, spreads_of, variance
from evrin.base.errors import DataError, GeometryError
from evrin.base.tolerances import CHANGED
from evrin.kernels import Floats
from evrin.making.limits.limit_cells import Area, AreasGiven, Stripped, as_areas, cells_of, layer_of
from evrin.making.pads.planes import Base, base_surface
from evrin.surface.frame import Frame, check_same_frame
from evrin.surface.surface import Surface
from evrin.surface.validity.overlaps import check_covers_once
from evrin.tin.overlay import overlay
from evrin.tin.overlay.meshes_between import Between, area_within, between, exact_origin
from evrin.tin.overlay.overlap_arrays import Layer

if TYPE_CHECKING:
    import pandas as pd

# What rounding leaves of an area, as a part of it.
_ROUNDING = 1e-9


class NothingInCommonError(GeometryError):
    """Two surfaces that nowhere lie one above the other."""


@dataclass(frozen=True)
class Factors:
    """What becomes of earth when it is moved.

    Attributes
    ----------
    bulking : float
        Volume of loose earth that one volume of cut makes.
    compaction : float
        Volume of earth in the ground that one volume of fill takes.
    density : float or None
        Mass of one volume in the ground, such as tonnes to the cubic metre.

    Examples
    --------
    >>> from evrin.analysis import Factors
    >>> Factors(bulking=1.25, density=1.8).bulking
    1.25
    """

    bulking: float = 1.0
    compaction: float = 1.0
    density: float | None = None

    def __post_init__(self) -> None:
        for name in ("bulking", "compaction", "density"):
            value = getattr(self, name)
            if value is not None and not 0.01 <= value <= 100.0:
                raise DataError(f"{name} must lie between 0.01 and 100; it is {value:g}")


@dataclass(frozen=True)
class AreaVolume:
    """Cut and fill in one area.

    Attributes
    ----------
    name : str
        Of the area.
    cut, fill : float
        Volume where the top lies below and above the base.
    cut_area, fill_area : float
        Plan area of that, where the two differ by more than the tolerance.
    no_change_area : float
        Plan area where they do not.
    common_area : float
        Plan area that both cover.
    only_base, only_top, neither : float
        Plan area that one of them alone covers, and that neither does though it lies in the area.
    cut_spread, fill_spread, net_spread : Spread
        Standard deviations that heights leave.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]])
    >>> row = field.volume_above(1.0).total
    >>> row.net, row.common_area, row.uncovered
    (32.0, 64.0, 0.0)
    """

    name: str
    cut: float
    fill: float
    cut_area: float
    fill_area: float
    no_change_area: float
    common_area: float
    only_base: float
    only_top: float
    neither: float
    cut_spread: Spread
    fill_spread: Spread
    net_spread: Spread

    @property
    def net(self) -> float:
        """Fill less cut."""
        return self.fill - self.cut

    @property
    def uncovered(self) -> float:
        """Plan area for which there is no volume, as one surface or both are missing."""
        return self.only_base + self.only_top + self.neither


@dataclass(frozen=True, eq=False)
class Volume:
    """What lies between a base and a top.

    Attributes
    ----------
    base, top : str
        Names of the surfaces.
    rows : list of AreaVolume
        One for each area; where no area is given, one for all that both cover.
    total : AreaVolume
        Of all areas together; ground that is in several counts once.
    factors : Factors
        Bulking, compaction and density.
    tolerance : float
        Differences up to this are no change.
    frame : Frame
        Unit and reference system.
    overlap : float
        Plan area that lies in more than one of the areas.

    Examples
    --------
    >>> import evrin
    >>> low = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], name="before")
    >>> high = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 4], [0, 8, 4]], name="after")
    >>> found = high.volume_above(low)
    >>> found.total.fill, found.total.cut
    (96.0, 0.0)
    """

    base: str
    top: str
    rows: list[AreaVolume]
    total: AreaVolume
    factors: Factors
    tolerance: float
    frame: Frame
    overlap: float = 0.0

    @cached_property
    def table(self) -> pd.DataFrame:
        """A row for each area and one for all: volumes, areas, standard deviations, and what factors make of them."""
        import pandas as pd

        rows = self.rows if len(self.rows) == 1 else [*self.rows, self.total]
        return pd.DataFrame([self._row(row) for row in rows])

    def _row(self, row: AreaVolume) -> dict[str, str | float]:
        out: dict[str, str | float] = {"area": row.name, "cut": row.cut, "fill": row.fill, "net": row.net}
        for name in ("cut_area", "fill_area", "no_change_area", "only_base", "only_top", "neither"):
            out[name] = getattr(row, name)
        for name in ("cut", "fill", "net"):
            spread: Spread = getattr(row, f"{name}_spread")
            out[f"{name}_sd_shots"], out[f"{name}_sd_shared"] = spread.shots, spread.shared
            out[f"{name}_95"] = spread.within_95
        out["cut_loose"], out["fill_needed"] = row.cut * self.factors.bulking, row.fill * self.factors.compaction
        if self.factors.density is not None:
            out["cut_mass"] = row.cut * self.factors.density
            out["fill_mass"] = out["fill_needed"] * self.factors.density  # type: ignore[operator]
        return out


@dataclass(frozen=True, eq=False)
class _Pair:
    """Two surfaces in the order in which they are walked, which does not depend on which is the base."""

    base: Surface
    top: Surface
    origin: Floats
    is_plane: bool
    spreads: Spreads
    tolerance: float

    @cached_property
    def is_turned(self) -> bool:
        """Whether the top is walked first: which of the two is, follows from what they hold."""
        return self.top.sorting_key > self.base.sorting_key

    @cached_property
    def _extent(self) -> tuple[float, float, float, float]:
        west, south, east, north = zip(self.base.extent, self.top.extent, strict=True)
        return min(west), min(south), max(east), max(north)

    @cached_property
    def _layers(self) -> tuple[Layer, Layer]:
        return layer_of(self.base, self.origin), layer_of(self.top, self.origin)

    def measured(self, areas: Sequence[Area], stripped: Sequence[Stripped], name: str) -> AreaVolume:
        """Measure within areas, or everywhere where there is none."""
        cells, limit = None, 0.0
        if areas or stripped:
            cells, limit = cells_of(areas, stripped, self._extent, self.origin)
            if self.is_turned:
                cells = cells._replace(depth=-cells.depth)
        layers = self._layers[::-1] if self.is_turned else self._layers
        prisms = between(*layers, cells, tolerance=self.tolerance, weights=True)
        up, down = (overlay.CUT, overlay.FILL) if self.is_turned else (overlay.FILL, overlay.CUT)
        common = float(prisms.totals[overlay.COMMON_AREA])
        walked = float(prisms.totals[overlay.SUBJECT_AREA])
        other = self.base if self.is_turned else self.top
        covers = [walked, other.plan_area if cells is None else area_within(layers[1], cells)]
        covers = covers[::-1] if self.is_turned else covers
        largest = max(*covers, limit)
        if common > min(covers) + _ROUNDING * largest:
            raise GeometryError(f"{self.base.name} or {self.top.name} covers a place more than once; choose one sheet")
        only_base, only_top = (_rest(cover - common, largest) for cover in covers)
        if self.is_plane:
            only_base, only_top = 0.0, 0.0
        neither = _rest(limit - common - only_base - only_top, largest) if areas else 0.0
        fill_shots, cut_shots, net_shots = self._shots(prisms)
        fill_area, cut_area = float(prisms.totals[up + 1]), float(prisms.totals[down + 1])
        # The volume of ground that differs by no more than the tolerance counts still.
        beyond = (overlay.FILL_BEYOND, overlay.CUT_BEYOND)
        fill_beyond, cut_beyond = (float(prisms.totals[k]) for k in (beyond[::-1] if self.is_turned else beyond))
        shared = self.spreads.shared
        return AreaVolume(
            name,
            cut=float(prisms.totals[down]),
            fill=float(prisms.totals[up]),
            cut_area=cut_beyond,
            fill_area=fill_beyond,
            no_change_area=_rest(common - fill_beyond - cut_beyond, common),
            common_area=common,
            only_base=only_base,
            only_top=only_top,
            neither=neither,
            cut_spread=Spread(cut_shots, shared * cut_area),
            fill_spread=Spread(fill_shots, shared * fill_area),
            # Ground that both hold alike to the last bit is the same data, and as sure as can be.
            net_spread=Spread(net_shots, shared * (fill_area + cut_area)),
        )

    def _shots(self, prisms: Between) -> tuple[float, float, float]:
        """Standard deviations of fill, cut and net that single shots leave."""
        of_base, of_top = prisms.first_weights, prisms.other_weights
        if self.is_turned:
            of_base, of_top = of_top[::-1], of_base[::-1]
        fill, cut, net = (
            float(np.sqrt(variance(base, self.spreads.base) + variance(top, self.spreads.top)))
            for base, top in ((of_base[0], of_top[0]), (of_base[1], of_top[1]), (of_base.sum(0), of_top.sum(0)))
        )
        return fill, cut, net


def _rest(value: float, size: float) -> float:
    return value if value > _ROUNDING * size else 0.0


def volume_above(
    top: Surface,
    base: Base,
    within: AreasGiven = (),
    *,
    stripped: Sequence[Stripped] = (),
    factors: Factors | None = None,
    tolerance: float | None = None,
    spread: float | Mapping[str, float] | None = None,
    base_spread: float | Mapping[str, float] | None = None,
    shared_spread: float | None = None,
) -> Volume:
    """Return cut and fill between this surface and a base below or above it: `Surface.volume_above`."""
    ground, is_plane = base_surface(top, base)
    check_same_frame([(ground.name, ground.frame), (top.name, top.frame)])
    for surface in (top,) if is_plane else (ground, top):
        check_covers_once(surface)
    areas = as_areas(within)
    given = CHANGED.in_units(top.units) if tolerance is None else tolerance
    if not 0.0 <= given <= 1e6:
        raise DataError(f"a tolerance lies between 0 and 1e6; it is {given:g}")
    spreads = spreads_of(ground, top, base_spread, spread, shared_spread, is_plane=is_plane)
    rings = [ring for area in (*areas, *stripped) for ring in area.rings]
    pair = _Pair(
        base=ground,
        top=top,
        origin=exact_origin(ground.vertices, top.vertices, *rings),
        is_plane=is_plane,
        spreads=spreads,
        tolerance=given,
    )
    rows = [pair.measured([area], stripped, area.name) for area in areas]
    total = replace(rows[0], name="all") if len(rows) == 1 else pair.measured(areas, stripped, "all")
    if total.common_area <= 0.0:
        where = " in the areas given" if areas else ""
        raise NothingInCommonError(
            f"{ground.name} and {top.name} have no ground in common{where}; look at their extents"
        )
    overlap = _rest(sum(row.common_area for row in rows) - total.common_area, total.common_area) if rows else 0.0
    settled = factors or Factors()
    return Volume(
        base=ground.name,
        top=top.name,
        rows=rows or [total],
        total=total,
        factors=settled,
        tolerance=given,
        frame=top.frame,
        overlap=overlap,
    )
