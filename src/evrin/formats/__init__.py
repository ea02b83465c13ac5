"""Open file formats, each in a module of its own, found through one registry."""

from evrin.formats import clouds, drawings, geojson, gis, grids, landxml, meshes, text
from evrin.formats.registry import (
    FORMATS,
    Format,
    How,
    known_formats,
    look,
    open_cloud,
    read,
    read_rings,
    read_surface,
    the_surface,
    write,
)

__all__ = [
    "FORMATS",
    "Format",
    "How",
    "clouds",
    "drawings",
    "geojson",
    "gis",
    "grids",
    "known_formats",
    "landxml",
    "look",
    "meshes",
    "open_cloud",
    "read",
    "read_rings",
    "read_surface",
    "text",
    "the_surface",
    "write",
]
