"""Clouds and grids larger than memory: made surfaces in tiles, and written from there."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.large.building import tiled
    from evrin.large.engine import Engine, workers
    from evrin.large.tiled_surface import TiledSurface

exported(__name__)

__all__ = ["Engine", "TiledSurface", "tiled", "workers"]
