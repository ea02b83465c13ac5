"""What a surface can answer: contours, slopes, profiles and sections, check points, drainage, trust, figures."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.analysis.alignment import Alignment
    from evrin.analysis.balancing import Balance, balanced
    from evrin.analysis.banding import areas_of
    from evrin.analysis.checkpoints import CheckPoints, check_points
    from evrin.analysis.combining import Combined, Join, combine
    from evrin.analysis.contour_fit import ContourFit, contour_fit
    from evrin.analysis.contours import Contour, Contours, contours, levels_within
    from evrin.analysis.difference_surface import (
        band_polygons,
        depth_bands,
        difference_surface,
        no_change_lines,
        usual_bands,
    )
    from evrin.analysis.differences import Difference, difference
    from evrin.analysis.drainage import WaterPath, hollows, level_ground, summits, water_paths
    from evrin.analysis.earthworks import Pad
    from evrin.analysis.gridding import gridded
    from evrin.analysis.ground_layers import GroundLayers, layers_under
    from evrin.analysis.heaps import HeapVolume, heap_volume
    from evrin.analysis.labels import ContourLabels, contour_labels
    from evrin.analysis.level_volumes import LevelVolumes, level_volumes
    from evrin.analysis.limit_cells import Area, Stripped
    from evrin.analysis.pad_slopes import Slopes
    from evrin.analysis.pads import PadToGround, pad_to_ground
    from evrin.analysis.place_query import at_place
    from evrin.analysis.planes import Plane
    from evrin.analysis.points_along import points_along
    from evrin.analysis.profiles import Profile, profile
    from evrin.analysis.sections import Section, cross_sections
    from evrin.analysis.slopes import aspect_bands, height_bands, slope_bands
    from evrin.analysis.statistics import figures_by_source, surface_figures
    from evrin.analysis.toe import find_toe
    from evrin.analysis.trust import Trust, distance_to_shots, too_large, trust
    from evrin.analysis.volume_methods import EndAreas, end_areas, grid_volumes, methods_table
    from evrin.analysis.volume_spread import Spread
    from evrin.analysis.volumes import AreaVolume, Factors, Volume, volume_above

exported(__name__)


__all__ = [
    "Alignment",
    "Area",
    "AreaVolume",
    "Balance",
    "CheckPoints",
    "Combined",
    "Contour",
    "ContourFit",
    "ContourLabels",
    "Contours",
    "Difference",
    "EndAreas",
    "Factors",
    "GroundLayers",
    "HeapVolume",
    "Join",
    "LevelVolumes",
    "Pad",
    "PadToGround",
    "Plane",
    "Profile",
    "Section",
    "Slopes",
    "Spread",
    "Stripped",
    "Trust",
    "Volume",
    "WaterPath",
    "areas_of",
    "aspect_bands",
    "at_place",
    "balanced",
    "band_polygons",
    "check_points",
    "combine",
    "contour_fit",
    "contour_labels",
    "contours",
    "cross_sections",
    "depth_bands",
    "difference",
    "difference_surface",
    "distance_to_shots",
    "end_areas",
    "figures_by_source",
    "find_toe",
    "grid_volumes",
    "gridded",
    "heap_volume",
    "height_bands",
    "hollows",
    "layers_under",
    "level_ground",
    "level_volumes",
    "levels_within",
    "methods_table",
    "no_change_lines",
    "pad_to_ground",
    "points_along",
    "profile",
    "slope_bands",
    "summits",
    "surface_figures",
    "too_large",
    "trust",
    "usual_bands",
    "volume_above",
    "water_paths",
]
