"""Clouds and grids larger than memory: made surfaces in tiles, and written from there."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.large.other_surface import Against, against
    from evrin.large.running.engine import Engine, workers
    from evrin.large.tiled_building import tiled
    from evrin.large.tiled_outputs import (
        Levels,
        volume_against,
        write_contours,
        write_differences,
        write_heights,
        write_slopes,
    )
    from evrin.large.tiled_surface import TiledSurface

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

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Against": "evrin.large.other_surface",
            "Engine": "evrin.large.running.engine",
            "Levels": "evrin.large.tiled_outputs",
            "TiledSurface": "evrin.large.tiled_surface",
            "against": "evrin.large.other_surface",
            "tiled": "evrin.large.tiled_building",
            "volume_against": "evrin.large.tiled_outputs",
            "workers": "evrin.large.running.engine",
            "write_contours": "evrin.large.tiled_outputs",
            "write_differences": "evrin.large.tiled_outputs",
            "write_heights": "evrin.large.tiled_outputs",
            "write_slopes": "evrin.large.tiled_outputs",
        },
    )
