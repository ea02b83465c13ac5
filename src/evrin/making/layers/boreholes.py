"""Boreholes: at which height each material begins in each, and the order of the materials."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter
from itertools import pairwise

import numpy as np

from evrin.base.errors import DataError


@dataclass(frozen=True)
class Borehole:
    """One hole.

    Attributes
    ----------
    name : str
        Of the hole.
    easting, northing, ground : float
        Its place, and the height of the ground there.
    tops : tuple of (str, float)
        Each material that was met and the height of its top, from above; the first is at the ground.
    end : float or None
        The height at which the hole ends, where that is known.
    where : str
        Where it was read, as in ``holes.csv line 3``.

    Examples
    --------
    >>> from evrin.making import Borehole
    >>> hole = Borehole("BH1", 10.0, 20.0, 41.2, (("made ground", 41.2), ("gravel", 39.8)), 36.0)
    >>> hole.parts()
    [('made ground', 41.2, 39.8), ('gravel', 39.8, 36.0)]
    """

    name: str
    easting: float
    northing: float
    ground: float
    tops: tuple[tuple[str, float], ...]
    end: float | None = None
    where: str = ""

    def parts(self) -> list[tuple[str, float, float]]:
        """Return each material with its top and its bottom; of the last, the end of the hole, or its own top.

        Returns
        -------
        list of (str, float, float)
        """
        last = self.end if self.end is not None else self.tops[-1][1]
        bottoms = [*(top for _, top in self.tops[1:]), last]
        return [(name, top, bottom) for (name, top), bottom in zip(self.tops, bottoms, strict=True)]


@dataclass(frozen=True)
class Boreholes:
    """Several holes, their materials in one order.

    Attributes
    ----------
    holes : tuple of Borehole
        The holes.
    materials : tuple of str
        From above.

    Examples
    --------
    >>> from evrin.making import Borehole, Boreholes
    >>> first = Borehole("BH1", 0.0, 0.0, 5.0, (("fill", 5.0), ("gravel", 3.0)))
    >>> other = Borehole("BH2", 9.0, 0.0, 5.0, (("fill", 5.0), ("clay", 4.0), ("gravel", 2.0)))
    >>> Boreholes.of([first, other]).materials
    ('fill', 'clay', 'gravel')
    """

    holes: tuple[Borehole, ...]
    materials: tuple[str, ...]

    @classmethod
    def of(cls, holes: Sequence[Borehole], materials: Sequence[str] = ()) -> Boreholes:
        """Check holes, and put their materials in order.

        Parameters
        ----------
        holes : sequence of Borehole
            The holes.
        materials : sequence of str
            In order from above; found from the holes if not given. Those that no hole meets are left out.

        Returns
        -------
        Boreholes

        Raises
        ------
        DataError
            For no hole, two at one place or of one name, tops that do not go down, a material twice in one hole, one
            that is not among *materials*, or holes that contradict one another.
        """
        if not holes:
            raise DataError("no borehole is given")
        _check_apart(holes)
        for hole in holes:
            _check_hole(hole)
        order = tuple(materials) or _order_of(holes)
        for hole in holes:
            layers = [name for name, _ in hole.tops]
            odd = [name for name in layers if name not in order]
            if odd:
                raise DataError(f"{_named(hole)}: {odd[0]} is not among the materials: {', '.join(order)}")
            ranks = [order.index(name) for name in layers]
            if ranks != sorted(ranks):
                raise DataError(f"{_named(hole)}: its materials are not in the order {', '.join(order)}")
        met = {name for hole in holes for name, _ in hole.tops}
        return cls(tuple(holes), tuple(name for name in order if name in met))

    def tops_of(self, number: int) -> list[float | None]:
        """Return the height of a material's top in each hole; where it is missing, that of what lies under it.

        Parameters
        ----------
        number : int
            Of the material.

        Returns
        -------
        list of float or None
            None where a hole ends before that is known.
        """
        at = {name: k for k, name in enumerate(self.materials)}
        out: list[float | None] = []
        for hole in self.holes:
            below = [top for name, top in hole.tops if at[name] >= number]
            out.append(below[0] if below else None)
        return out

    def has(self, number: int) -> list[bool | None]:
        """Return whether each hole has a material; None where it ends before that is known.

        Parameters
        ----------
        number : int
            Of the material, from the top.

        Returns
        -------
        list of bool or None
        """
        name = self.materials[number]
        tops = self.tops_of(number)
        return [
            None if top is None else any(name == own for own, _ in hole.tops)
            for hole, top in zip(self.holes, tops, strict=True)
        ]


def _named(hole: Borehole) -> str:
    return f"{hole.where}, hole {hole.name}" if hole.where else f"hole {hole.name}"


def _check_apart(holes: Sequence[Borehole]) -> None:
    by_name: dict[str, Borehole] = {}
    by_place: dict[tuple[float, float], Borehole] = {}
    for hole in holes:
        place = (hole.easting, hole.northing)
        if hole.name in by_name:
            raise DataError(f"{_named(hole)}: there is another hole of this name")
        if place in by_place:
            raise DataError(f"{_named(hole)} is at the place of hole {by_place[place].name}")
        by_name[hole.name], by_place[place] = hole, hole


def _check_hole(hole: Borehole) -> None:
    numbers = [hole.easting, hole.northing, hole.ground, *(top for _, top in hole.tops)]
    if not np.isfinite([*numbers, hole.end if hole.end is not None else 0.0]).all():
        raise DataError(f"{_named(hole)}: every number must be finite")
    if not hole.tops:
        raise DataError(f"{_named(hole)} has no material")
    names = [name for name, _ in hole.tops]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise DataError(f"{_named(hole)}: {twice} is there twice; give one of them another name")
    if hole.tops[0][1] != hole.ground:
        raise DataError(
            f"{_named(hole)}: {names[0]} begins at {hole.tops[0][1]:.3f}, and the ground is at {hole.ground:.3f}; the "
            "first material begins at the ground"
        )
    heights = [top for _, top in hole.tops] + ([hole.end] if hole.end is not None else [])
    if any(lower >= upper for upper, lower in pairwise(heights)):
        raise DataError(f"{_named(hole)}: tops must go down; they are {', '.join(f'{top:.3f}' for top in heights)}")


def _order_of(holes: Sequence[Borehole]) -> tuple[str, ...]:
    """The materials from above, in an order that every hole keeps to; where several do, as they come in the holes."""
    under: dict[str, set[str]] = {}
    first: dict[str, tuple[float, int]] = {}
    for hole in holes:
        for depth, (name, top) in enumerate(hole.tops):
            under.setdefault(name, set())
            first[name] = min(first.get(name, (np.inf, 0)), (hole.ground - top, depth))
        for (upper, _), (lower, _) in pairwise(hole.tops):
            under[lower].add(upper)
    sorter = TopologicalSorter(under)
    try:
        sorter.prepare()
    except CycleError as error:
        ring = " above ".join(error.args[1])
        raise DataError(
            f"holes contradict one another on the order of materials: {ring}. Give a material that comes twice two "
            "names, or state the order"
        ) from error
    out: list[str] = []
    waiting: list[str] = []
    while sorter.is_active():
        waiting += sorter.get_ready()
        waiting.sort(key=lambda name: (*first[name], name))
        out.append(waiting.pop(0))
        sorter.done(out[-1])
    return tuple(out)
