"""Open file formats, each in a module of its own, found through one registry; all are loaded when one is looked for."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.formats.door.borehole_files import read_boreholes
    from evrin.formats.door.claims import Claim
    from evrin.formats.door.format_registry import FORMATS, Format, How, known_formats, register
    from evrin.formats.door.readers import look, open_cloud, read
    from evrin.formats.door.surface_files import read_surface, the_surface
    from evrin.formats.door.writers import write, write_lines

__all__ = [
    "FORMATS",
    "Claim",
    "Format",
    "How",
    "known_formats",
    "look",
    "open_cloud",
    "read",
    "read_boreholes",
    "read_surface",
    "register",
    "the_surface",
    "write",
    "write_lines",
]

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Claim": "evrin.formats.door.claims",
            "FORMATS": "evrin.formats.door.format_registry",
            "Format": "evrin.formats.door.format_registry",
            "How": "evrin.formats.door.format_registry",
            "known_formats": "evrin.formats.door.format_registry",
            "look": "evrin.formats.door.readers",
            "open_cloud": "evrin.formats.door.readers",
            "read": "evrin.formats.door.readers",
            "read_boreholes": "evrin.formats.door.borehole_files",
            "read_surface": "evrin.formats.door.surface_files",
            "register": "evrin.formats.door.format_registry",
            "the_surface": "evrin.formats.door.surface_files",
            "write": "evrin.formats.door.writers",
            "write_lines": "evrin.formats.door.writers",
        },
    )
