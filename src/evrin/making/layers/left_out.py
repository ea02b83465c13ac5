"""How sure layers are: what they would be with each hole left out in turn."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from scipy.special import stdtrit

from evrin.kernels import Floats
from evrin.making.layers.layer_fields import LayerFields
from evrin.making.limits.limit_cells import Area
from evrin.surface.surface import Surface
from evrin.tin.query.inside_rings import is_inside_rings

_FEWEST_HOLES = 3
_SAMPLES_A_SIDE = 60
_QUANTILE = 0.975


class Dug(NamedTuple):
    """What volumes are measured of.

    Attributes
    ----------
    floor : Surface
        What bounds it from below.
    roof : Surface or None
        And from above; the ground if None.
    areas : sequence of Area
        Only in these, if there are any.
    """

    floor: Surface
    roof: Surface | None
    areas: list[Area]


@dataclass(frozen=True, eq=False)
class _Samples:
    """Places of a lattice in what is dug, each for as much ground as the next."""

    places: Floats
    floor: Floats
    roof: Floats
    area: float

    def volumes(self, fields: LayerFields, raised: Floats | float = 0.0) -> Floats:
        """Volume of each material, and of all, over the samples; with tops under the ground *raised* throughout."""
        laid = fields.heights(self.places)
        laid[1:] += raised
        tops = np.minimum(np.minimum.accumulate(laid, axis=0), self.roof)
        above = np.maximum(tops - self.floor, 0.0).sum(axis=1) * self.area
        return np.array([*-np.diff([*above, 0.0]), above[0]])


def left_out_of(fields: LayerFields) -> tuple[float, ...]:
    """Return for each top the root mean square of what the other holes say of it at each hole, less what is there.

    Parameters
    ----------
    fields : LayerFields
        The layers.

    Returns
    -------
    tuple of float
        NaN for the ground, and where fewer than two holes state a top.
    """
    if len(fields.boreholes.holes) < 2:
        return (np.nan,) * len(fields.boreholes.materials)
    off = _tops_off(fields)
    with np.errstate(invalid="ignore"):
        square = np.nansum(np.square(off), axis=0) / np.isfinite(off).sum(axis=0)
    return (np.nan, *np.sqrt(square).tolist())


def spread_of(fields: LayerFields, dug: Dug) -> Floats:
    """Return what 95 of 100 volumes of each material, and of all, are within, as far as the holes tell.

    Parameters
    ----------
    fields : LayerFields
        The layers.
    dug : Dug
        What is measured.

    Returns
    -------
    (materials + 1,) float64
        NaN for fewer than three holes.
    """
    holes, count = fields.boreholes.holes, len(fields.boreholes.materials) + 1
    samples = _samples(fields.ground, dug)
    if len(holes) < _FEWEST_HOLES or samples is None:
        return np.full(count, np.nan)
    volumes = np.array([samples.volumes(_without(fields, k)) for k in range(len(holes))])
    apart = volumes - volumes.mean(axis=0)
    variance = (len(holes) - 1) / len(holes) * np.square(apart).sum(axis=0)
    # What is not seen between holes is off alike over the ground of one hole, or over all that is dug if that is less.
    usual = np.nan_to_num(np.array(left_out_of(fields)[1:]))
    raised = [samples.volumes(fields, np.where(np.isfinite(off), off, usual)[:, None]) for off in _tops_off(fields)]
    dug_area = samples.area * len(samples.places)
    alike = np.clip(dug_area / (_area_of_holes(fields) / len(holes)), 1.0, len(holes))
    variance += np.square(np.array(raised) - samples.volumes(fields)).mean(axis=0) / alike
    out: Floats = stdtrit(len(holes) - 1, _QUANTILE) * np.sqrt(variance)
    return out


def _tops_off(fields: LayerFields) -> Floats:
    """How far off the others put each top but the ground at each hole: (holes, materials - 1), NaN where not known."""
    rows = []
    for k, hole in enumerate(fields.boreholes.holes):
        place, ground = np.array([[hole.easting, hole.northing]]), np.array([hole.ground])
        said = _without(fields, k).heights(place, ground)[1:, 0]
        tops = [fields.boreholes.tops_of(number)[k] for number in range(1, len(fields.boreholes.materials))]
        rows.append(said - np.array([np.nan if top is None else top for top in tops]))
    return np.array(rows).reshape(len(rows), -1)


def _area_of_holes(fields: LayerFields) -> float:
    """Ground that the holes stand for: the box round them, never thinner than a twentieth of its length."""
    places = np.array([[hole.easting, hole.northing] for hole in fields.boreholes.holes])
    low, high = places.min(axis=0), places.max(axis=0)
    return float(np.prod(np.maximum(high - low, 0.05 * (high - low).max())))


def _without(fields: LayerFields, k: int) -> LayerFields:
    holes = fields.boreholes.holes
    fewer = replace(fields.boreholes, holes=(*holes[:k], *holes[k + 1 :]))
    return LayerFields.laid(fields.ground, fewer, fields.rule, fields.extent)


def _samples(ground: Surface, dug: Dug) -> _Samples | None:
    rings = [ring for area in dug.areas for ring in area.rings]
    west, south, east, north = ground.extent
    if rings:
        every = np.concatenate([ring[:, :2] for ring in rings])
        (west, south), (east, north) = (
            np.maximum([west, south], every.min(axis=0)),
            np.minimum([east, north], every.max(axis=0)),
        )
    if not (east > west and north > south):
        return None
    across, up = (np.linspace(low, high, 2 * _SAMPLES_A_SIDE + 1)[1::2] for low, high in ((west, east), (south, north)))
    places = np.column_stack([each.ravel() for each in np.meshgrid(across, up)])
    if rings:
        places = places[np.any([is_inside_rings(places, area.rings) for area in dug.areas], axis=0)]
    own = ground.height(places[:, 0], places[:, 1])
    floor = dug.floor.height(places[:, 0], places[:, 1])
    roof = own if dug.roof is None else dug.roof.height(places[:, 0], places[:, 1])
    there = np.isfinite(own) & np.isfinite(floor) & np.isfinite(roof)
    if not there.any():
        return None
    size = (east - west) * (north - south) / _SAMPLES_A_SIDE**2
    return _Samples(np.ascontiguousarray(places[there]), floor[there], np.minimum(own, roof)[there], float(size))
