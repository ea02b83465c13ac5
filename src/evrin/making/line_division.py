"""Places along a line, evenly spaced on each of its legs."""

from __future__ import annotations

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats, Indices

MOST_PLACES = 2_000_000


def divided(vertices: Floats, spacing: float) -> tuple[Floats, Indices]:
    """Return a line's vertices with further ones between, none farther apart in plan than *spacing*.

    Parameters
    ----------
    vertices : (k, 2) or (k, 3) float64
        The line.
    spacing : float
        The largest distance in plan.

    Returns
    -------
    places : (n, 2) or (n, 3) float64
    vertex_of : (n,) int64
        Which vertex each is, -1 for one between.

    Raises
    ------
    DataError
        For a spacing that is not above 0, or so small that more than MOST_PLACES places would come of it.
    """
    if not spacing > 0.0:
        raise DataError(f"spacing must be above 0; it is {spacing:g}")
    lengths = np.hypot(*np.diff(vertices[:, :2], axis=0).T)
    parts = np.maximum(np.ceil(lengths / spacing - 1e-9), 1.0)
    if parts.sum() > MOST_PLACES:
        raise DataError(
            f"a spacing of {spacing:g} would make {parts.sum():,.0f} vertices of a line {lengths.sum():,.0f} long; "
            f"at most {MOST_PLACES:,} are allowed. Give a larger spacing."
        )
    parts = parts.astype(np.int64)
    leg = np.repeat(np.arange(len(parts)), parts)
    step = np.arange(len(leg)) - (np.cumsum(parts) - parts)[leg]
    part = step / parts[leg]
    places = vertices[leg] + part[:, None] * (vertices[leg + 1] - vertices[leg])
    return np.vstack((places, vertices[-1:])), np.append(np.where(step == 0, leg, -1), len(vertices) - 1)
