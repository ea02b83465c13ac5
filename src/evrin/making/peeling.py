"""Slivers at the rim that only rounding made."""

import numpy as np

from evrin.kernels import Indices
from evrin.tin.mesh.working_mesh import Mesh

# Twice the area of a triangle over its longest side, as a part of the coordinates' size, that rounding accounts for.
_ROUNDING = 2.0**-48


def peel(mesh: Mesh, suspects: Indices) -> None:
    """Take away, from the rim inwards, slivers that only rounding left between places meant to be in line."""
    corners = mesh.xy[mesh.corner[: 3 * mesh.triangle_count].reshape(-1, 3)[suspects]]
    sides = np.roll(corners, -1, axis=1) - corners
    twice = np.abs(sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0])
    longest = np.hypot(sides[..., 0], sides[..., 1]).max(axis=1)
    slivers = suspects[twice <= _ROUNDING * np.abs(corners).max(axis=(1, 2)) * longest]
    while len(slivers):
        beyond = mesh.mate[3 * slivers[:, None] + np.arange(3)] // 3
        on_rim = ~mesh.alive[beyond].all(axis=1)
        if not on_rim.any():
            return
        mesh.alive[slivers[on_rim]] = False
        slivers = slivers[~on_rim]
