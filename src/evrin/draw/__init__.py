"""Matplotlib pictures of surfaces: each function takes an ``ax`` and returns it, and computes nothing."""

from evrin.draw.plan import draw_contours, draw_findings, draw_lines, draw_shading, draw_triangles
from evrin.draw.profile import draw_profile
from evrin.draw.sheet import map_sheet, profile_sheet

__all__ = [
    "draw_contours",
    "draw_findings",
    "draw_lines",
    "draw_profile",
    "draw_shading",
    "draw_triangles",
    "map_sheet",
    "profile_sheet",
]
