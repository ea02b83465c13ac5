"""Layers under the ground from boreholes: a surface for the top of each material, held in order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from scipy.spatial import cKDTree

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.boreholes import Boreholes
from evrin.making.combining.combined_provenance import provenance_of
from evrin.making.limits.limit_cells import AreasGiven, as_areas, cells_of, layer_of
from evrin.making.pads.planes import Base, base_surface
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patch_joining import laid_over, part_above
from evrin.making.patches.patches import patch_of, snap_of
from evrin.making.triangulation import Triangulation
from evrin.surface.frame import check_same_frame
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.overlay import overlay
from evrin.tin.overlay.meshes_between import between, exact_origin

if TYPE_CHECKING:
    import pandas as pd

# Even to the eye in grey and to most colour-blind eyes: from light to dark, and of several hues.
_COLOURS = ("#d9c7a0", "#b08d57", "#8fb0a9", "#5b7f95", "#8a6f8f", "#6b5b4b", "#3f4f4f", "#a3a3a3")
_HALF = 0.5


@dataclass(frozen=True, eq=False)
class GroundLayers:
    """The ground and what lies under it.

    Attributes
    ----------
    materials : tuple of str
        From above.
    colours : tuple of str
        Of each, as ``"#rrggbb"``.
    tops : tuple of Surface
        The top of each; the first is the ground. No one is anywhere above the one before it.
    boreholes : Boreholes
        What the layers follow from.
    name : str
        Of the ground.
    notes : list of str
        Where holes and ground do not agree, and where a hole ends above a top that others would put higher.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import layers_under
    >>> from evrin.making import Borehole, Boreholes
    >>> field = evrin.triangulate([[0, 0, 5], [30, 0, 5], [30, 30, 5], [0, 30, 5]])
    >>> hole = Borehole("A", 15.0, 15.0, 5.0, (("clay", 5.0), ("gravel", 3.0)), 1.0)
    >>> layers = layers_under(field, Boreholes.of([hole]))
    >>> layers.materials, layers.tops[1].height(1.0, 1.0).item()
    (('clay', 'gravel'), 3.0)
    """

    materials: tuple[str, ...]
    colours: tuple[str, ...]
    tops: tuple[Surface, ...]
    boreholes: Boreholes
    name: str
    notes: list[str] = field(default_factory=list)

    @cached_property
    def table(self) -> pd.DataFrame:
        """A row for each material: holes with it, without it, and ended before; heights of its top, mean thickness."""
        import pandas as pd

        rows = []
        for number, (name, top) in enumerate(zip(self.materials, self.tops, strict=True)):
            has, z = self.boreholes.has(number), top.vertices[:, 2]
            under = self.tops[number + 1] if number + 1 < len(self.tops) else None
            thickness = _volume(under, top, ()) / top.plan_area if under is not None else np.nan
            counts = (has.count(True), has.count(False), has.count(None))
            rows.append((name, *counts, float(z.min()), float(z.max()), thickness))
        heads = ["material", "holes_with", "holes_without", "holes_ended", "lowest_top", "highest_top"]
        return pd.DataFrame(rows, columns=[*heads, "mean_thickness"])

    def volumes(self, down_to: Base, up_to: Base | None = None, within: AreasGiven = ()) -> pd.DataFrame:
        """Return how much of each material there is, down to a surface such as a pit, and up to another.

        Parameters
        ----------
        down_to : Surface, Plane or float
            What bounds the volume from below: a pit, a pad, or a level.
        up_to : Surface, Plane or float, optional
            What bounds it from above; the ground if not given. Where it lies under *down_to* there is nothing.
        within : mapping of str to rings, sequence of Area, or one ring
            Only the ground in these areas.

        Returns
        -------
        DataFrame
            Columns ``material``, ``volume``, ``part`` (of all); a last row for all.

        Raises
        ------
        DataError
            For unlike units or systems.

        Examples
        --------
        >>> import evrin
        >>> from evrin.making import layers_under
        >>> from evrin.making import Borehole, Boreholes
        >>> field = evrin.triangulate([[0, 0, 5], [30, 0, 5], [30, 30, 5], [0, 30, 5]])
        >>> hole = Borehole("A", 15.0, 15.0, 5.0, (("clay", 5.0), ("gravel", 3.0)), 1.0)
        >>> layers_under(field, Boreholes.of([hole])).volumes(2.0)["volume"].round(6).tolist()
        [1800.0, 900.0, 2700.0]
        """
        import pandas as pd

        ground = self.tops[0]
        floor, _ = base_surface(ground, down_to)
        roofs = list(self.tops)
        if up_to is not None:
            roof, _ = base_surface(ground, up_to)
            roofs = [_lower(top, roof) for top in roofs]
        check_same_frame([(floor.name, floor.frame), (ground.name, ground.frame)])
        held = [_volume(floor, roof, within) for roof in roofs]
        parts = [upper - lower for upper, lower in zip(held, [*held[1:], 0.0], strict=True)]
        whole = held[0]
        out = pd.DataFrame({"material": [*self.materials, "all"], "volume": [*parts, whole]})
        out["part"] = out["volume"] / whole if whole > 0.0 else 0.0
        return out


def _volume(floor: Surface, roof: Surface, within: AreasGiven) -> float:
    """Volume between two surfaces where the roof is above."""
    areas = as_areas(within)
    origin = exact_origin(roof.vertices, floor.vertices)
    cells = None
    if areas:
        west, south, east, north = zip(roof.extent, floor.extent, strict=True)
        cells, _ = cells_of(areas, (), (min(west), min(south), max(east), max(north)), origin)
    return float(between(layer_of(floor, origin), layer_of(roof, origin), cells).totals[overlay.FILL])


def _lower(top: Surface, roof: Surface) -> Surface:
    """A top held under a roof."""
    snap = snap_of(top.vertices, roof.vertices)
    patch, other = patch_of(top, snap, 0), patch_of(roof, snap, 1, len(top.vertices))
    held = laid_over(patch, part_above(other, patch, -1.0, alone=False))
    vertices, triangles, rows = held.compacted()
    edges = np.full(triangles.shape, NOWHERE, np.int32)
    provenance = provenance_of(rows, [top, roof], "where two tops meet")
    return Surface(vertices, triangles, edges, (), provenance, name=top.name, units=top.units, crs=top.crs)


def layers_under(
    ground: Surface, boreholes: Boreholes, *, pinch: float = _HALF, colours: Sequence[str] = ()
) -> GroundLayers:
    """Return the top of each material under a ground.

    Parameters
    ----------
    ground : Surface
        The ground above them.
    boreholes : Boreholes
        What the layers follow from.
    pinch : float
        Where a material ends between a hole that has it and one that has not: the part of the way from the first,
        half by default, 1 for at the other hole.
    colours : sequence of str
        One for each material.

    Returns
    -------
    GroundLayers

    Raises
    ------
    DataError
        For *pinch* out of bounds, or colours that are not one for each material.

    Notes
    -----
    A top runs straight between holes (a Delaunay triangulation of them and of the places where a material ends), and
    beyond the outermost at the height of the nearest. No top is above the ground or above the top before it: where one
    would be, it is held there, exactly.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import layers_under
    >>> from evrin.making import Borehole, Boreholes
    >>> field = evrin.triangulate([[0, 0, 5], [40, 0, 5], [40, 20, 5], [0, 20, 5]])
    >>> one = Borehole("A", 10.0, 10.0, 5.0, (("clay", 5.0), ("sand", 4.0), ("gravel", 2.0)))
    >>> other = Borehole("B", 30.0, 10.0, 5.0, (("clay", 5.0), ("gravel", 2.0)))
    >>> found = layers_under(field, Boreholes.of([one, other]))
    >>> thickness = found.tops[1].height([10, 15, 20, 25], [10] * 4) - found.tops[2].height([10, 15, 20, 25], [10] * 4)
    >>> thickness.round(9).tolist()
    [2.0, 1.0, 0.0, 0.0]
    """
    if not 0.0 < pinch <= 1.0:
        raise DataError(f"pinch is a part of the way, above 0 and up to 1; it is {pinch:g}")
    names = boreholes.materials
    if colours and len(colours) != len(names):
        raise DataError(f"{len(colours)} colours for {len(names)} materials; give one for each, or none")
    layer_colours = tuple(colours) or tuple(_COLOURS[k % len(_COLOURS)] for k in range(len(names)))
    notes = _about_ground(ground, boreholes)
    extent = _extent_round(ground, boreholes)
    below: Surface | None = None
    raw: list[Surface] = []
    for number in reversed(range(1, len(names))):
        below = _top_of(boreholes, number, below, ground, extent, pinch, notes)
        raw.insert(0, below)
    tops = [ground.renamed(name=f"top of {names[0]}", colour=layer_colours[0])]
    for number, top in enumerate(raw, 1):
        held = _lower(tops[-1], top.renamed(name=f"top of {names[number]}"))
        tops.append(held.renamed(name=f"top of {names[number]}", colour=layer_colours[number]))
    return GroundLayers(
        materials=names, colours=layer_colours, tops=tuple(tops), boreholes=boreholes, name=ground.name, notes=notes
    )


def _about_ground(ground: Surface, boreholes: Boreholes) -> list[str]:
    out = []
    for hole in boreholes.holes:
        here = float(ground.height(hole.easting, hole.northing))
        if np.isnan(here):
            out.append(f"hole {hole.name} is outside the ground; its tops count still")
        elif abs(here - hole.ground) > 0.1:
            side = "above" if hole.ground > here else "below"
            out.append(f"hole {hole.name}: its ground is {abs(hole.ground - here):.3f} {side} the surface")
    return out


def _extent_round(ground: Surface, boreholes: Boreholes) -> Floats:
    """Corners round all ground and all holes, and a margin."""
    places = np.array([[hole.easting, hole.northing] for hole in boreholes.holes])
    west, south, east, north = ground.extent
    low = np.minimum([west, south], places.min(axis=0))
    high = np.maximum([east, north], places.max(axis=0))
    margin = 0.1 * float((high - low).max()) + 1.0
    (west, south), (east, north) = low - margin, high + margin
    return np.array([[west, south], [east, south], [east, north], [west, north]])


def _top_of(
    boreholes: Boreholes,
    number: int,
    below: Surface | None,
    ground: Surface,
    extent: Floats,
    pinch: float,
    notes: list[str],
) -> Surface:
    """The top of one material, before it is held under what lies above it."""
    places, words = _known_places(boreholes, number)
    ends = _places_where_one_ends(boreholes, number, below, ground, pinch)
    points = np.concatenate((places, ends))
    made = words + ["where a material ends between two holes"] * len(ends)
    surface = _laid(points, made, extent, ground)
    name = boreholes.materials[number]
    held = []
    for hole, top in zip(boreholes.holes, boreholes.tops_of(number), strict=True):
        here = float(surface.height(hole.easting, hole.northing))
        if top is None and hole.end is not None and here > hole.end:
            held.append([hole.easting, hole.northing, hole.end])
            notes.append(
                f"hole {hole.name} ends at {hole.end:.3f} and has not met {name}, which others put at {here:.3f}"
            )
            made.append(f"end of hole {hole.name}")
    if held:
        surface = _laid(np.concatenate((points, held)), made, extent, ground)
    return surface


def _known_places(boreholes: Boreholes, number: int) -> tuple[Floats, list[str]]:
    rows, words = [], []
    for hole, top, has in zip(boreholes.holes, boreholes.tops_of(number), boreholes.has(number), strict=True):
        if top is not None:
            rows.append([hole.easting, hole.northing, top])
            words.append(f"hole {hole.name}" + ("" if has else f", without {boreholes.materials[number]}"))
    return np.array(rows, np.float64).reshape(-1, 3), words


def _places_where_one_ends(
    boreholes: Boreholes, number: int, below: Surface | None, ground: Surface, pinch: float
) -> Floats:
    """Places on the way from holes with a material to neighbours without it, where its top meets what is under it.

    Where what is above the top of *number* ends, down from the ground, the top is at the ground.
    """
    rows: list[list[float]] = []
    if pinch >= 1.0:
        return np.empty((0, 3))
    has = [boreholes.has(k) for k in range(number + 1)]
    for one, other in _neighbours(boreholes):
        for start, end in ((one, other), (other, one)):
            a, b = boreholes.holes[start], boreholes.holes[end]
            x = a.easting + pinch * (b.easting - a.easting)
            y = a.northing + pinch * (b.northing - a.northing)
            if all(each[end] is False for each in has[:-1]) and any(each[start] is True for each in has[:-1]):
                # All above this top ends on the way: it comes up to the ground.
                meets = ground
            elif below is not None and has[-1][start] is True and has[-1][end] is False:
                meets = below
            else:
                continue
            z = float(meets.height(x, y))
            if np.isfinite(z):
                rows.append([x, y, z])
    return np.array(rows, np.float64).reshape(-1, 3)


def _neighbours(boreholes: Boreholes) -> list[tuple[int, int]]:
    """Pairs of holes beside one another: the edges of their triangulation; along a line, one after the other."""
    places = np.array([[hole.easting, hole.northing, 0.0] for hole in boreholes.holes])
    order = _order_on_a_line(places)
    if order is not None:
        return list(pairwise(order))
    work = Triangulation(places)
    surface, reading = work.surface()
    hole_of = {int(vertex): k for k, vertex in enumerate(work.mesh_vertex_of.tolist())}
    return [(hole_of[int(reading.vertices[a])], hole_of[int(reading.vertices[b])]) for a, b in surface.edges.tolist()]


def _order_on_a_line(places: Floats) -> list[int] | None:
    """The places one after the other, where all lie on a line."""
    if len(places) < 2:
        return list(range(len(places)))
    apart = places[:, :2] - places[:, :2].mean(axis=0)
    spread = np.linalg.svd(apart, compute_uv=True)
    if len(places) > 2 and spread[1][1] > 1e-9 * spread[1][0]:
        return None
    order: list[int] = np.argsort(apart @ spread[2][0], kind="stable").tolist()
    return order


def _rim_of(points: Floats) -> list[SourceLine]:
    """The rim of the triangles between points; the line itself where all lie on one."""
    order = _order_on_a_line(points)
    if order is not None:
        return [SourceLine("rim", points[order])] if len(order) > 1 else []
    surface = Triangulation(points).surface()[0]
    return [SourceLine("rim", surface.vertices[ring], closed=True) for ring in surface.rim()]


def _laid(points: Floats, made: list[str], extent: Floats, ground: Surface) -> Surface:
    """A surface through points, and beyond the outermost at the height of the nearest."""
    _, nearest = cKDTree(points[:, :2]).query(extent)
    corners = np.column_stack((extent, points[np.atleast_1d(nearest), 2]))
    every = np.concatenate((points, corners))
    # Without their rim held, a corner far outside would take part in triangles between holes.
    work = Triangulation(every, _rim_of(points))
    surface, reading = work.surface()
    words = [*made, *["beyond the holes, at the height of the nearest"] * len(corners)]
    row_of = {int(vertex): row for row, vertex in reversed(list(enumerate(work.mesh_vertex_of.tolist())))}
    vertex_words = {k: words[row_of[int(vertex)]] for k, vertex in enumerate(reading.vertices.tolist())}
    shot_of = np.full(len(surface.vertices), NOWHERE, np.int32)
    provenance = Provenance(Shots.joined([]), shot_of, vertex_words)
    return Surface(
        surface.vertices.copy(),
        surface.triangles.copy(),
        np.full_like(surface.edge_lines, NOWHERE),
        (),
        provenance,
        units=ground.units,
        crs=ground.crs,
    )
