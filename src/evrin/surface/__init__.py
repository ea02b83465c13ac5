"""The surface, its questions, and how one is made from points, breaklines and boundaries."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.surface.busts import find_busts
    from evrin.surface.editor import Editor
    from evrin.surface.flat_triangles import find_flats, fix_flats
    from evrin.surface.frame import Frame, check_same_frame
    from evrin.surface.from_arrays import triangulate
    from evrin.surface.grid import Grid
    from evrin.surface.outline import as_lines, outline, outline_round
    from evrin.surface.provenance import NamedShot, Provenance, Shots
    from evrin.surface.shared_vertices import welded
    from evrin.surface.surface import SourceLine, Surface
    from evrin.surface.triangulation import Triangulation
    from evrin.surface.vertex_frame import vertex_frame

exported(__name__)


__all__ = [
    "Editor",
    "Frame",
    "Grid",
    "NamedShot",
    "Provenance",
    "Shots",
    "SourceLine",
    "Surface",
    "Triangulation",
    "as_lines",
    "check_same_frame",
    "find_busts",
    "find_flats",
    "fix_flats",
    "outline",
    "outline_round",
    "triangulate",
    "vertex_frame",
    "welded",
]
