"""The made-up site Ostrel Weir: a ground whose true height is known everywhere, and a survey of it with mistakes."""

from evrin.demo import earthworks, ground, stories, works
from evrin.demo.ground import true_height
from evrin.demo.laying_out import lay_out, small_site, true_error

__all__ = ["earthworks", "ground", "lay_out", "small_site", "stories", "true_error", "true_height", "works"]
