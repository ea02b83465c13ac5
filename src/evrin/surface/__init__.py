"""The surface, its questions, and how one is made from points, breaklines and boundaries."""

from evrin.surface.frame import Frame
from evrin.surface.grid import Grid
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.surface.triangulate import triangulate
from evrin.surface.weld import welded

__all__ = ["Frame", "Grid", "Provenance", "Shots", "SourceLine", "Surface", "triangulate", "welded"]
