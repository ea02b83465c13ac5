"""Which columns of a table hold the coordinates, where its headings name several that could."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from evrin.base.tolerances import FILE_METRES
from evrin.formats.text.text_layout import (
    HEADINGS,
    LATITUDES,
    LETTERS,
    LONGITUDES,
    gauss_krueger,
    heading_of,
    is_x_north,
    plain_heading,
    unit_in_heading,
)
from evrin.formats.text.text_numbers import number
from evrin.kernels import Floats
from evrin.survey.mismatch import are_geocentric

_LETTER_OF = {name: letter for letter, name in reversed(LETTERS.items()) if name}
_ELLIPSOIDAL = ("ell", "wgs", "gps", "geodetic")
_ORTHOMETRIC = ("ortho", "elev", "reduced", "rl", "msl", "nhn", "level", "altitud", "cota", "cote")
# Of the same quantity written twice, the two differ by no more than they are rounded to.
_SAME = 0.006
# Of a transverse grid, between latitudes of 27 and 85 degrees.
_NORTHINGS, _EASTINGS = 3e6, (1e5, 1e6)


@dataclass(frozen=True)
class ColumnChoice:
    """What each column of a table holds.

    Attributes
    ----------
    names : list of str
        By column: easting, northing, height, number, code or line; its own heading for an attribute; empty if ignored.
    is_in_degrees : bool
        Whether easting and northing are longitude and latitude.
    notes : list of str
        What was set aside for a reason that leaves no doubt.
    doubts : list of str
        What was chosen where other columns could be meant, with how to state which.
    """

    names: list[str]
    is_in_degrees: bool = False
    notes: list[str] = field(default_factory=list)
    doubts: list[str] = field(default_factory=list)


def chosen_columns(header: list[str], rows: list[list[str]]) -> ColumnChoice:
    """Choose the columns that hold the coordinates.

    Eastings and northings called so come before X and Y, and those before longitude and latitude. Heights above the
    sea come before others, and ellipsoidal ones last. Of a quantity in two units the one in the unit of the plan is
    taken, or in metres.

    Parameters
    ----------
    header : list of str
        The headings.
    rows : list of list of str
        Fields of the first rows.

    Returns
    -------
    ColumnChoice

    Examples
    --------
    >>> rows = [["1.0", "2.0", "164.042", "50.0"]]
    >>> chosen_columns(["Easting", "Northing", "Elevation (ft)", "Elevation (m)"], rows).names
    ['easting', 'northing', 'Elevation (ft)', 'height']
    """
    headings = [each.strip().strip('"').strip() for each in header]
    table = _Table(headings, _meanings(header), rows)
    notes: list[str] = []
    geocentric = _geocentric(table)
    if geocentric:
        notes.append(f"{', '.join(headings[k] for k in geocentric)} are geocentric and are not used")
    east, north = _plan(table, geocentric)
    height = _height(table, geocentric, east)
    names: list[str] = []
    own = {k: name for name, k in (("easting", east), ("northing", north), ("height", height)) if k is not None}
    for k, heading in enumerate(headings):
        meaning = table.meanings[k]
        is_free = meaning not in ("", "easting", "northing", "height") and meaning not in names
        name = own.get(k, meaning if is_free else heading)
        names.append("" if name in names or (name in HEADINGS and name != own.get(k, meaning)) else name)
    doubts = _doubts(table, names, {"easting": east, "northing": north, "height": height}, geocentric)
    if not geocentric or east not in geocentric:
        doubts += _about_axes(table, names, east, north, is_x_north(header))
    return ColumnChoice(names, east is not None and table.kind(east) == "degrees", notes, doubts)


@dataclass(frozen=True)
class _Table:
    """Headings, what each means, and the first rows."""

    headings: list[str]
    meanings: list[str]
    rows: list[list[str]]

    def candidates(self, meaning: str, without: tuple[int, ...] = ()) -> list[int]:
        return [k for k, each in enumerate(self.meanings) if each == meaning and k not in without]

    def values(self, column: int) -> Floats:
        return np.array([number(row[column], True) if column < len(row) else np.nan for row in self.rows])

    def unit(self, column: int | None) -> str:
        return "" if column is None else unit_in_heading(self.headings[column])

    def kind(self, column: int) -> str:
        """How a heading names a coordinate: by a word, by a letter, or as longitude or latitude."""
        word = plain_heading(self.headings[column])
        if word in LONGITUDES or word in LATITUDES:
            return "degrees"
        return "letter" if "x" in word[:1] + word[-1:] or "y" in word[:1] + word[-1:] else "word"


def _meanings(header: list[str]) -> list[str]:
    special, x_north = gauss_krueger(header), is_x_north(header)
    meanings = []
    for each in header:
        meaning, word = heading_of(each), plain_heading(each)
        if special and word in ("r", "h"):
            meaning = "easting" if word == "r" else "northing"
        if x_north and word in ("x", "y"):
            meaning = "northing" if word == "x" else "easting"
        meanings.append(meaning)
    return meanings


def _geocentric(table: _Table) -> tuple[int, ...]:
    """Columns X, Y and Z that are as far from the centre of the earth as its surface is; none if there are no such."""
    by_word = {plain_heading(heading): k for k, heading in enumerate(table.headings)}
    if not {"x", "y", "z"} <= by_word.keys():
        return ()
    columns = (by_word["x"], by_word["y"], by_word["z"])
    return columns if are_geocentric(np.column_stack([table.values(k) for k in columns])) else ()


def _plan(table: _Table, without: tuple[int, ...]) -> tuple[int | None, int | None]:
    """The columns of easting and northing: named alike, in one unit."""
    pairs = [
        (east, north)
        for east in table.candidates("easting", without)
        for north in table.candidates("northing", without)
        if table.kind(east) == table.kind(north) and table.unit(east) == table.unit(north)
    ]
    if not pairs:
        # Headings that go together in no pair, as Easting and Y, are taken as they come.
        every = [table.candidates(meaning, without) or table.candidates(meaning) for meaning in ("easting", "northing")]
        return every[0][0] if every[0] else None, every[1][0] if every[1] else None
    order = ("word", "letter", "degrees")
    return min(pairs, key=lambda pair: (order.index(table.kind(pair[0])), table.unit(pair[0]) not in ("", "m"), pair))


def _height(table: _Table, without: tuple[int, ...], east: int | None) -> int | None:
    candidates = table.candidates("height", without) or table.candidates("height")
    if not candidates:
        return None
    unit = table.unit(east) or "m"
    is_by_letter = east is not None and table.kind(east) == "letter"
    return min(candidates, key=lambda k: (_rank(table.headings[k], is_by_letter), table.unit(k) not in ("", unit), k))


def _rank(heading: str, is_by_letter: bool) -> int:
    """Where a heading stands among those of heights, the likeliest first."""
    word = plain_heading(heading)
    if word.startswith(_ELLIPSOIDAL) or word.endswith(("ell", "ellipsoid", "ellipsoidal")):
        return 3
    if word == "z":
        return 0 if is_by_letter else 2
    return 0 if word.startswith(_ORTHOMETRIC) or word.endswith(("msl", "nhn")) else 1


def _doubts(table: _Table, names: list[str], chosen: dict[str, int | None], geocentric: tuple[int, ...]) -> list[str]:
    doubts: list[str] = []
    for meaning, taken in chosen.items():
        if taken is None:
            continue
        others = [k for k in table.candidates(meaning, geocentric) if k != taken]
        if meaning != "height":
            others = [k for k in others if table.kind(k) != "degrees"]
        for other in others:
            difference = _difference(table, taken, other)
            if difference and (meaning != "northing" or not doubts):
                doubts.append(
                    f"{meaning}s are taken from {table.headings[taken]!r}; {table.headings[other]!r} could be meant as "
                    f"well, and {difference}. {_how_to_state(names, taken, other)}"
                )
    return doubts


def _about_axes(
    table: _Table, names: list[str], east: int | None, north: int | None, is_x_taken_as_north: bool
) -> list[str]:
    """What the sizes of eastings and northings say against the headings, or do not say for them."""
    if east is None or north is None:
        return []
    sizes = [float(np.median(np.abs(v[np.isfinite(v)]), axis=None)) if np.isfinite(v).any() else 0.0
             for v in (table.values(east), table.values(north))]  # fmt: skip
    how = _how_to_state(names, east, north, is_exchange=True)
    one, other = table.headings[east], table.headings[north]
    if sizes[0] >= _NORTHINGS and _EASTINGS[0] <= sizes[1] < _EASTINGS[1]:
        return [
            f"eastings ({one!r}) are in millions and northings ({other!r}) in hundreds of thousands; in transverse "
            f"grids it is the other way round. {how}"
        ]
    is_proved = sizes[1] >= _NORTHINGS and _EASTINGS[0] <= sizes[0] < _EASTINGS[1]
    if is_x_taken_as_north and not is_proved and table.kind(east) == "letter":
        return [f"{other!r} is taken as the northing, since Y comes first among German headings. {how}"]
    return []


def _difference(table: _Table, taken: int, other: int) -> str:
    """How the numbers of two columns differ; empty where they are the same quantity."""
    factors = [FILE_METRES.get(table.unit(k), 1.0) for k in (taken, other)]
    one, two = table.values(taken), table.values(other)
    apart = two * factors[1] - one * factors[0]
    apart = apart[np.isfinite(apart)]
    if not len(apart):
        return ""
    if (np.abs(apart) <= _SAME + 1e-9 * np.abs(one[np.isfinite(one)]).max()).mean() > 0.9:
        return ""
    middle = float(np.median(apart))
    return f"is {abs(middle):,.3f} {'higher' if middle > 0.0 else 'lower'} in the middle of its rows"


def _how_to_state(names: list[str], taken: int, other: int, *, is_exchange: bool = False) -> str:
    letters = [_LETTER_OF.get(name, "-") for name in names]
    exchanged = list(letters)
    exchanged[taken], exchanged[other] = letters[other] if is_exchange else "-", letters[taken]
    return f'State columns = "{"".join(letters)}" to keep this, columns = "{"".join(exchanged)}" for the other'
