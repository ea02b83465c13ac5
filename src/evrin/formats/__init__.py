"""Open file formats, each in a module of its own, found through one registry."""

from evrin.formats.registry import read_lines, read_points, read_surface, write

__all__ = ["read_lines", "read_points", "read_surface", "write"]
