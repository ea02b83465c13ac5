"""The few kinds of things that every reader gives."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase

import numpy as np
from numpy.typing import NDArray

from evrin.kernels import Flags, Floats, Indices, Ints
from evrin.surface.frame import UNSTATED, Stated
from evrin.surface.grid import Grid
from evrin.surface.provenance import Shots
from evrin.surface.surface import Surface

Column = NDArray[np.object_] | NDArray[np.generic]
Value = str | float | int
# What a file states of the chainage of a line; lengths are its own, before it is carried over into the site's unit.
FIRST_CHAINAGE, OWN_LENGTH, STATION_EQUATIONS = "first chainage", "own length", "station equations"
_PLACE = re.compile(r",? (?:line|entity|feature|point|vertex|cell|layer|from|faces) ")
POINT, BLOCK, SYMBOL, TEXT, VERTEX = "point", "block", "symbol", "text", "vertex"


@dataclass(frozen=True)
class Refusal:
    """A row that could not be used, or several alike: where it is, why, and how many there are.

    Parameters
    ----------
    where : str
        The file, and the row in it.
    reason : str
        Why it cannot be used.
    count : int
        How many rows are alike.

    Examples
    --------
    >>> from evrin.survey import Refusal
    >>> Refusal("day1.csv line 7", "it has no height").file
    'day1.csv'
    """

    where: str
    reason: str
    count: int = 1

    @property
    def file(self) -> str:
        """The file it is in."""
        return _PLACE.split(self.where, maxsplit=1)[0]


@dataclass(frozen=True, eq=False)
class Points:
    """Shots with their places.

    Attributes
    ----------
    xyz : (n, 3) float64
        Height NaN where there is none.
    shots : Shots
        What is behind each.
    refused : tuple of Refusal
        Rows that hold no point.
    notes : tuple of str
        What the reader guessed.
    columns : mapping of str to (n,) array
        Whatever else the file states of each: ``layer``, ``kind`` (point, block or text), ``text``, ``class``,
        ``return``, ``returns``, and its attributes under their own names.

    Examples
    --------
    >>> from evrin.survey import Points
    >>> len(Points.none())
    0
    """

    xyz: Floats
    shots: Shots
    refused: tuple[Refusal, ...] = ()
    notes: tuple[str, ...] = field(default=())
    columns: Mapping[str, Column] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.xyz)

    def take(self, rows: Indices | Ints | Flags) -> Points:
        """Return some of the points, with all that is known of them.

        Parameters
        ----------
        rows : (k,) array of int or (n,) array of bool
            The rows to keep.

        Returns
        -------
        Points
        """
        columns = {name: column[rows] for name, column in self.columns.items()}
        return replace(self, xyz=self.xyz[rows], shots=self.shots.take(rows), columns=columns)

    def column(self, name: str, default: Value = "") -> Column:
        """Return a column, filled with *default* where the file has none.

        Parameters
        ----------
        name : str
            Of the column.
        default : value
            What every row has if there is no such column.

        Returns
        -------
        (n,) array
        """
        if name in self.columns:
            return self.columns[name]
        return np.broadcast_to(np.array(default, object), len(self.xyz))

    @classmethod
    def none(cls) -> Points:
        """Return no points.

        Returns
        -------
        Points
        """
        return cls(np.empty((0, 3)), Shots.joined([]))

    @classmethod
    def joined(cls, parts: list[Points]) -> Points:
        """Return all points of several tables, one after another.

        Parameters
        ----------
        parts : list of Points
            In order.

        Returns
        -------
        Points
        """
        if len(parts) == 1:
            return parts[0]
        names = dict.fromkeys(name for part in parts for name in part.columns)
        return cls(
            np.concatenate([np.empty((0, 3)), *(part.xyz for part in parts)]),
            Shots.joined([part.shots for part in parts]),
            tuple(refusal for part in parts for refusal in part.refused),
            tuple(dict.fromkeys(note for part in parts for note in part.notes)),
            {name: np.concatenate([part.column(name) for part in parts]) for name in names},
        )


@dataclass(frozen=True, eq=False)
class Line:
    """A named line of vertices.

    Attributes
    ----------
    name : str
        What the file calls it.
    xyz : (k, 3) float64
        Height NaN where the line has none.
    shots : Shots
        One row a vertex.
    closed : bool
        Whether it was drawn so that it ends where it began; the repeated vertex is left off.
    facts : mapping of str to value
        Whatever else the file states of it: ``layer``, ``kind``, and its attributes under their own names.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.surface import Shots
    >>> from evrin.survey import Line
    >>> line = Line("kerb", np.zeros((3, 3)), Shots.of_file("kerb.csv", [1, 2, 3]), closed=True)
    >>> line.drawn
    4
    """

    name: str
    xyz: Floats
    shots: Shots
    closed: bool = False
    facts: Mapping[str, Value] = field(default_factory=dict)

    @property
    def drawn(self) -> int:
        """How many vertices were drawn, the one that repeats the first included."""
        return len(self.xyz) + self.closed


@dataclass(frozen=True, eq=False)
class Contents:
    """All that a file holds, whatever its format.

    Attributes
    ----------
    file : str
        Name of the file.
    form : str
        What kind of file it is, in words.
    points : Points
        Its points.
    lines : tuple of Line
        Rings among them are closed.
    surfaces : tuple of Surface
        Triangles as given; in a drawing, one a layer, named after it.
    grids : tuple of Grid
        Its grids.
    refused : tuple of Refusal
        What cannot be used.
    notes : tuple of str
        What was guessed, ignored, or switched off.
    stated : Stated
        What the file states of its coordinates: units and reference system.
    hidden : mapping of str to str
        Layers that the file keeps out of sight, and how: ``frozen`` or ``switched off``.
    is_loose : bool
        Whether its surfaces are faces that nothing keeps from lying one above another.
    is_y_up : bool
        Whether heights seem to be along the second axis, as in models for pictures.
    doubts : tuple of str
        What was chosen where something else could be meant.
    guessed_columns : str
        Of delimited text: the columns as guessed, where nobody named them.
    """

    file: str
    form: str
    points: Points = field(default_factory=Points.none)
    lines: tuple[Line, ...] = ()
    surfaces: tuple[Surface, ...] = ()
    grids: tuple[Grid, ...] = ()
    refused: tuple[Refusal, ...] = ()
    notes: tuple[str, ...] = ()
    stated: Stated = UNSTATED
    hidden: Mapping[str, str] = field(default_factory=dict)
    guessed_columns: str = ""
    is_loose: bool = False
    is_y_up: bool = False
    doubts: tuple[str, ...] = ()

    def with_heights(self) -> tuple[Floats, list[Floats]]:
        """Return all places with heights, those of lines and surfaces included, and the lines that have them."""
        lines = [line.xyz for line in self.lines if np.isfinite(line.xyz).all() and len(line.xyz) > 1]
        places = [np.empty((0, 3)), self.points.xyz, *lines, *(surface.vertices for surface in self.surfaces)]
        every = np.concatenate(places)
        return every[np.isfinite(every).all(axis=1)], lines

    def selected(self, layers: Sequence[str] = (), kinds: Sequence[str] = (), codes: Sequence[str] = ()) -> Contents:
        """Return what meets each criterion that is given: by layer, by kind and by code, patterns in any letter case.

        Parameters
        ----------
        layers, kinds, codes : sequence of str
            Names or patterns, such as ``CONT*``; a criterion that is empty chooses all.
        """

        def meets(name: object, wanted: Sequence[str]) -> bool:
            return not wanted or any(fnmatchcase(str(name).casefold(), each.casefold()) for each in wanted)

        points = self.points
        columns = (points.column("layer"), points.column("kind", POINT), points.shots.codes)
        every = zip(*(column.tolist() for column in columns), strict=True)
        flags = [meets(layer, layers) and meets(kind, kinds) and meets(code, codes) for layer, kind, code in every]
        rows = np.array(flags, np.bool_)

        def is_meant(line: Line) -> bool:
            layer = line.facts.get("layer", "") or line.name
            code = line.facts.get("code", "") or line.name
            return meets(layer, layers) and meets(line.facts.get("kind", "line"), kinds) and meets(code, codes)

        return replace(
            self,
            points=points.take(rows),
            lines=tuple(line for line in self.lines if is_meant(line)),
            surfaces=tuple(each for each in self.surfaces if meets(each.name, layers) and not kinds and not codes),
            grids=tuple(each for each in self.grids if meets(each.name, layers) and not kinds and not codes),
        )

    def only(self, layers: Sequence[str]) -> Contents:
        """Return what is on some layers, or has some codes: patterns such as ``TOP*``, in whatever letter case.

        Parameters
        ----------
        layers : sequence of str
            Names of layers, codes, or patterns; lines and surfaces without a layer go by their names.
        """
        patterns = [each.casefold() for each in layers]

        def meets(*names: object) -> bool:
            return any(fnmatchcase(str(name).casefold(), pattern) for name in names if name for pattern in patterns)

        pairs = zip(self.points.column("layer").tolist(), self.points.shots.codes.tolist(), strict=True)
        rows = np.array([meets(*pair) for pair in pairs], np.bool_)
        return replace(
            self,
            points=self.points.take(rows),
            lines=tuple(line for line in self.lines if meets(line.facts.get("layer", ""), line.name)),
            surfaces=tuple(surface for surface in self.surfaces if meets(surface.name)),
            grids=tuple(grid for grid in self.grids if meets(grid.name)),
        )

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing in it that could go into a surface."""
        return not (len(self.points) or self.lines or self.surfaces or self.grids)
