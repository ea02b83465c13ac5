"""How sure layers are: what they would be with each hole left out in turn."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
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

    def tops(self, fields: LayerFields) -> Floats:
        """The top of each material at the samples."""
        return fields.heights(self.places)

    def volumes(self, tops: Floats) -> Floats:
        """Volume of each material, and of all, over the samples."""
        above = np.maximum(np.minimum(tops, self.roof) - self.floor, 0.0).sum(axis=1) * self.area
        return np.array([*-np.diff([*above, 0.0]), above[0]])


class LeftOut:
    """Layers with each hole left out in turn.

    Parameters
    ----------
    fields : LayerFields
        The layers with all of them.
    """

    def __init__(self, fields: LayerFields) -> None:
        self._fields = fields

    @cached_property
    def _without(self) -> list[LayerFields]:
        fields, holes = self._fields, self._fields.boreholes.holes
        if len(holes) < 2:
            return []
        fewer = (replace(fields.boreholes, holes=(*holes[:k], *holes[k + 1 :])) for k in range(len(holes)))
        return [LayerFields.laid(fields.ground, each, fields.rule, fields.extent) for each in fewer]

    @cached_property
    def tops_off(self) -> Floats:
        """How far off the others put each top but the ground at each hole: (holes, materials - 1), NaN if not known."""
        boreholes = self._fields.boreholes
        tops = [boreholes.tops_of(number) for number in range(1, len(boreholes.materials))]
        rows = []
        for k, (hole, without) in enumerate(zip(boreholes.holes, self._without, strict=False)):
            place, ground = np.array([[hole.easting, hole.northing]]), np.array([hole.ground])
            own = np.array([np.nan if top[k] is None else top[k] for top in tops])
            rows.append(without.heights(place, ground)[1:, 0] - own)
        return np.array(rows).reshape(len(rows), len(tops))

    @cached_property
    def usual(self) -> tuple[float, ...]:
        """The root mean square of each top's; NaN for the ground, and where no hole can be left out."""
        known = np.isfinite(self.tops_off)
        counts = known.sum(axis=0)
        if not len(known):
            return (np.nan,) * len(self._fields.boreholes.materials)
        squares = np.square(np.where(known, self.tops_off, 0.0)).sum(axis=0)
        return (np.nan, *np.where(counts > 0, np.sqrt(squares / np.maximum(counts, 1)), np.nan).tolist())

    def spread(self, dug: Dug) -> Floats:
        """Return what 95 of 100 volumes of each material, and of all, are within, as far as the holes tell.

        Parameters
        ----------
        dug : Dug
            What is measured.

        Returns
        -------
        (materials + 1,) float64
            NaN for fewer than three holes.
        """
        fields, count = self._fields, len(self._fields.boreholes.holes)
        samples = _samples(fields.ground, dug)
        if count < _FEWEST_HOLES or samples is None:
            return np.full(len(fields.boreholes.materials) + 1, np.nan)
        volumes = np.array([samples.volumes(samples.tops(without)) for without in self._without])
        variance = (count - 1) / count * np.square(volumes - volumes.mean(axis=0)).sum(axis=0)
        # What is not seen between holes is off alike over the ground of one hole, or over all that is dug if that is
        # less.
        off = np.where(np.isfinite(self.tops_off), self.tops_off, np.nan_to_num(self.usual[1:]))
        laid = samples.tops(fields)
        raised = np.array([samples.volumes(_raised(laid, each)) for each in off])
        alike = np.clip(samples.area * len(samples.places) / (_area_of_holes(fields) / count), 1.0, count)
        variance += np.square(raised - samples.volumes(laid)).mean(axis=0) / alike
        out: Floats = stdtrit(count - 1, _QUANTILE) * np.sqrt(variance)
        return out


def _raised(tops: Floats, by: Floats) -> Floats:
    """Tops with all under the ground raised throughout, and held in order."""
    raised = tops.copy()
    raised[1:] += by[:, None]
    return np.minimum.accumulate(raised, axis=0)


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
