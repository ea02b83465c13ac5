"""Clouds and grids larger than memory: made surfaces in tiles, and written from there."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.large.against import Against, against
    from evrin.large.building import tiled
    from evrin.large.engine import Engine, workers
    from evrin.large.outputs import (
        Levels,
        volume_against,
        write_contours,
        write_differences,
        write_heights,
        write_slopes,
    )
    from evrin.large.tiled_surface import TiledSurface

exported(__name__)

__all__ = [
    "Against",
    "Engine",
    "Levels",
    "TiledSurface",
    "against",
    "tiled",
    "volume_against",
    "workers",
    "write_contours",
    "write_differences",
    "write_heights",
    "write_slopes",
]
