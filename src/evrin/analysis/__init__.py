"""What a surface can answer: contours, slopes, profiles and sections, check points, drainage, trust, figures."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.analysis.along.alignment import Alignment
    from evrin.analysis.along.profiles import Profile
    from evrin.analysis.along.sections import Section, cross_sections
    from evrin.analysis.contours.contour_agreement import ContourFit, contour_fit
    from evrin.analysis.contours.contour_labelling import ContourLabels, contour_labels
    from evrin.analysis.contours.contour_lines import Contour, Contours, levels_within
    from evrin.analysis.quality.check_point_fit import CheckPoints
    from evrin.analysis.quality.shot_distances import Trust, distance_to_shots, too_large, trust
    from evrin.analysis.quality.statistics import figures_by_source
    from evrin.analysis.terrain.banding import areas_of
    from evrin.analysis.terrain.drainage import WaterPath, level_ground
    from evrin.analysis.volumes.cut_and_fill import AreaVolume, Factors, Volume
    from evrin.analysis.volumes.difference_surface import band_polygons, depth_bands, no_change_lines, usual_bands
    from evrin.analysis.volumes.differences import Difference
    from evrin.analysis.volumes.heaps import HeapVolume
    from evrin.analysis.volumes.level_volumes import LevelVolumes
    from evrin.analysis.volumes.toe import find_toe
    from evrin.analysis.volumes.volume_methods import EndAreas, end_areas, grid_volumes, methods_table
    from evrin.analysis.volumes.volume_spread import Spread

__all__ = [
    "Alignment",
    "AreaVolume",
    "CheckPoints",
    "Contour",
    "ContourFit",
    "ContourLabels",
    "Contours",
    "Difference",
    "EndAreas",
    "Factors",
    "HeapVolume",
    "LevelVolumes",
    "Profile",
    "Section",
    "Spread",
    "Trust",
    "Volume",
    "WaterPath",
    "areas_of",
    "band_polygons",
    "contour_fit",
    "contour_labels",
    "cross_sections",
    "depth_bands",
    "distance_to_shots",
    "end_areas",
    "figures_by_source",
    "find_toe",
    "grid_volumes",
    "level_ground",
    "levels_within",
    "methods_table",
    "no_change_lines",
    "too_large",
    "trust",
    "usual_bands",
]

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Alignment": "evrin.analysis.along.alignment",
            "AreaVolume": "evrin.analysis.volumes.cut_and_fill",
            "CheckPoints": "evrin.analysis.quality.check_point_fit",
            "Contour": "evrin.analysis.contours.contour_lines",
            "ContourFit": "evrin.analysis.contours.contour_agreement",
            "ContourLabels": "evrin.analysis.contours.contour_labelling",
            "Contours": "evrin.analysis.contours.contour_lines",
            "Difference": "evrin.analysis.volumes.differences",
            "EndAreas": "evrin.analysis.volumes.volume_methods",
            "Factors": "evrin.analysis.volumes.cut_and_fill",
            "HeapVolume": "evrin.analysis.volumes.heaps",
            "LevelVolumes": "evrin.analysis.volumes.level_volumes",
            "Profile": "evrin.analysis.along.profiles",
            "Section": "evrin.analysis.along.sections",
            "Spread": "evrin.analysis.volumes.volume_spread",
            "Trust": "evrin.analysis.quality.shot_distances",
            "Volume": "evrin.analysis.volumes.cut_and_fill",
            "WaterPath": "evrin.analysis.terrain.drainage",
            "areas_of": "evrin.analysis.terrain.banding",
            "band_polygons": "evrin.analysis.volumes.difference_surface",
            "contour_fit": "evrin.analysis.contours.contour_agreement",
            "contour_labels": "evrin.analysis.contours.contour_labelling",
            "cross_sections": "evrin.analysis.along.sections",
            "depth_bands": "evrin.analysis.volumes.difference_surface",
            "distance_to_shots": "evrin.analysis.quality.shot_distances",
            "end_areas": "evrin.analysis.volumes.volume_methods",
            "figures_by_source": "evrin.analysis.quality.statistics",
            "find_toe": "evrin.analysis.volumes.toe",
            "grid_volumes": "evrin.analysis.volumes.volume_methods",
            "level_ground": "evrin.analysis.terrain.drainage",
            "levels_within": "evrin.analysis.contours.contour_lines",
            "methods_table": "evrin.analysis.volumes.volume_methods",
            "no_change_lines": "evrin.analysis.volumes.difference_surface",
            "too_large": "evrin.analysis.quality.shot_distances",
            "trust": "evrin.analysis.quality.shot_distances",
            "usual_bands": "evrin.analysis.volumes.difference_surface",
        },
    )
