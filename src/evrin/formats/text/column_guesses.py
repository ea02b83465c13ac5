"""Guessing what the columns of a text without a header hold; for looking at a file, never for building from it."""

from __future__ import annotations

import numpy as np

from evrin.formats.text.text_numbers import number
from evrin.kernels import Floats

_MOST_COLUMNS = 12


def guess_columns(rows: list[list[str]]) -> tuple[str, str]:
    """Return a letter a column, as in ``PNEZD``, and why; nothing where three columns of
    coordinates cannot be found.

    Whole numbers that only rise are point numbers where three more columns of numbers follow; of those three the last
    is taken as the height, as in nearly all files; texts are codes. Of two plan coordinates the one with millions
    beside one with hundreds of thousands is the northing, as in transverse grids; otherwise, after a point number
    the northing is taken to come first, and the easting where there is none.

    Examples
    --------
    >>> guess_columns([["1", "2880.1", "4120.5", "41.2", "LAWN"], ["2", "2881.0", "4121.5", "41.3", "LAWN"]])[0]
    'PNEZD'
    >>> guess_columns([["7", "604120.5", "5702880.1", "41.2"], ["8", "604121.5", "5702881.0", "41.2"]])
    ('PENZ', 'northings of a transverse grid are millions, eastings hundreds of thousands')
    >>> guess_columns([["4120.5", "2880.1", "41.2"]])[0]
    'XYZ'
    """
    if not rows:
        return "", ""
    counts = [len(row) for row in rows]
    width = min(max(set(counts), key=counts.count), _MOST_COLUMNS)
    whole = [row for row in rows if len(row) >= width]
    columns = [_numbers([row[k] for row in whole]) for k in range(width)]
    numeric = [k for k, column in enumerate(columns) if np.isfinite(column).mean() > 0.8]
    numbered = len(numeric) > 3 and numeric[0] == 0 and _counts_up(columns[0])
    coordinates = numeric[1:4] if numbered else numeric[:3]
    if not numbered and numeric and numeric[0] > 0:
        numbered = all(row[0] for row in whole)
    if len(coordinates) < 3:
        return "", ""
    order, why = _order(columns[coordinates[0]], columns[coordinates[1]], numbered)
    letters = ["-"] * width
    for k, letter in zip(coordinates, order, strict=True):
        letters[k] = letter
    if numbered:
        letters[0] = "P"
    texts = [k for k in range(width) if k not in numeric and letters[k] == "-"]
    if texts:
        letters[texts[0]] = "D"
        letters = letters[: texts[0] + 1] if texts[0] > max(coordinates) else letters
    return "".join(letters), why


def _order(first: Floats, second: Floats, numbered: bool) -> tuple[str, str]:
    """Letters of three columns of coordinates, and why."""
    one, other = float(np.nanmedian(np.abs(first))), float(np.nanmedian(np.abs(second)))
    for larger, smaller, letters in ((one, other, "NEZ"), (other, one, "ENZ")):
        if larger >= 1e6 and 1e5 <= smaller < 1e6:
            return letters, "northings of a transverse grid are millions, eastings hundreds of thousands"
    if numbered:
        return "NEZ", "northing before easting, as is usual after a point number; nothing in the file proves it"
    return "XYZ", "easting before northing, as is usual without point numbers; nothing in the file proves it"


def _numbers(texts: list[str]) -> Floats:
    return np.array([number(text, True) for text in texts])


def _counts_up(numbers: Floats) -> bool:
    counted = numbers[np.isfinite(numbers)]
    return bool((counted == np.round(counted)).all() and (np.diff(counted) > 0).all())
