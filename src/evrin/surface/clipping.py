"""A surface cut along rings, its ground unchanged."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from evrin.errors import DataError
from evrin.surface.editor import Editor
from evrin.surface.from_arrays import as_ring
from evrin.surface.surface import Surface


def clipped(
    surface: Surface,
    keep: Sequence[ArrayLike] | ArrayLike = (),
    cut: Sequence[ArrayLike] | ArrayLike = (),
    *,
    crisp: bool = True,
) -> Surface:
    """Return the part of a surface inside *keep* and outside *cut*, with the shots behind its vertices.

    Parameters
    ----------
    surface : Surface
    keep, cut : (k, 2) or (k, 3) array_like, or a sequence of them
        Closed rings, one or several; rings inside rings of one kind alternate.
    crisp : bool
        Cut triangles along the rings, or keep or remove each as a whole.

    Returns
    -------
    Surface

    Raises
    ------
    DataError
        Where no ring is given, a ring is not one, or the surface has more than one height at a place.
    GeometryError
        Where nothing is left.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]])
    >>> field.clip(keep=[[0, 0], [4, 0], [4, 8], [0, 8]]).plan_area
    32.0
    """
    kept = [as_ring(ring, f"ring {k} to keep", "keep") for k, ring in enumerate(several(keep))]
    without = [as_ring(ring, f"ring {k} to cut", "cut") for k, ring in enumerate(several(cut))]
    if not kept and not without:
        raise DataError("no ring is given; give at least one, as keep= or cut=")
    editor = Editor.of(surface)
    editor.let_go()
    editor.work.carve([kept, without], crisp=crisp)
    return editor.surface()


def several(rings: Any) -> Sequence[ArrayLike]:
    """Return rings as a sequence, where they may be a single one: places instead of rings."""
    is_one = len(rings) > 0 and len(rings[0]) > 0 and np.ndim(rings[0][0]) == 0
    return [rings] if is_one else rings
