"""The surface, its questions, and how one is made from points, breaklines and boundaries."""

from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.surface.triangulate import triangulate

__all__ = ["Provenance", "Shots", "SourceLine", "Surface", "triangulate"]
