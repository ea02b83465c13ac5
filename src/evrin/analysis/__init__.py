"""What a surface can answer: contours, profiles, slopes."""

from evrin.analysis.contours import Contour, Contours, contours, levels_within
from evrin.analysis.profiles import Profile, profile
from evrin.analysis.slopes import slope_bands

__all__ = ["Contour", "Contours", "Profile", "contours", "levels_within", "profile", "slope_bands"]
