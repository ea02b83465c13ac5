"""The surface, its questions, and how one is made from points, breaklines and boundaries."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.surface.frame import Frame, check_same_frame
    from evrin.surface.grid import Grid
    from evrin.surface.provenance import NamedShot, Provenance, Shots
    from evrin.surface.surface import SourceLine, Surface

__all__ = [
    "Frame",
    "Grid",
    "NamedShot",
    "Provenance",
    "Shots",
    "SourceLine",
    "Surface",
    "check_same_frame",
]

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Frame": "evrin.surface.frame",
            "Grid": "evrin.surface.grid",
            "NamedShot": "evrin.surface.provenance",
            "Provenance": "evrin.surface.provenance",
            "Shots": "evrin.surface.provenance",
            "SourceLine": "evrin.surface.surface",
            "Surface": "evrin.surface.surface",
            "check_same_frame": "evrin.surface.frame",
        },
    )
