"""Where a surface covers ground twice, and how wide that is."""

from __future__ import annotations

from typing import NamedTuple

from evrin.base.errors import GeometryError
from evrin.base.tolerances import HEIGHTS_AGREE
from evrin.surface.components import only
from evrin.surface.surface import Surface
from evrin.surface.validity.covering_sheets import covered
from evrin.surface.validity.faults import shared_ground


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
        The surface to examine.

    Examples
    --------
    >>> import evrin
    >>> two = evrin.Surface.from_arrays(
    ...     [[0, 0, 1], [8, 0, 1], [0, 8, 1], [5, 0, 5], [13, 0, 5], [5, 8, 5]], [[0, 1, 2], [3, 4, 5]]
    ... )
    >>> overlap_of(two).triangles, round(overlap_of(two).width, 2)
    (2, 0.88)
    """
    shared = shared_ground(surface)
    east, north, width = shared.widest.tolist()
    if width < HEIGHTS_AGREE.in_units(surface.units):
        return None
    return Overlap(int(shared.triangles.sum()), width, (east, north))


def check_covers_once(surface: Surface) -> None:
    """Refuse a surface that covers ground twice: what is measured on it would count that twice.

    Raises
    ------
    GeometryError
        With the widest place.
    """
    overlap = overlap_of(surface)
    if overlap is not None:
        east, north = overlap.place
        raise GeometryError(
            f"{surface.name} covers ground more than once at {east:.3f}, {north:.3f}, {overlap.width:.2f} "
            f"{surface.units} wide, where {overlap.triangles:,} triangles share area with others; choose one sheet, or "
            "cut one part out"
        )


def under_others(surface: Surface) -> int:
    """Return how many triangles of a mesh have another above them, its upright faces left out; 0 for rounding alone.

    Parameters
    ----------
    surface : Surface
        The surface to examine.

    Examples
    --------
    >>> import evrin
    >>> two = evrin.Surface.from_arrays(
    ...     [[0, 0, 1], [8, 0, 1], [0, 8, 1], [0, 0, 5], [8, 0, 5], [0, 8, 5]], [[0, 1, 2], [3, 4, 5]]
    ... )
    >>> under_others(two)
    1
    """
    count = int(covered(surface)[0].sum())
    if not count:
        return 0
    has_ground = surface.triangle_areas > 0.0
    return count if overlap_of(surface if has_ground.all() else only(surface, has_ground)) else 0
