"""Where a surface covers ground twice, and how wide that is."""

from __future__ import annotations

from typing import NamedTuple

from evrin.surface.faults import shared_ground
from evrin.surface.surface import Surface
from evrin.tolerances import HEIGHTS_AGREE


class Overlap(NamedTuple):
    """Ground that is covered twice.

    Attributes
    ----------
    triangles : int
        How many share area with another.
    width : float
        Of the widest place, in plan.
    place : (float, float)
        Where that is.
    """

    triangles: int
    width: float
    place: tuple[float, float]


def overlap_of(surface: Surface) -> Overlap | None:
    """Return where a surface covers ground twice; None where it does not, or by no more than rounding.

    Less than two centimetres counts as rounding: coordinates in single precision can be off by that much.

    Parameters
    ----------
    surface : Surface

    Examples
    --------
    >>> import evrin
    >>> two = evrin.Surface.from_arrays(
    ...     [[0, 0, 1], [8, 0, 1], [0, 8, 1], [5, 0, 5], [13, 0, 5], [5, 8, 5]], [[0, 1, 2], [3, 4, 5]]
    ... )
    >>> overlap_of(two).triangles, round(overlap_of(two).width, 2)
    (2, 0.88)
    """
    found = shared_ground(surface)
    east, north, width = found.widest.tolist()
    if width < HEIGHTS_AGREE.in_units(surface.units):
        return None
    return Overlap(int(found.triangles.sum()), width, (east, north))
