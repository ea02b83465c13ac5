"""Guessing what the columns of a text without a header hold; for looking at a file, never for building from it."""

from __future__ import annotations

import numpy as np

from evrin.tin.types import Floats

_MOST_COLUMNS = 12


def guess_columns(rows: list[list[str]]) -> str:
    """Return a letter a column, as in ``PNEZD``, or nothing where three columns of coordinates cannot be found.

    Whole numbers that only rise are point numbers where three more columns of numbers follow; of those three the last
    is taken as the height, as in nearly all files; texts are codes. Of two plan coordinates after a point
    number the northing is taken to come first, otherwise the easting.

    Examples
    --------
    >>> guess_columns([["1", "2880.1", "4120.5", "41.2", "LAWN"], ["2", "2881.0", "4121.5", "41.3", "LAWN"]])
    'PNEZD'
    >>> guess_columns([["4120.5", "2880.1", "41.2"]])
    'XYZ'
    """
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
        return ""
    letters = ["-"] * width
    for k, letter in zip(coordinates, "NEZ" if numbered else "XYZ", strict=True):
        letters[k] = letter
    if numbered:
        letters[0] = "P"
    texts = [k for k in range(width) if k not in numeric and letters[k] == "-"]
    if texts:
        letters[texts[0]] = "D"
        letters = letters[: texts[0] + 1] if texts[0] > max(coordinates) else letters
    return "".join(letters)


def _numbers(texts: list[str]) -> Floats:
    return np.array([_number(text) for text in texts])


def _number(text: str) -> float:
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return float("nan")


def _counts_up(numbers: Floats) -> bool:
    known = numbers[np.isfinite(numbers)]
    return bool((known == np.round(known)).all() and (np.diff(known) > 0).all())
