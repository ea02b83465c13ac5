"""What lies between holes, layer by layer: the thickness of one, the height of the next."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.layers.between_holes import TRIANGLES, BetweenHoles, checked_method, neighbours
from evrin.making.layers.boreholes import Borehole, Boreholes
from evrin.surface.surface import Surface

THICKNESS, HEIGHT = "thickness", "height"
CarryGiven = str | Mapping[str, str]
HALF = 0.5


class LayerRule(NamedTuple):
    """How layers are carried from hole to hole.

    Attributes
    ----------
    carried : tuple of str
        Of each material but the last, ``"thickness"`` or ``"height"`` (of its bottom).
    between : str
        See `BetweenHoles`.
    pinch : float
        See `layers_under`.
    """

    carried: tuple[str, ...]
    between: str = TRIANGLES
    pinch: float = HALF

    @classmethod
    def of(cls, materials: tuple[str, ...], carry: CarryGiven, between: str, pinch: float) -> LayerRule:
        """Check what is asked for; the first material is carried by its thickness where nothing is stated."""
        if not 0.0 < pinch <= 1.0:
            raise DataError(f"pinch is a part of the way, above 0 and up to 1; it is {pinch:g}")
        usual = [THICKNESS, *[HEIGHT] * len(materials)]
        if isinstance(carry, str):
            stated = dict.fromkeys(materials, carry) if carry else {}
        else:
            stated = dict(carry)
        for name, how in stated.items():
            if name not in materials:
                raise DataError(f"carry: {name} is not among the materials: {', '.join(materials)}")
            if how not in (THICKNESS, HEIGHT):
                raise DataError(f"carry is {THICKNESS} or {HEIGHT}; for {name} it is {how!r}")
        carried = tuple(stated.get(name, usual[k]) for k, name in enumerate(materials[:-1]))
        return cls(carried, checked_method(between), pinch)

    def described(self, materials: tuple[str, ...]) -> str:
        """Return what is carried how, in words."""
        kinds = {how: [name for name, own in zip(materials, self.carried, strict=False) if own == how]
                 for how in (THICKNESS, HEIGHT)}  # fmt: skip
        words = [f"{how} of {', '.join(names)}" for how, names in kinds.items() if names]
        return "; ".join([*words, f"between holes by {self.between.replace('-', ' ')}"])


@dataclass(eq=False)
class LayerFields:
    """The thickness of a material, or the height of its bottom, everywhere round the holes.

    Attributes
    ----------
    ground : Surface
        What the layers are under.
    boreholes : Boreholes
        What they follow from.
    rule : LayerRule
        How they are carried.
    extent : (4, 2) float64
        Corners of what is covered.
    fields : list of BetweenHoles or None
        One for each material but the last; None where no hole states one.
    notes : list of str
        Holes that end above what others state.
    """

    ground: Surface
    boreholes: Boreholes
    rule: LayerRule
    extent: Floats
    fields: list[BetweenHoles | None] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    @classmethod
    def laid(cls, ground: Surface, boreholes: Boreholes, rule: LayerRule, extent: Floats) -> LayerFields:
        """Carry every layer from hole to hole."""
        out = cls(ground, boreholes, rule, extent, [None] * len(rule.carried))
        first = 0
        while first < len(rule.carried):
            if rule.carried[first] == THICKNESS:
                out._lay_thickness(first)
                first += 1
                continue
            stop = first
            while stop < len(rule.carried) and rule.carried[stop] == HEIGHT:
                stop += 1
            # From below, since a top comes down to the one under it where its material ends.
            for number in reversed(range(first, stop)):
                out._lay_height(number, head=first if first and number == first else None)
            first = stop
        return out

    def heights(self, places: Floats, ground: Floats | None = None, upto: int | None = None) -> Floats:
        """Return the top of each material at places (m, 2): an array (materials, m), NaN where it is not known.

        Parameters
        ----------
        places : (m, 2) float64
            Easting and northing.
        ground : (m,) float64, optional
            Height of the ground there; of the surface if not given.
        upto : int, optional
            How many tops; all if not given.
        """
        above = self.ground.height(places[:, 0], places[:, 1]) if ground is None else ground
        tops = [above]
        for number, own in enumerate(self.fields[: None if upto is None else upto - 1]):
            values = np.full(len(places), np.nan) if own is None else own.values(places)
            if self.rule.carried[number] == THICKNESS:
                tops.append(tops[-1] - np.maximum(values, 0.0))
            else:
                tops.append(np.minimum(tops[-1], values))
        return np.array(tops)

    def _lay_thickness(self, number: int) -> None:
        """Of a material, in every hole that states its bottom; nothing where it is missing, from half way on."""
        upper, lower = self.boreholes.tops_of(number), self.boreholes.tops_of(number + 1)
        rows, words = [], []
        for hole, top, bottom in zip(self.boreholes.holes, upper, lower, strict=True):
            if top is not None and bottom is not None:
                rows.append([hole.easting, hole.northing, top - bottom])
                words.append(f"hole {hole.name}")
        if self.rule.pinch < 1.0:
            has = self.boreholes.has(number)
            for start, end in self._pairs:
                if has[start] is True and has[end] is False:
                    rows.append([*self._on_the_way(start, end), 0.0])
                    words.append("where a material ends between two holes")
        if not rows:
            return
        own = self._field(rows, words)
        at_holes = own.values(self._places).tolist()
        held = False
        for hole, top, bottom, here in zip(self.boreholes.holes, upper, lower, at_holes, strict=True):
            if top is not None and bottom is None and hole.end is not None and here < top - hole.end:
                rows.append([hole.easting, hole.northing, top - hole.end])
                words.append(f"end of hole {hole.name}")
                self._note(hole, number + 1, top - here)
                held = True
        self.fields[number] = self._field(rows, words) if held else own

    def _lay_height(self, number: int, head: int | None) -> None:
        """The bottom of a material, before it is held under what lies above it."""
        top_number = number + 1
        rows, words = [], []
        has = self.boreholes.has(top_number)
        for hole, top, there in zip(self.boreholes.holes, self.boreholes.tops_of(top_number), has, strict=True):
            if top is not None:
                rows.append([hole.easting, hole.northing, top])
                words.append(f"hole {hole.name}" + ("" if there else f", without {self._name(top_number)}"))
        if not rows:
            return
        if self.rule.pinch < 1.0:
            ends = self._places_where_one_ends(top_number, head)
            rows += ends
            words += ["where a material ends between two holes"] * len(ends)
        own = self._field(rows, words)
        at_holes = own.values(self._places).tolist()
        held = False
        for hole, top, here in zip(self.boreholes.holes, self.boreholes.tops_of(top_number), at_holes, strict=True):
            if top is None and hole.end is not None and here > hole.end:
                rows.append([hole.easting, hole.northing, hole.end])
                words.append(f"end of hole {hole.name}")
                self._note(hole, top_number, here)
                held = True
        self.fields[number] = self._field(rows, words) if held else own

    def _note(self, hole: Borehole, number: int, others: float) -> None:
        self.notes.append(
            f"hole {hole.name} ends at {hole.end:.3f} and has not met {self._name(number)}, which others put at "
            f"{others:.3f}"
        )

    def _places_where_one_ends(self, number: int, head: int | None) -> list[list[float]]:
        """Where the top of *number* meets another on the way from a hole to one that lacks a material.

        Where all that is above it ends, the top is at the ground; where the one above it ends and is carried by its
        thickness to here, at the top of that; where its own material ends, at the top below.
        """
        has = [self.boreholes.has(k) for k in range(number + 1)]
        below = self.fields[number] if number < len(self.fields) and self.rule.carried[number] == HEIGHT else None
        to_ground, to_head, to_below = [], [], []
        for start, end in self._pairs:
            place = self._on_the_way(start, end)
            if all(each[end] is False for each in has[:-1]) and any(each[start] is True for each in has[:-1]):
                to_ground.append(place)
            elif head is not None and has[number - 1][start] is True and has[number - 1][end] is False:
                to_head.append(place)
            elif below is not None and has[-1][start] is True and has[-1][end] is False:
                to_below.append(place)
        rows: list[list[float]] = []
        for places, meets in ((to_ground, None), (to_head, head), (to_below, below)):
            if not places:
                continue
            at = np.array(places)
            if isinstance(meets, BetweenHoles):
                z = meets.values(at)
            else:
                z = self.heights(at, upto=1 if meets is None else number)[-1]
            rows += [[*place, height] for place, height in zip(places, z.tolist(), strict=True) if np.isfinite(height)]
        return rows

    @cached_property
    def _places(self) -> Floats:
        return np.array([[hole.easting, hole.northing] for hole in self.boreholes.holes])

    @cached_property
    def _pairs(self) -> list[tuple[int, int]]:
        return [pair for one, other in neighbours(self.boreholes) for pair in ((one, other), (other, one))]

    def _on_the_way(self, start: int, end: int) -> list[float]:
        a, b = self._places[[start, end]]
        on_the_way: list[float] = (a + self.rule.pinch * (b - a)).tolist()
        return on_the_way

    def _field(self, rows: list[list[float]], words: list[str]) -> BetweenHoles:
        points = np.array(rows, np.float64).reshape(-1, 3)
        return BetweenHoles(points, words, self.extent, self.rule.between, self.ground.frame)

    def _name(self, number: int) -> str:
        return self.boreholes.materials[number]


def ends_of(ground: Surface, boreholes: Boreholes, extent: Floats) -> BetweenHoles:
    """Return the height down to which the holes reach: their ends, or the last top of one that states no end."""
    rows = [[hole.easting, hole.northing, hole.parts()[-1][2]] for hole in boreholes.holes]
    words = [f"end of hole {hole.name}" for hole in boreholes.holes]
    return BetweenHoles(np.array(rows, np.float64), words, extent, TRIANGLES, ground.frame)
