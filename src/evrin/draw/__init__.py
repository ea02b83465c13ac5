"""Matplotlib pictures of surfaces: each function takes an ``ax`` and returns it, and computes nothing."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.draw.arrows import Arrows, flow_arrows
    from evrin.draw.check_sheets import check_point_sheet, contour_fit_sheet, drainage_sheet, trust_sheet
    from evrin.draw.comparison_sheet import comparison_sheet
    from evrin.draw.contents_sheet import contents_sheet
    from evrin.draw.earthwork_sheets import combined_sheet, pad_sheet
    from evrin.draw.layer_sheets import layer_section_sheet
    from evrin.draw.plan_layers import draw_arrows, draw_contours, draw_findings, draw_lines, draw_triangles
    from evrin.draw.plan_sheets import map_sheet, pair_sheet
    from evrin.draw.plotting import plot_surface
    from evrin.draw.profile_sheets import draw_profile, profile_sheet
    from evrin.draw.section_sheets import draw_section, save_pages, section_sheets
    from evrin.draw.shading import Shades, draw_shading
    from evrin.draw.sheet import save_sheet
    from evrin.draw.view_sheet import draw_view, view_of, view_sheet
    from evrin.draw.volume_sheets import level_sheet, series_sheet, volume_sheet

exported(__name__)


__all__ = [
    "Arrows",
    "Shades",
    "check_point_sheet",
    "combined_sheet",
    "comparison_sheet",
    "contents_sheet",
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
    "flow_arrows",
    "layer_section_sheet",
    "level_sheet",
    "map_sheet",
    "pad_sheet",
    "pair_sheet",
    "plot_surface",
    "profile_sheet",
    "save_pages",
    "save_sheet",
    "section_sheets",
    "series_sheet",
    "trust_sheet",
    "view_of",
    "view_sheet",
    "volume_sheet",
]
