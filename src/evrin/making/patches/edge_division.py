"""Edges of a patch divided at vertices on them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.kernels import Floats, Indices
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patches import Patch


def with_edges_divided(patch: Patch, half: Indices, places: Floats) -> Patch:
    """Return a patch with a vertex on some edges.

    Parameters
    ----------
    patch : Patch
        What is divided.
    half : (k, s) int64
        Half-edges, at most one of a triangle; those of one row have one place and vertex.
    places : (k, 3) float64
        Vertices on its edges.
    """
    numbers = np.repeat(len(patch.vertices) + np.arange(len(places)), half.shape[1])
    t, k = np.divmod(half.ravel(), 3)
    turned = (k[:, None] + np.arange(3)) % 3
    a, b, c = np.take_along_axis(patch.triangles[t], turned, axis=1).T
    along, beyond, back = np.take_along_axis(patch.edge_lines[t], turned, axis=1).T
    across = np.full(len(t), NOWHERE, np.int32)
    whole = np.ones(len(patch.triangles), np.bool_)
    whole[t] = False
    rest = patch.only(whole)
    first, second = np.column_stack((a, numbers, c)), np.column_stack((numbers, b, c))
    lines = np.column_stack((along, across, back)), np.column_stack((along, beyond, across))
    of = patch.surface_of[t]
    return replace(
        rest,
        vertices=np.concatenate((patch.vertices, places)),
        row_of=np.concatenate((patch.row_of, np.full(len(places), NOWHERE))),
        triangles=np.concatenate((rest.triangles, first, second)).astype(np.int32),
        edge_lines=np.concatenate((rest.edge_lines, *lines)).astype(np.int32),
        surface_of=np.concatenate((rest.surface_of, of, of)),
    )
