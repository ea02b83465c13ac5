"""Layers under the ground from boreholes: a surface for the top of each material, held in order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.combining.combined_provenance import provenance_of
from evrin.making.layers.between_holes import TRIANGLES
from evrin.making.layers.boreholes import Boreholes
from evrin.making.layers.layer_fields import HALF, THICKNESS, CarryGiven, LayerFields, LayerRule, ends_of
from evrin.making.layers.left_out import Dug, LeftOut
from evrin.making.limits.limit_cells import AreasGiven, as_areas, cells_of, layer_of
from evrin.making.pads.planes import Base, base_surface
from evrin.making.patches.arranged_difference import difference_mesh
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patch_joining import laid_over, part_above
from evrin.making.patches.patches import patch_of, snap_of
from evrin.surface.frame import check_same_frame
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import Surface
from evrin.tin.overlay import overlay
from evrin.tin.overlay.meshes_between import between, exact_origin

if TYPE_CHECKING:
    import pandas as pd

# Even to the eye in grey and to most colour-blind eyes: from light to dark, and of several hues.
_COLOURS = ("#d9c7a0", "#b08d57", "#8fb0a9", "#5b7f95", "#8a6f8f", "#6b5b4b", "#3f4f4f", "#a3a3a3")


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
    fields : LayerFields
        What is carried from hole to hole, and how.
    ends : Surface
        How far down the holes reach; under it nothing is known.
    notes : list of str
        How layers are carried; where holes and ground do not agree, and where a hole ends above a top that others would
        put higher.

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
    fields: LayerFields
    ends: Surface
    notes: list[str] = field(default_factory=list)

    @cached_property
    def _left_out(self) -> LeftOut:
        return LeftOut(self.fields)

    @cached_property
    def left_out(self) -> tuple[float, ...]:
        """Of each top, the root mean square of what the others say of each hole's less its own; NaN where none can."""
        return self._left_out.usual

    @cached_property
    def table(self) -> pd.DataFrame:
        """A row for each material: holes with it, without it, and ended before; heights of its top, mean thickness.

        ``carried`` is what is carried from hole to hole, of all but the last; ``left_out`` how far off the others put
        the top where a hole is left out (`left_out`).
        """
        import pandas as pd

        rows = []
        carried = (*self.fields.rule.carried, "")
        for number, (name, top) in enumerate(zip(self.materials, self.tops, strict=True)):
            has, z = self.boreholes.has(number), top.vertices[:, 2]
            under = self.tops[number + 1] if number + 1 < len(self.tops) else None
            thickness = _volume(under, top, ()) / top.plan_area if under is not None else np.nan
            counts = (has.count(True), has.count(False), has.count(None))
            levels = (float(z.min()), float(z.max()))
            rows.append((name, *counts, *levels, thickness, carried[number], self.left_out[number]))
        heads = ["material", "holes_with", "holes_without", "holes_ended", "lowest_top", "highest_top"]
        return pd.DataFrame(rows, columns=[*heads, "mean_thickness", "carried", "left_out"])

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
            Columns ``material``, ``volume``, ``part`` (of all), ``below_holes`` (how much of the volume is under the
            ends of the holes, where nothing is known) and ``volume_95``; a last row for all.

        Raises
        ------
        DataError
            For unlike units or systems.

        Notes
        -----
        ``volume_95`` is what 95 of 100 volumes are within, as far as the holes tell: how much the volume changes with
        each hole left out (the jackknife) and how far off the others put the layer there, as squares, with Student's t;
        NaN for fewer than three holes. On 360 made volumes 90 to 94 of 100 were within it. What holes do not show,
        such as a channel between them, is not in it.

        References
        ----------
        Tukey, J. W. (1958), Bias and confidence in not quite large samples, *Annals of Mathematical Statistics* 29,
        614; Miller, R. G. (1974), The jackknife: a review, *Biometrika* 61, 1–15.

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
        check_same_frame([(floor.name, floor.frame), (ground.name, ground.frame)])
        roofs, roof = list(self.tops), None
        if up_to is not None:
            roof, _ = base_surface(ground, up_to)
            check_same_frame([(roof.name, roof.frame), (ground.name, ground.frame)])
            roofs = [_held(top, roof) for top in roofs]
        held = np.array([*(_volume(floor, each, within) for each in roofs), 0.0])
        known_floor = _held(floor, self.ends, -1.0)
        known = np.array([*(_volume(known_floor, each, within) for each in roofs), 0.0])
        whole = float(held[0])
        out = pd.DataFrame({"material": [*self.materials, "all"], "volume": [*-np.diff(held), whole]})
        out["part"] = out["volume"] / whole if whole > 0.0 else 0.0
        out["below_holes"] = np.maximum([*-np.diff(held - known), held[0] - known[0]], 0.0)
        out["volume_95"] = self._left_out.spread(Dug(floor, roof, as_areas(within)))
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


