"""Shared settings: no screen, and the same Hypothesis cases on every run unless EVRIN_EXAMPLES asks for new ones."""

import os

import matplotlib
from hypothesis import HealthCheck, settings

matplotlib.use("Agg")
asked = os.environ.get("EVRIN_EXAMPLES")
settings.register_profile(
    "evrin",
    deadline=None,
    derandomize=asked is None,
    max_examples=int(asked or 60),
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("evrin")
