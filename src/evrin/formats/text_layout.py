"""How delimited text is laid out: its delimiter, its header, and what columns are called."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from evrin.errors import DataError

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
HEADINGS = {
    "number": ("number", "point", "pt", "p", "no", "id", "shot", "pointnumber", "pointno"),
    "northing": ("northing", "north", "n", "y"),
    "easting": ("easting", "east", "e", "x"),
    "height": ("height", "elevation", "elev", "z", "h", "level", "rl"),
    "code": ("code", "description", "desc", "d", "feature"),
    "line": ("line", "string", "name", "linename", "l", "ring"),
}
DELIMITERS = {"\t": "tab", ";": "semicolon", ",": "comma", " ": "spaces"}


def guess_delimiter(sample: list[str]) -> str:
    """Return what divides the fields of most lines."""
    even = []
    for delimiter in ("\t", ";", ","):
        counts = Counter(line.count(delimiter) for line in sample)
        count, lines = counts.most_common(1)[0]
        if count >= 1 and lines * 2 > len(sample):
            even.append(delimiter)
    if even:
        # Where codes hold another delimiter in every row, the one between the numbers counts.
        return max(even, key=lambda delimiter: _known_fields(sample, delimiter))
    return max(("\t", ";", ","), key=lambda d: sum(d in line for line in sample)) if _separated(sample) else " "


def _known_fields(sample: list[str], delimiter: str) -> int:
    """How many fields are numbers, or headings that are known."""
    rows = [line.split(delimiter) for line in sample]
    return sum(is_number(field, True) for row in rows for field in row) + sum(map(bool, map(heading_of, rows[0])))


def _separated(sample: list[str]) -> bool:
    return sum(any(d in line for d in "\t;,") for line in sample) * 2 > len(sample)


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


def header_names(header: list[str]) -> list[str]:
    """What each column holds; an unknown or repeated one is an attribute under its own name."""
    names: list[str] = []
    for field in header:
        meaning = heading_of(field)
        own = field.strip().strip('"')
        name = meaning if meaning and meaning not in names else own
        names.append("" if name in names or (name in HEADINGS and name != meaning) else name)
    return names


def heading_of(field: str) -> str:
    """Return what a heading means, empty where it is not known."""
    plain = "".join(ch for ch in field.lower() if ch.isalpha())
    return next((name for name, words in HEADINGS.items() if plain in words), "")


def is_number(field: str, decimal_comma: bool) -> bool:
    """Whether a field is a number."""
    try:
        float(field.replace(",", ".") if decimal_comma else field)
    except ValueError:
        return False
    return True