def _held(top: Surface, roof: Surface, sign: float = 1.0) -> Surface:
    """A top held under a roof, or for sign -1 a floor held above another."""
    snap = snap_of(top.vertices, roof.vertices)
    patch, other = patch_of(top, snap, 0), patch_of(roof, snap, 1, len(top.vertices))
    held = laid_over(patch, part_above(other, patch, -sign, alone=False))
    vertices, triangles, rows = held.compacted()
    edges = np.full(triangles.shape, NOWHERE, np.int32)
    provenance = provenance_of(rows, [top, roof], "where two tops meet")
    return Surface(vertices, triangles, edges, (), provenance, name=top.name, units=top.units, crs=top.crs)


def layers_under(
    ground: Surface,
    boreholes: Boreholes,
    *,
    carry: CarryGiven = "",
    between: str = TRIANGLES,
    pinch: float = HALF,
    colours: Sequence[str] = (),
) -> GroundLayers:
    """Return the top of each material under a ground.

    Parameters
    ----------
    ground : Surface
        The ground above them.
    boreholes : Boreholes
        What the layers follow from.
    carry : {"thickness", "height"} or mapping of str to these
        What is carried from hole to hole: a material's thickness, so that its bottom follows its top, or the height of
        its bottom. For all materials, or by name; without, the first has its thickness carried, since topsoil and made
        ground follow the ground, and the others heights.
    between : {"triangles", "inverse-distance", "natural-neighbours"}
        What lies between holes: straight lines (a Delaunay triangulation of them and of the places where a material
        ends; beyond the outermost as at the nearest), the mean by inverse squares of distances, or Sibson's.
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
        For *pinch* out of bounds, unknown names or words, or colours that are not one for each material.

    Notes
    -----
    No top is above the ground or above the top before it: where one would be, it is held there, exactly. Methods other
    than triangles are straight between places a sixth of the distance of holes apart.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import layers_under
    >>> from evrin.making import Borehole, Boreholes
    >>> hill = evrin.triangulate([[0, 0, 5], [20, 0, 9], [40, 0, 5], [40, 20, 5], [20, 20, 9], [0, 20, 5]])
    >>> one = Borehole("A", 0.0, 10.0, 5.0, (("topsoil", 5.0), ("sand", 4.7), ("gravel", 2.0)))
    >>> other = Borehole("B", 40.0, 10.0, 5.0, (("topsoil", 5.0), ("gravel", 4.7)))
    >>> tops = layers_under(hill, Boreholes.of([one, other])).tops
    >>> [top.height(20.0, 10.0).round(9).item() for top in tops]
    [9.0, 8.7, 8.7]
    """
    names = boreholes.materials
    rule = LayerRule.of(names, carry, between, pinch)
    if colours and len(colours) != len(names):
        raise DataError(f"{len(colours)} colours for {len(names)} materials; give one for each, or none")
    layer_colours = tuple(colours) or tuple(_COLOURS[k % len(_COLOURS)] for k in range(len(names)))
    extent = _extent_round(ground, boreholes)
    fields = LayerFields.laid(ground, boreholes, rule, extent)
    tops = [ground.renamed(name=f"top of {names[0]}", colour=layer_colours[0])]
    for number, own in enumerate(fields.fields, 1):
        assert own is not None, "a material is met by a hole, which states the bottom of the one above it"
        if rule.carried[number - 1] == THICKNESS:
            held = _less(tops[-1], own.surface)
        else:
            held = _held(tops[-1], own.surface)
        tops.append(held.renamed(name=f"top of {names[number]}", colour=layer_colours[number]))
    return GroundLayers(
        materials=names,
        colours=layer_colours,
        tops=tuple(tops),
        boreholes=boreholes,
        name=ground.name,
        fields=fields,
        ends=ends_of(ground, boreholes, extent).surface,
        notes=[rule.described(names), *_about_ground(ground, boreholes), *fields.notes],
    )


def _less(top: Surface, thickness: Surface) -> Surface:
    """A top lowered by a thickness."""
    vertices, triangles = difference_mesh(thickness, top)
    made = dict.fromkeys(range(len(vertices)), f"{top.name} less the thickness between holes")
    provenance = Provenance(Shots.joined([]), np.full(len(vertices), NOWHERE, np.int32), made)
    edges = np.full(triangles.shape, NOWHERE, np.int32)
    return Surface(vertices, triangles, edges, (), provenance, name=top.name, units=top.units, crs=top.crs)


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
