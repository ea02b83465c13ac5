"""The contents of blocks in a drawing, at the places where the blocks are inserted: moved, scaled, turned, repeated."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple, cast

import numpy as np

from evrin.base.errors import DataError
from evrin.formats.door.format_registry import package
from evrin.kernels import Floats

if TYPE_CHECKING:
    from ezdxf.entities import DXFGraphic, Insert, Solid

_MOST_ENTITIES, _DEEPEST = 1_000_000, 20
# A flat mark of at most this size, in metres, is the symbol of a point.
_SYMBOL = 3.0
_MARKS = ("LINE", "LWPOLYLINE", "POLYLINE", "CIRCLE", "ARC", "ELLIPSE", "SPLINE", "POINT", "TEXT", "MTEXT", "SOLID")
_UNSEEN = ("ATTDEF", "HATCH", "WIPEOUT", "VIEWPORT")


class Inserted(NamedTuple):
    """One insertion of a block: where, what it contains, and whether it only marks a point."""

    insert: Insert
    contents: list[DXFGraphic]
    is_symbol: bool


class Blocks:
    """Takes insertions apart, and keeps count of what is inside.

    Parameters
    ----------
    file : str
        Name of the drawing, for messages.
    metres : float
        What the unit of the drawing is in metres.
    """

    def __init__(self, file: str, metres: float) -> None:
        self.file, self.metres = file, metres
        self.taken = 0
        self._sizes: dict[str, int] = {}
        self.opened: Counter[str] = Counter()
        self.missing: Counter[str] = Counter()

    def insertions(self, entity: Insert, depth: int) -> Iterator[Inserted]:
        """Yield each insertion of an array of them, or the one.

        Raises
        ------
        DataError
            Where blocks hold more than can be read, or one holds itself.
        """
        if depth == 0:
            self._count(entity)
        for insert in entity.multi_insert() if entity.mcount > 1 else [entity]:
            name = str(insert.dxf.name)
            block = insert.block()
            if block is None:
                contents: list[DXFGraphic] = []
                if insert.doc is not None:
                    self.missing[name] += 1
            else:
                contents = [each for each in insert.virtual_entities() if each.dxftype() not in _UNSEEN]
            is_symbol = self._is_symbol(insert, contents)
            self.opened[name] += not is_symbol
            yield Inserted(insert, contents, is_symbol)

    def _count(self, entity: Insert) -> None:
        """Count what an insertion comes to before anything of it is made."""
        self.taken += int(entity.mcount) * self._size_of(entity, 0)
        if self.taken > _MOST_ENTITIES:
            most = f"{_MOST_ENTITIES:,}"
            raise DataError(f"{self.file}: its blocks hold more than {most} entities; explode a part of them")

    def _size_of(self, insert: Insert, depth: int) -> int:
        """How many entities one insertion of a block comes to, those of blocks within it included."""
        name, block = str(insert.dxf.name), insert.block()
        if depth > _DEEPEST:
            raise DataError(f"{self.file}: blocks are nested more than {_DEEPEST} deep; block {name} may hold itself")
        if block is None:
            return 1
        if name not in self._sizes:
            inner = [cast("Insert", each) for each in block if each.dxftype() == "INSERT"]
            own = len(block) - len(inner) + 1
            self._sizes[name] = own + sum(int(each.mcount) * self._size_of(each, depth + 1) for each in inner)
        return self._sizes[name]

    def _is_symbol(self, insert: Insert, contents: list[DXFGraphic]) -> bool:
        """Whether contents are a small flat mark around the insertion, not things that have places of their own."""
        if not all(each.dxftype() in _MARKS for each in contents):
            return False
        centre = np.array(tuple(insert.ocs().to_wcs(insert.dxf.insert)), np.float64)
        places = [centre[None]]
        for each in contents:
            corners = _places_of(each)
            if each.dxftype() == "POINT" and np.hypot(*(corners[0, :2] - centre[:2])) * self.metres > 1e-3:
                return False
            places.append(corners)
        every = np.concatenate(places)
        size = float(np.ptp(every[:, :2], axis=0).max()) * self.metres
        return size <= _SYMBOL and float(np.ptp(every[:, 2])) * self.metres <= 1e-6


def _places_of(entity: DXFGraphic) -> Floats:
    """Places (n, 3) that span an entity."""
    kind = entity.dxftype()
    if kind == "POINT":
        places = [entity.dxf.location]
    elif kind in ("TEXT", "MTEXT"):
        # The extent of its letters does not matter, only where it is.
        places = [entity.dxf.insert]
    elif kind == "SOLID":
        places = list(cast("Solid", entity).wcs_vertices())
    elif kind == "LINE":
        places = [entity.dxf.start, entity.dxf.end]
    else:
        places = list(package("ezdxf.path").make_path(entity).control_vertices())
    return np.array([tuple(place) for place in places], np.float64).reshape(-1, 3)
