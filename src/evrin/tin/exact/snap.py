"""The snap width: how near a vertex must be to a line to be on it."""

import numpy as np

from evrin.kernels import Floats


def snap_width(xy: Floats) -> float:
    """Return the distance in plan within which a vertex is on a line.

    It is 2**-44 of the largest coordinate, rounded up to a power of two.
    """
    largest = float(np.abs(xy).max()) if len(xy) else 0.0
    return float(2.0 ** (np.ceil(np.log2(largest)) - 44)) if largest > 0.0 else 2.0**-1000
