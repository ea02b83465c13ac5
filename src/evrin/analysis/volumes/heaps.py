"""The volume of a heap above the ground under it, which nobody sees: by four bases from what surrounds its toe."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.volumes.cut_and_fill import Factors, Volume, volume_above
from evrin.analysis.volumes.sampling_spread import sampling_spread
from evrin.analysis.volumes.smooth_sheet import smooth_sheet
from evrin.analysis.volumes.toe import Toe, look_for_toe
from evrin.analysis.volumes.volume_spread import Spread
from evrin.base.errors import DataError, GeometryError
from evrin.base.tolerances import CHANGED, SHARED_SPREAD, SHOT_SPREAD
from evrin.kernels import Flags, Floats
from evrin.making.from_arrays import as_ring, triangulate
from evrin.making.pads.planes import Plane
from evrin.surface.surface import Surface
from evrin.tin.query.inside_rings import is_inside_rings

if TYPE_CHECKING:
    import pandas as pd

SMOOTH, TRIANGLES, PLANE, LOWEST = "smooth sheet", "triangles across", "fitted plane", "lowest of the toe"
_UNSHARP, _FEWEST_PLACES = 0.1, 3


class Part(NamedTuple):
    """One of several heaps that touch: its outline, closed, and its volume above the smooth sheet.

    Examples
    --------
    >>> Part(np.zeros((3, 2)), 12.0).volume
    12.0
    """

    ring: Floats
    volume: float


class Doubt(NamedTuple):
    """What makes the volume of a heap less sure than usual: its kind, and in words.

    The kind is one of ``edge`` (the heap lies against a wall, another heap or the edge of the surface), ``other toe``
    (another toe might be meant), ``touching`` (several heaps touch) and ``drawn`` (the toe that is found differs from
    the drawn one).

    Examples
    --------
    >>> Doubt("edge", "the toe runs along the edge of the surface for 12.0 m").kind
    'edge'
    """

    kind: str
    message: str


@dataclass(frozen=True, eq=False)
class HeapVolume:
    """A heap above four bases.

    Attributes
    ----------
    toe : (k, 3) float64
        Closed, on the surface.
    is_found : bool
        Whether the toe was found, not given.
    bases : dict of str to Surface or Plane
        The smooth sheet first, which the volume rests on.
    volumes : dict of str to Volume
        By base.
    toe_spread : float
        By how much the volume would be another, had the toe been found from sides of another slope.
    ground_spread : float
        By how much it may be another because the ground round the heap is no plane.
    sampling_spread : float
        By how much it changes as half of the shots on the heap are left out.
    parts : list of Part
        Heaps that touch and lie within one toe, that of the place first; none where it is one heap.
    is_apart : bool
        Whether the volume is that of the first of them alone.
    doubts : list of Doubt
        What makes the volume less sure than usual.

    Examples
    --------
    >>> import numpy as np
    >>> import evrin
    >>> x, y = (axis.ravel() for axis in np.mgrid[-20:20.5:1, -20:20.5:1])
    >>> heap = evrin.triangulate(np.column_stack((x, y, np.maximum(4 - 0.5 * np.hypot(x, y), 0))))
    >>> found = heap.heap_volume((0.0, 0.0))
    >>> found.table["base"].tolist()
    ['smooth sheet', 'triangles across', 'fitted plane', 'lowest of the toe']
    """

    toe: Floats
    is_found: bool
    bases: dict[str, Surface | Plane]
    volumes: dict[str, Volume]
    toe_spread: float = 0.0
    ground_spread: float = 0.0
    sampling_spread: float = 0.0
    parts: list[Part] = field(default_factory=list)
    is_apart: bool = False
    doubts: list[Doubt] = field(default_factory=list)

    @property
    def volume(self) -> float:
        """Of the heap above the smooth sheet."""
        return self.volumes[SMOOTH].total.net

    @property
    def base_spread(self) -> float:
        """Half the range of the three bases that follow the ground, of which the lowest of the toe is none."""
        nets = [self.volumes[name].total.net for name in (SMOOTH, TRIANGLES, PLANE)]
        return (max(nets) - min(nets)) / 2.0

    @property
    def spread(self) -> Spread:
        """Standard deviations that the heights of the surface leave."""
        return self.volumes[SMOOTH].total.net_spread

    @property
    def spreads(self) -> dict[str, float]:
        """What the ± is made of: each as half the width of what holds the truth with a probability of 95 percent."""
        return {
            "heights": self.spread.within_95,
            "bases": self.base_spread,
            "toe": self.toe_spread,
            "ground round it": self.ground_spread,
            "sampling": self.sampling_spread,
        }

    @property
    def outline(self) -> Floats:
        """(k, 2) float64: what the volume lies in, the toe or, of heaps that touch, the part of the one measured."""
        return self.parts[0].ring if self.is_apart else np.ascontiguousarray(self.toe[:, :2])

    @property
    def toe_length(self) -> float:
        """How long the toe is all round, in plan."""
        return float(np.hypot(*(np.roll(self.toe[:, :2], -1, axis=0) - self.toe[:, :2]).T).sum())

    @property
    def within_95(self) -> float:
        """Half the width of what holds the truth with a probability of 95 percent.

        What heights leave, and the spreads of the bases, the toe, the ground and the sampling, added as squares.
        """
        return float(np.sqrt(np.square(list(self.spreads.values())).sum()))

    @property
    def table(self) -> pd.DataFrame:
        """A row for each base: ``base``, ``volume``, ``above``, ``below``, ``difference_percent``."""
        import pandas as pd

        rows = []
        for name, volume in self.volumes.items():
            total = volume.total
            more = 100.0 * (total.net / self.volume - 1.0) if self.volume > 0.0 else np.nan
            rows.append((name, total.net, total.fill, total.cut, more))
        return pd.DataFrame(rows, columns=["base", "volume", "above", "below", "difference_percent"])


def heap_volume(
    surface: Surface,
    heap: ArrayLike | Sequence[float],
    *,
    reach: float | None = None,
    apart: bool = False,
    factors: Factors | None = None,
    tolerance: float | None = None,
    spread: float | None = None,
    shared_spread: float | None = None,
) -> HeapVolume:
    """Return the volume of a heap above the ground under it: `Surface.heap_volume`."""
    asked = np.asarray(heap, np.float64)
    found = look_for_toe(surface, asked.tolist(), reach) if asked.ndim == 1 else None
    if apart and found is None:
        raise DataError("heaps that touch are told apart from a place on one of them, not from a toe that is drawn")
    ring = as_ring(asked, "the toe").points if found is None else found.ring
    toe = _on_surface(surface, ring)
    is_ground = np.ones(len(toe), np.bool_) if found is None else found.is_ground(toe[:, :2])
    if is_ground.sum() < _FEWEST_PLACES:
        raise GeometryError("no ground is seen round the heap: draw a toe that has some of it beyond")
    around = None if found is None or found.around is None else found.around.holds
    smooth = smooth_sheet(surface, toe, is_ground, around).renamed(name=SMOOTH)
    bases = _bases(surface, toe, is_ground, smooth)
    parts = [] if found is None else _measured_parts(surface, smooth, found.parts)
    is_apart = apart and bool(parts)
    area = {"heap": parts[0].ring if is_apart else toe[:, :2]}
    given = _no_change(surface, spread, shared_spread) if tolerance is None else tolerance
    volumes = {
        name: volume_above(
            surface,
            base,
            area,
            factors=factors,
            tolerance=given,
            spread=spread,
            base_spread=0.0,
            shared_spread=shared_spread,
        )
        for name, base in bases.items()
    }
    net = volumes[SMOOTH].total.net
    share = 1.0 if not is_apart else net / max(sum(part.volume for part in parts), 1e-300)
    measured = HeapVolume(
        toe,
        found is not None,
        bases,
        volumes,
        toe_spread=0.0 if found is None else share * found.volume_spread,
        ground_spread=0.0 if found is None else share * found.ground_spread,
        sampling_spread=sampling_spread(surface, area["heap"]),
        parts=parts,
        is_apart=is_apart,
    )
    if not net > 0.0 or net < measured.within_95 - measured.sampling_spread:
        raise GeometryError(
            f"what lies within the toe is {net:,.1f} ± {measured.within_95:,.1f} {surface.units}³ above the ground "
            "round it: no heap. Give a place on it, a reach, or draw the toe"
        )
    return replace(measured, doubts=_doubts(surface, measured, found))


def _no_change(surface: Surface, spread: float | None, shared: float | None) -> float:
    """What heights are uncertain by, to two digits: less than that is no change."""
    by_shots = SHOT_SPREAD.in_units(surface.units) if spread is None else spread
    by_all = SHARED_SPREAD.in_units(surface.units) if shared is None else shared
    return max(float(f"{Spread(by_shots, by_all).within_95:.2g}"), CHANGED.in_units(surface.units))


def _measured_parts(surface: Surface, base: Surface, rings: list[Floats]) -> list[Part]:
    if not rings:
        return []
    rows = volume_above(surface, base, {f"heap {number}": ring for number, ring in enumerate(rings, 1)}).rows
    return [Part(ring, row.net) for ring, row in zip(rings, rows, strict=True)]


def _bases(surface: Surface, toe: Floats, is_ground: Flags, smooth: Surface) -> dict[str, Surface | Plane]:
    edge = toe.copy()
    if not is_ground.all():
        # Where there is no ground beyond, the sheet carries it on.
        edge[:, 2] = smooth.height(*toe[:, :2].T)
        plane = Plane.through(toe[is_ground])
        missing = np.isnan(edge[:, 2])
        edge[missing, 2] = plane.height(*toe[missing, :2].T)
    closed = np.vstack((edge, edge[:1]))
    across = triangulate(edge, [closed], [edge[:, :2]], units=surface.units, crs=surface.crs)
    return {
        SMOOTH: smooth,
        TRIANGLES: across.renamed(name=TRIANGLES),
        PLANE: Plane.through(toe[is_ground]),
        LOWEST: Plane.level(float(edge[:, 2].min())),
    }


def _doubts(surface: Surface, measured: HeapVolume, found: Toe | None) -> list[Doubt]:
    unit = surface.units
    if found is None:
        return _beside_the_found(surface, measured)
    doubts = []
    if found.against > 0.0:
        doubts.append(
            Doubt(
                "edge",
                f"for {found.against:,.1f} {unit} it lies against a wall, another heap or the edge of the surface: "
                "what is beyond is not measured, and the ground there is carried on from the rest of the toe",
            )
        )
    if len(measured.parts) > 1:
        volumes = " and ".join(f"{part.volume:,.1f}" for part in measured.parts)
        what = "the volume is that of the first alone" if measured.is_apart else "the volume is that of them all"
        doubts.append(Doubt("touching", f"{len(measured.parts)} heaps touch, of {volumes} {unit}³: {what}"))
    if measured.toe_spread > _UNSHARP * measured.volume:
        doubts.append(
            Doubt(
                "other toe",
                f"it has no sharp toe: where that is drawn changes the volume by {measured.toe_spread:,.1f} {unit}³, "
                "part of the ±",
            )
        )
    if found.others and not measured.is_apart:
        volumes = ", ".join(f"{volume:,.1f}" for volume in sorted(found.others))
        doubts.append(Doubt("other toe", f"a toe drawn tighter or wider would give {volumes} {unit}³"))
    return doubts


def _beside_the_found(surface: Surface, measured: HeapVolume) -> list[Doubt]:
    """What the toe that is found from the middle of a drawn one makes of it."""
    inside = is_inside_rings(np.ascontiguousarray(surface.vertices[:, :2]), [measured.toe])
    if not inside.any():
        return []
    top = surface.vertices[inside][np.argmax(surface.vertices[inside, 2])]
    try:
        found = heap_volume(surface, top[:2])
    except (DataError, GeometryError):
        return []
    volumes = [found.volume, *(part.volume for part in found.parts)]
    within = max(0.1 * measured.volume, measured.within_95)
    if min(abs(volume - measured.volume) for volume in volumes) <= within:
        return []
    text = f"the toe as drawn holds {measured.volume:,.1f} {surface.units}³, the toe that is found {found.volume:,.1f}"
    return [Doubt("drawn", text)]


def _on_surface(surface: Surface, ring: Floats) -> Floats:
    """A ring laid on a surface, with a place wherever it crosses an edge; counter-clockwise."""
    closed = np.vstack((ring, ring[:1]))[:, :2]
    along = surface.profile(closed)
    if np.isnan(along.heights).any():
        raise GeometryError("part of the toe lies off the surface; draw it within, on the ground round the heap")
    places = along.points[:-1]
    apart = np.append(True, np.hypot(*np.diff(places[:, :2], axis=0).T) > 1e-6)
    places = places[apart]
    if len(places) < 3:
        raise DataError("the toe has no area")
    x, y = places[:, 0] - places[0, 0], places[:, 1] - places[0, 1]
    is_turned = (x * np.roll(y, -1) - y * np.roll(x, -1)).sum() < 0.0
    return np.ascontiguousarray(places[::-1] if is_turned else places)
