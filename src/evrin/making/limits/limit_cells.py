"""Named areas that limit a volume, divided into cells that count or do not."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats
from evrin.making.from_arrays import as_ring, several
from evrin.making.triangulation import Triangulation
from evrin.surface.locator import Locator
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.overlay.overlap import mark_upright
from evrin.tin.overlay.overlap_arrays import Layer
from evrin.tin.overlay.overlay import Cells
from evrin.tin.query.inside_rings import is_inside_rings


@dataclass(frozen=True, eq=False)
class Area:
    """One named area: rings in rings alternate.

    Attributes
    ----------
    name : str
        What results call it.
    rings : list of (k, 2) or (k, 3) float64
        Closed rings.

    Examples
    --------
    >>> from evrin.making import Area
    >>> Area("yard", [[[0, 0], [9, 0], [9, 9]]]).rings[0].shape
    (3, 3)
    """

    name: str
    rings: list[Floats] = field(default_factory=list)

    def __post_init__(self) -> None:
        clean = [as_ring(ring, f"{self.name}, ring {k}").points for k, ring in enumerate(self.rings, 1)]
        if not clean:
            raise DataError(f"{self.name} has no ring")
        object.__setattr__(self, "rings", clean)


@dataclass(frozen=True, eq=False)
class Stripped(Area):
    """An area whose ground is taken off by a depth before anything is measured, such as topsoil.

    Attributes
    ----------
    name : str
        What results call it.
    rings : list of (k, 2) or (k, 3) float64
        Closed rings; everywhere if there are none.
    depth : float
        The depth that is taken off.

    Examples
    --------
    >>> from evrin.making import Stripped
    >>> Stripped("topsoil", [[[0, 0], [9, 0], [9, 9]]], 0.25).depth
    0.25
    """

    depth: float = 0.0

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0.0 <= self.depth <= 1e6:
            raise DataError(f"{self.name}: a depth that is stripped lies between 0 and 1e6; it is {self.depth:g}")


AreasGiven = Mapping[str, ArrayLike | Sequence[ArrayLike]] | Iterable[Area] | ArrayLike


def as_areas(given: AreasGiven) -> list[Area]:
    """Return areas, of which each may be given as rings by name, or as one ring alone.

    Raises
    ------
    DataError
        If a ring is invalid, or two areas have one name.
    """
    if isinstance(given, Mapping):
        return [Area(str(name), _arrays(rings)) for name, rings in given.items()]
    items = list(given)  # type: ignore[arg-type]
    named = [item for item in items if isinstance(item, Area)]
    if len(named) < len(items):
        return [Area("area", _arrays(items))]
    names = [item.name for item in named]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise DataError(f"two areas are named {twice}; name each differently, or give their rings as one")
    return named


def _arrays(rings: object) -> list[Floats]:
    return [np.asarray(ring, np.float64) for ring in several(rings)]


def is_inside(areas: Sequence[Area], places: Floats) -> Flags:
    """Return which of (n, 2) places lie in any of several areas."""
    out = np.zeros(len(places), np.bool_)
    for area in areas:
        out |= is_inside_rings(places, list(area.rings))
    return out


def cells_of(
    areas: Sequence[Area], stripped: Sequence[Stripped], extent: tuple[float, float, float, float], origin: Floats
) -> tuple[Cells, float]:
    """Divide an extent along the rings of areas; return the cells, and the plan area of those that count.

    Parameters
    ----------
    areas : sequence of Area
        Where there is none, all cells count.
    stripped : sequence of Stripped
        Where several lie upon one another, their depths add up.
    extent : (float, float, float, float)
        At least of the surfaces.
    origin : (2,) float64
        Taken from all coordinates.
    """
    rings = [ring for area in (*areas, *stripped) for ring in area.rings]
    every = np.concatenate([np.array(extent).reshape(2, 2), *(ring[:, :2] for ring in rings)]) - origin
    low, high = every.min(axis=0), every.max(axis=0)
    margin = 0.25 * (high - low).max()
    (west, south), (east, north) = low - margin, high + margin
    frame = np.array([[west, south, 0.0], [east, south, 0.0], [east, north, 0.0], [west, north, 0.0]])
    shift = np.append(origin, 0.0)
    lines = [SourceLine(f"ring {k}", _level(ring - shift), closed=True) for k, ring in enumerate(rings)]
    mesh, _ = Triangulation(frame, lines).surface([])
    middles = mesh.vertices[mesh.triangles, :2].mean(axis=1) + origin
    counts = is_inside(areas, middles) if areas else np.ones(len(mesh.triangles), np.bool_)
    depth = np.zeros(len(mesh.triangles))
    for each in stripped:
        depth += np.where(is_inside([each], middles), each.depth, 0.0)
    return Cells(layer_of(mesh, np.zeros(2)), counts, depth), float(mesh.triangle_areas[counts].sum())


def _level(ring: Floats) -> Floats:
    return np.column_stack((ring[:, :2], np.zeros(len(ring))))


def layer_of(surface: Surface, origin: Floats) -> Layer:
    """Return a surface ready to be walked through, in coordinates of another origin."""
    located: Locator = surface.locator
    vertices = surface.vertices.copy()
    vertices[:, :2] -= origin
    is_upright = np.empty(len(surface.triangles), np.bool_)
    mark_upright(vertices, surface.triangles, is_upright)
    boxes = located.boxes - np.concatenate((origin, origin))
    return Layer(
        vertices=vertices,
        triangles=surface.triangles,
        mate=surface.mates,
        order=located.order,
        boxes=boxes,
        levels=located.levels,
        is_upright=is_upright,
    )
