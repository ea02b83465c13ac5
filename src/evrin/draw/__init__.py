"""Matplotlib pictures of surfaces, which compute nothing.

Functions whose names begin with ``draw_`` take an ``ax`` and return it, as `Surface.plot` does. Those whose names end
in ``_sheet`` or ``_sheets`` lay out a whole figure with its title block, and return that.
"""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.draw.arrows import Arrows, flow_arrows
    from evrin.draw.plan_layers import draw_arrows, draw_contours, draw_findings, draw_lines, draw_triangles
    from evrin.draw.shading import Shades, draw_shading
    from evrin.draw.sheets.check_sheets import check_point_sheet, contour_fit_sheet, drainage_sheet, trust_sheet
    from evrin.draw.sheets.comparison_sheet import comparison_sheet
    from evrin.draw.sheets.contents_sheet import contents_sheet
    from evrin.draw.sheets.earthwork_sheets import combined_sheet, pad_sheet
    from evrin.draw.sheets.layer_sheets import layer_section_sheet
    from evrin.draw.sheets.plan_sheets import map_sheet, pair_sheet
    from evrin.draw.sheets.profile_sheets import draw_profile, profile_sheet
    from evrin.draw.sheets.section_sheets import draw_section, save_pages, section_sheets
    from evrin.draw.sheets.sheet import save_sheet
    from evrin.draw.sheets.view_sheet import draw_view, view_of, view_sheet
    from evrin.draw.sheets.volume_sheets import level_sheet, series_sheet, volume_sheet

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

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Arrows": "evrin.draw.arrows",
            "Shades": "evrin.draw.shading",
            "check_point_sheet": "evrin.draw.sheets.check_sheets",
            "combined_sheet": "evrin.draw.sheets.earthwork_sheets",
            "comparison_sheet": "evrin.draw.sheets.comparison_sheet",
            "contents_sheet": "evrin.draw.sheets.contents_sheet",
            "contour_fit_sheet": "evrin.draw.sheets.check_sheets",
            "drainage_sheet": "evrin.draw.sheets.check_sheets",
            "draw_arrows": "evrin.draw.plan_layers",
            "draw_contours": "evrin.draw.plan_layers",
            "draw_findings": "evrin.draw.plan_layers",
            "draw_lines": "evrin.draw.plan_layers",
            "draw_profile": "evrin.draw.sheets.profile_sheets",
            "draw_section": "evrin.draw.sheets.section_sheets",
            "draw_shading": "evrin.draw.shading",
            "draw_triangles": "evrin.draw.plan_layers",
            "draw_view": "evrin.draw.sheets.view_sheet",
            "flow_arrows": "evrin.draw.arrows",
            "layer_section_sheet": "evrin.draw.sheets.layer_sheets",
            "level_sheet": "evrin.draw.sheets.volume_sheets",
            "map_sheet": "evrin.draw.sheets.plan_sheets",
            "pad_sheet": "evrin.draw.sheets.earthwork_sheets",
            "pair_sheet": "evrin.draw.sheets.plan_sheets",
            "profile_sheet": "evrin.draw.sheets.profile_sheets",
            "save_pages": "evrin.draw.sheets.section_sheets",
            "save_sheet": "evrin.draw.sheets.sheet",
            "section_sheets": "evrin.draw.sheets.section_sheets",
            "series_sheet": "evrin.draw.sheets.volume_sheets",
            "trust_sheet": "evrin.draw.sheets.check_sheets",
            "view_of": "evrin.draw.sheets.view_sheet",
            "view_sheet": "evrin.draw.sheets.view_sheet",
            "volume_sheet": "evrin.draw.sheets.volume_sheets",
        },
    )
