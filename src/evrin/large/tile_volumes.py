"""Cut and fill between two surfaces, tile by tile."""

from __future__ import annotations

from math import fsum
from typing import NamedTuple

import numpy as np

from evrin.analysis.volumes.cut_and_fill import NothingInCommonError, volume_above
from evrin.large.other_surface import Against
from evrin.large.running.tile_folder import once_as
from evrin.large.tiles.square_tiles import Tile
from evrin.large.tiles.tile_index import Index
from evrin.large.tiles.tile_part import TilePart
from evrin.surface.surface import Surface


class TotalVolume(NamedTuple):
    """What lies between two surfaces.

    Attributes
    ----------
    cut, fill : float
        Where the surface lies below and above the one that it is compared with.
    common_area, only_here : float
        Plan area that both cover, and that this one alone does.
    """

    cut: float
    fill: float
    common_area: float
    only_here: float

    @property
    def net(self) -> float:
        """Fill less cut."""
        return self.fill - self.cut


def volume_of_tile(index: Index, tile: Tile, base: Against, stage: str) -> TotalVolume:
    """Measure over the triangles that are own to a tile."""

    def make() -> TotalVolume:
        part = index.part(tile)
        if part is None or not part.is_own.any():
            return TotalVolume(0.0, 0.0, 0.0, 0.0)
        top = _own(part).renamed(name=index.name, units=index.job.frame.units, crs=index.job.frame.crs)
        below = base.within(top.extent)
        if below is None:
            return TotalVolume(0.0, 0.0, 0.0, top.plan_area)
        try:
            volume = volume_above(top, below).total
        except NothingInCommonError:
            return TotalVolume(0.0, 0.0, 0.0, top.plan_area)
        return TotalVolume(volume.cut, volume.fill, volume.common_area, top.plan_area - volume.common_area)

    return once_as(index.job.at(stage, tile).with_suffix(".json"), TotalVolume, make)


def total(volumes: list[TotalVolume]) -> TotalVolume:
    """Return the sum over all tiles, which does not depend on their order."""
    return TotalVolume(*map(fsum, zip(*volumes, strict=True)))


def _own(part: TilePart) -> Surface:
    rows, corners = np.unique(part.triangles[part.is_own], return_inverse=True)
    return Surface.from_arrays(part.vertices[rows], corners.reshape(-1, 3))
