"""Open file formats, each in a module of its own, found through one registry; all are loaded when one is looked for."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.formats.borehole_files import read_boreholes
    from evrin.formats.claims import Claim
    from evrin.formats.readers import look, open_cloud, read
    from evrin.formats.registry import FORMATS, Format, How, known_formats, register
    from evrin.formats.surface_files import read_surface, the_surface
    from evrin.formats.writers import write, write_lines

exported(__name__)


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
