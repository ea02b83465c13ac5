"""Shared settings: the same Hypothesis cases on every run, and no screen."""

import matplotlib
from hypothesis import settings

matplotlib.use("Agg")
settings.register_profile("steady", deadline=None, derandomize=True, max_examples=60)
settings.load_profile("steady")
