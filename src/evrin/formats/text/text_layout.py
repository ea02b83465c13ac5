"""How delimited text is laid out: its delimiter, where its header is, and what columns are called."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from pathlib import Path

from evrin.base.errors import DataError
from evrin.formats.text.text_numbers import is_number

LETTERS = {
    "P": "number",
    "N": "northing",
    "Y": "northing",
    "E": "easting",
    "X": "easting",
    "Z": "height",
    "D": "code",
    "L": "line",
    "-": "",
}
# English, German, French and Spanish, without accents and signs.
HEADINGS = {
    "number": (
        *("number", "point", "pt", "p", "no", "id", "pid", "pnt", "shot", "pointnumber", "pointno", "pointid", "ptid"),
        *("pointname", "ptno", "ptnum", "pointnum", "num", "nr", "station", "stationname", "pnr", "ptnr", "pktnr"),
        *("punkt", "punktnr", "punktnummer", "punktname", "punktid", "nummer", "numero", "numeropoint", "matricule"),
        *("numeropunto", "punto", "nopoint", "nodepoint", "numpunto"),
    ),
    "northing": (
        *("northing", "northings", "north", "n", "y", "gridnorthing", "ycoord", "ycoordinate", "coordy", "northcoord"),
        *("hochwert", "nordwert", "nord", "hoch", "norte", "coordenadanorte", "coordonneey", "coordenaday"),
        *("ykoordinate", "ywert"),
    ),
    "easting": (
        *("easting", "eastings", "east", "e", "x", "xcoord", "xcoordinate", "coordx", "eastcoord"),
        *("rechtswert", "ostwert", "ost", "rechts", "est", "este", "coordenadaeste", "coordonneex", "coordenadax"),
        *("grideasting", "xkoordinate", "xwert"),
    ),
    "height": (
        *("height", "heights", "elevation", "elevations", "elev", "el", "z", "h", "ht", "hgt", "level", "levels", "rl"),
        *(
            "reducedlevel",
            "orthometricheight",
            "ellipsoidalheight",
            "ellheight",
            "ellipsoidheight",
            "zcoord",
            "zcoordinate",
            "coordz",
            "alt",
        ),
        *("ellheight", "ellipsoidheight", "orthometricelevation", "ellipsoidalelevation"),
        *("altitude", "orthoheight", "heightmsl", "msl", "hohe", "hoehe", "gelandehohe", "zwert", "zkoordinate", "nhn"),
        *("hohenhn", "altitud", "cota", "cote", "altimetrie", "elevacion", "altura", "coordenadaz", "coordonneez"),
    ),
    "code": (
        *("code", "codes", "description", "desc", "d", "feature", "featurecode", "fieldcode", "pointcode", "remark"),
        *("remarks", "punktart", "punktcode", "objektcode", "bemerkung", "beschreibung", "libelle", "nature"),
        *("codigo", "descripcion", "descriptif", "designation"),
    ),
    "line": (
        *("line", "string", "name", "linename", "l", "ring", "lineid", "lineno", "linenumber", "stringname"),
        *("linie", "liniennummer", "linienname", "ligne", "linea"),
    ),
}
# Degrees, by the names of the two.
LONGITUDES = ("longitude", "long", "lon", "lng", "lange", "laenge", "longitud")
LATITUDES = ("latitude", "lat", "breite", "latitud")
HEADINGS["easting"] += LONGITUDES
HEADINGS["northing"] += LATITUDES
# Where these are spoken, X is the northing of many surveys.
_NORTH_IS_X = ("punkt", "punktnr", "punktnummer", "pktnr", "pnr", "ptnr", "hohe", "hoehe", "bemerkung", "objektcode")
_MEANING = {word: name for name, words in HEADINGS.items() for word in words}
_UNITS = {
    **dict.fromkeys(("m", "metre", "metres", "meter", "meters", "metros"), "m"),
    **dict.fromkeys(("ft", "feet", "foot", "ift", "intft"), "ft"),
    **dict.fromkeys(("usft", "ftus", "sft", "ussurveyfeet", "ussurveyfoot", "surveyfeet"), "ftUS"),
    **{"mm": "mm", "cm": "cm", "millimetres": "mm"},
}
_BRACKETS = re.compile(r"[(\[{<]([^)\]}>]*)[)\]}>]")
DELIMITERS = {"\t": "tab", ";": "semicolon", ",": "comma", "|": "vertical bar", " ": "spaces"}
_MARKS = "\t;,|"
# Below a block about the job the header is at most so far down.
_DEEPEST_HEADER = 60
_COMMENTS = ("#", "//", "*")


def is_comment(line: str) -> bool:
    """Whether a line is one: a semicolon begins one only where no field follows it."""
    bare = line.lstrip()
    if bare.startswith(_COMMENTS):
        return True
    rest = bare[1:].split(";")
    return bare.startswith(";") and not (len(rest) > 1 and sum(map(is_number, rest)) > 1)


def guess_delimiter(sample: list[str]) -> str:
    """Return what divides the fields of most lines."""
    even = []
    for delimiter in _MARKS:
        counts = Counter(line.count(delimiter) for line in sample)
        count, lines = counts.most_common(1)[0]
        if count >= 1 and lines * 2 > len(sample):
            even.append(delimiter)
    if even:
        # Where codes hold another delimiter in every row, the one between the numbers counts.
        return max(even, key=lambda delimiter: _known_fields(sample, delimiter))
    return max(_MARKS, key=lambda d: sum(d in line for line in sample)) if _separated(sample) else " "


def _known_fields(sample: list[str], delimiter: str) -> int:
    """How many fields are numbers, or headings that are known."""
    rows = [line.split(delimiter) for line in sample]
    return sum(is_number(field) for row in rows for field in row) + sum(map(bool, map(heading_of, rows[0])))


def _separated(sample: list[str]) -> bool:
    return sum(any(d in line for d in _MARKS) for line in sample) * 2 > len(sample)


def header_row(rows: list[list[str]]) -> int:
    """Return which of the first rows names the columns, -1 where none does.

    A row of texts that names easting and northing, wherever it is; otherwise the first row, where it has texts alone
    and the row below it has numbers.
    """
    for k, row in enumerate(rows[:_DEEPEST_HEADER]):
        meant = {heading_of(field) for field in row} | gauss_krueger(row)
        is_header = {"easting", "northing"} <= meant and not any(is_number(field) for field in row)
        # A row of words among points is a bad row.
        if is_header and 2 * sum(map(_has_place, rows[:k])) <= sum(map(_has_place, rows[k + 1 :])):
            return k
    if not rows or any(is_number(field) for field in rows[0]):
        return -1
    return 0 if any(heading_of(field) for field in rows[0]) or _is_text_above_numbers(rows) else -1


def _has_place(row: list[str]) -> bool:
    return sum(map(is_number, row)) >= 3


def _is_text_above_numbers(rows: list[list[str]]) -> bool:
    below = rows[1:6]
    return len(rows[0]) > 1 and bool(below) and all(sum(map(is_number, row)) > 1 for row in below)


def named_columns(path: Path, columns: str) -> list[str]:
    """Return what letters mean, a column each."""
    unknown = sorted({letter for letter in columns.upper() if letter not in LETTERS})
    if unknown:
        raise DataError(
            f"{path}: columns {columns!r}: {', '.join(unknown)} is not known. The letters are "
            + ", ".join(f"{letter} {name or 'ignored'}" for letter, name in LETTERS.items())
        )
    names = [LETTERS[letter] for letter in columns.upper()]
    twice = sorted({name for name in names if name and names.count(name) > 1})
    if twice:
        raise DataError(f"{path}: columns {columns!r} name {' and '.join(twice)} more than once")
    return names


def gauss_krueger(header: list[str]) -> set[str]:
    """Return easting and northing where a header names them R and H, as German tables do, beside another height."""
    plain = [_plain(field) for field in header]
    others = {heading_of(field) for field in header if _plain(field) != "h"}
    is_so = "r" in plain and "h" in plain and not others & {"easting", "northing"}
    return {"easting", "northing"} if is_so else set()


def is_x_north(header: list[str]) -> bool:
    """Whether Y comes before X among German headings: X is then the northing, as in geodetic systems."""
    plain = [plain_heading(field) for field in header]
    named = "x" in plain and "y" in plain and plain.index("y") < plain.index("x")
    return named and any(word in _NORTH_IS_X for word in plain)


def doubt_about_axes(header: list[str]) -> str:
    """Return what makes the axes of a header doubtful that names them X and Y alone; nothing where nothing does."""
    plain = [plain_heading(field) for field in header]
    if "x" not in plain or "y" not in plain:
        return ""
    if is_x_north(header):
        return "X is taken as the northing, since Y comes first among German headings"
    if plain.index("y") < plain.index("x") or any(word in _NORTH_IS_X for word in plain):
        return "X is taken as the easting; in some countries X is the northing: then state exchanged = true"
    return ""


def plain_heading(field: str) -> str:
    """Return a heading in small letters, without a unit in brackets, accents and signs.

    Examples
    --------
    >>> plain_heading("Höhe [m]")
    'hohe'
    """
    return _plain(_BRACKETS.sub(" ", field))


def heading_of(field: str) -> str:
    """Return what a heading means, empty where it is not known.

    Examples
    --------
    >>> [heading_of(text) for text in ("Northing (m)", "elev_ft", "Höhe [m ü. NHN]", "point_id", "Hz")]
    ['northing', 'height', 'height', 'number', '']
    """
    bare = _BRACKETS.sub(" ", field)
    words = [_plain(word) for word in re.split(r"[\s_\-./:]+", bare) if _plain(word)]
    if len(words) > 1 and words[-1] in _UNITS:
        words = words[:-1]
    return _MEANING.get("".join(words), "")


def unit_in_heading(field: str) -> str:
    """Return the unit that a heading states, empty where it states none.

    Examples
    --------
    >>> unit_in_heading("Northing (m)"), unit_in_heading("elev_ft"), unit_in_heading("Easting")
    ('m', 'ft', '')
    """
    inside = [_plain(text) for text in _BRACKETS.findall(field)]
    words = [_plain(word) for word in re.split(r"[\s_\-./:]+", _BRACKETS.sub(" ", field)) if _plain(word)]
    stated = [*inside, *words[1:]]
    return next((_UNITS[text] for text in stated if text in _UNITS), "")


def _plain(text: str) -> str:
    """Small letters without accents and signs."""
    apart = unicodedata.normalize("NFKD", text.casefold().replace("°", "o").replace("#", "no"))
    return "".join(ch for ch in apart if ch.isalpha() and ch.isascii())
