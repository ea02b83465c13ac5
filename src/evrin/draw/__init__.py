"""Matplotlib pictures of surfaces: each function takes an ``ax`` and returns it, and computes nothing."""

from evrin.draw.checks import check_point_sheet, contour_fit_sheet, drainage_sheet, trust_sheet
from evrin.draw.maps import map_sheet, pair_sheet
from evrin.draw.plan import draw_arrows, draw_contours, draw_findings, draw_lines, draw_triangles
from evrin.draw.profile import draw_profile, profile_sheet
from evrin.draw.sections import draw_section, section_sheets
from evrin.draw.shading import Shades, draw_shading
from evrin.draw.view import draw_view, view_sheet

__all__ = [
    "Shades",
    "check_point_sheet",
    "contour_fit_sheet",
    "drainage_sheet",
    "draw_arrows",
    "draw_contours",
    "draw_findings",
    "draw_lines",
    "draw_profile",
    "draw_section",
    "draw_shading",
    "draw_triangles",
    "draw_view",
    "map_sheet",
    "pair_sheet",
    "profile_sheet",
    "section_sheets",
    "trust_sheet",
    "view_sheet",
]
