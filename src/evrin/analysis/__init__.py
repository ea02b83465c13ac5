"""What a surface can answer: contours, slopes, profiles and sections, check points, drainage, trust, figures."""

from evrin.analysis.alignment import Alignment
from evrin.analysis.banding import areas_of
from evrin.analysis.checkpoints import CheckPoints, check_points
from evrin.analysis.contour_fit import ContourFit, contour_fit
from evrin.analysis.contours import Contour, Contours, contours, levels_within
from evrin.analysis.differences import Difference, difference
from evrin.analysis.drainage import WaterPath, hollows, level_ground, summits, water_paths
from evrin.analysis.gridding import gridded
from evrin.analysis.labels import ContourLabels, contour_labels
from evrin.analysis.place_query import at_place
from evrin.analysis.points_along import points_along
from evrin.analysis.profiles import Profile, profile
from evrin.analysis.sections import Section, cross_sections
from evrin.analysis.slopes import aspect_bands, height_bands, slope_bands
from evrin.analysis.statistics import figures_by_source, surface_figures
from evrin.analysis.trust import Trust, distance_to_shots, too_large, trust

__all__ = [
    "Alignment",
    "CheckPoints",
    "Contour",
    "ContourFit",
    "ContourLabels",
    "Contours",
    "Difference",
    "Profile",
    "Section",
    "Trust",
    "WaterPath",
    "areas_of",
    "aspect_bands",
    "at_place",
    "check_points",
    "contour_fit",
    "contour_labels",
    "contours",
    "cross_sections",
    "difference",
    "distance_to_shots",
    "figures_by_source",
    "gridded",
    "height_bands",
    "hollows",
    "level_ground",
    "levels_within",
    "points_along",
    "profile",
    "slope_bands",
    "summits",
    "surface_figures",
    "too_large",
    "trust",
    "water_paths",
]
