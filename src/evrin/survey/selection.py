"""Choosing things by code, number, layer, name, kind, class, return, attribute and place."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Flags, Floats
from evrin.survey.attribute_filter import where_holds
from evrin.survey.contents import Column, Line, Points
from evrin.tin.query.inside_rings import is_inside_rings


@dataclass(frozen=True, eq=False)
class Selection:
    """What is meant: patterns (``*``, ``?``, ``[…]``) for texts, numbers for classes, places for the rest.

    Attributes
    ----------
    codes, numbers, layers, names, kinds : tuple of str
        Patterns, of which one has to fit.
    classes : tuple of int
        Of a point cloud.
    returns : tuple of str
        ``first``, ``last`` or ``only``.
    where : str
        Comparisons of attributes; see `evrin.survey.attribute_filter`.
    window : (west, south, east, north), optional
        The part to look at; all of it if not given.
    rings : tuple of (k, 2) float64
        Inside them; rings within rings alternate.
    heights : (lowest, highest), optional
        Only what lies between.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.surface import Shots
    >>> from evrin.survey import Points, Selection
    >>> shots = Shots.of_file("day1.csv", [1, 2], np.array(["1", "2"], object), np.array(["GRASS", "CTRL1"], object))
    >>> Selection(codes=("CTRL*",)).all_met(Points(np.zeros((2, 3)), shots)).tolist()
    [False, True]
    """

    codes: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()
    layers: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    classes: tuple[int, ...] = ()
    returns: tuple[str, ...] = ()
    where: str = ""
    window: tuple[float, float, float, float] | None = None
    rings: tuple[Floats, ...] = field(default=())
    heights: tuple[float, float] | None = None

    def all_met(self, things: Points | Sequence[Line]) -> Flags:
        """Return which things meet every criterion given.

        Parameters
        ----------
        things : Points or sequence of lines
            What is selected from.

        Returns
        -------
        (n,) bool
        """
        met = np.ones(len(things), np.bool_)
        for verdict in self._verdicts(things):
            met &= verdict
        return met

    def any_met(self, things: Points | Sequence[Line]) -> Flags:
        """Return which things meet at least one of the criteria given.

        Parameters
        ----------
        things : Points or sequence of lines
            What is selected from.

        Returns
        -------
        (n,) bool
        """
        met = np.zeros(len(things), np.bool_)
        for verdict in self._verdicts(things):
            met |= verdict
        return met

    def _verdicts(self, things: Points | Sequence[Line]) -> list[Flags]:
        facts = _facts_of_points(things) if isinstance(things, Points) else _facts_of_lines(things)
        verdicts = [
            matches(facts.columns[name], patterns)
            for name, patterns in (
                ("code", self.codes),
                ("number", self.numbers),
                ("layer", self.layers),
                ("name", self.names),
                ("kind", self.kinds),
            )
            if patterns
        ]
        if self.classes:
            verdicts.append(np.isin(_needed(facts.columns, "class"), self.classes))
        if self.returns:
            verdicts.append(_is_return(facts.columns, self.returns))
        if self.where:
            verdicts.append(where_holds(self.where, facts.columns, len(things)))
        if self.window is not None:
            west, south, east, north = self.window
            x, y = facts.places.T
            verdicts.append(facts.any_of((x >= west) & (x <= east) & (y >= south) & (y <= north)))
        if self.heights is not None:
            low, high = self.heights
            verdicts.append(facts.any_of((facts.heights >= low) & (facts.heights <= high)))
        if self.rings:
            verdicts.append(facts.any_of(is_inside_rings(facts.places, list(self.rings))))
        return verdicts


@dataclass(frozen=True, eq=False)
class _Facts:
    """What is known of each thing, and the places of all of them, thing after thing."""

    columns: Mapping[str, Column]
    places: Floats
    heights: Floats
    counts: np.ndarray | None = None

    def any_of(self, inside: Flags) -> Flags:
        if self.counts is None:
            return inside
        owner = np.repeat(np.arange(len(self.counts)), self.counts)
        return np.bincount(owner, inside, len(self.counts)) > 0


class _ColumnsOfPoints(Mapping[str, Column]):
    """All that is known of points by name; texts that nobody asks for are not made."""

    def __init__(self, points: Points) -> None:
        self._points = points
        self._names = dict.fromkeys([*points.columns, "code", "number", "layer", "kind", "name"])

    def __getitem__(self, name: str) -> Column:
        if name not in self._names:
            raise KeyError(name)
        shots = self._points.shots
        if name == "code":
            return shots.codes
        return shots.numbers if name == "number" else self._points.column(name)

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)


def _facts_of_points(points: Points) -> _Facts:
    return _Facts(_ColumnsOfPoints(points), np.ascontiguousarray(points.xyz[:, :2]), points.xyz[:, 2])


def _facts_of_lines(lines: Sequence[Line]) -> _Facts:
    names = dict.fromkeys(("layer", "kind"))
    names |= dict.fromkeys(name for line in lines for name in line.facts)
    columns = {name: _texts([line.facts.get(name, "") for line in lines]) for name in names}
    columns["name"] = _texts([line.name for line in lines])
    columns["code"] = _texts([line.shots.codes[0] for line in lines])
    columns["number"] = _texts([line.shots.numbers[0] for line in lines])
    xyz = np.concatenate([np.empty((0, 3)), *(line.xyz for line in lines)])
    return _Facts(
        columns, np.ascontiguousarray(xyz[:, :2]), xyz[:, 2], np.array([len(line.xyz) for line in lines], np.int64)
    )


def _texts(values: list[object]) -> Column:
    out = np.empty(len(values), object)
    out[:] = values
    return out


def matches(texts: Column, patterns: Sequence[str]) -> Flags:
    """Return which texts fit any of the patterns."""
    import pandas as pd

    if len(texts) and texts.strides == (0,):
        return np.repeat(matches(texts[:1].copy(), patterns), len(texts))  # one text for a whole cloud
    rows, distinct = pd.factorize(texts)
    hit = [any(fnmatchcase(str(text), pattern) for pattern in patterns) for text in distinct]
    return np.array(hit, np.bool_)[rows] if len(rows) else np.zeros(0, np.bool_)


def _needed(columns: Mapping[str, Column], name: str) -> Column:
    if name not in columns:
        raise DataError(f"no {name} to select by; known here: {', '.join(sorted(columns))}")
    return columns[name]


def _is_return(columns: Mapping[str, Column], wanted: Sequence[str]) -> Flags:
    number, of = _needed(columns, "return"), _needed(columns, "returns")
    each = {"first": number == 1, "last": number == of, "only": of == 1}
    met = np.zeros(len(number), np.bool_)
    for name in wanted:
        met |= np.asarray(each[name], np.bool_)
    return met
