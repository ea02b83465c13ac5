"""Heights that come from somewhere else than the geometry: texts, attributes, texts close by."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from evrin.kernels import Flags, Floats, Indices
from evrin.survey.contents import Column

_NUMBER = re.compile(r"^[+-]?\d{1,7}([.,]\d+)?$")
_AT_ZERO = 1e-9
# So many pairs show where texts are written, and offsets that are alike differ by no more than this part of the reach.
_FEWEST_PAIRS, _MOST_OFFSETS, _ALIKE = 6, 200_000, 0.02
LEVEL_NAMES = (
    "level",
    "height",
    "elevation",
    "elev",
    "z",
    "rl",
    "h",
    "hoehe",
    "höhe",
    "alt",
    "altitude",
    "cota",
    "elevat",
)


def heights_in(texts: Column) -> Floats:
    """Return the height that each text gives, NaN where it is not a plain number.

    Examples
    --------
    >>> heights_in(np.array(["41.25", " 41,3 m", "POND", "+2"], object)).tolist()
    [41.25, 41.3, nan, 2.0]
    """
    return np.array([_height(text) for text in texts.tolist()], np.float64)


def _height(text: object) -> float:
    plain = str(text).strip().removesuffix("m").strip()
    if isinstance(text, (int, float)) or _NUMBER.match(plain):
        return float(plain.replace(",", "."))
    return float("nan")


def has_no_height(z: Floats) -> Flags:
    """Return which heights are missing or were left at zero."""
    return np.isnan(z) | (np.abs(z) <= _AT_ZERO)


def height_attribute(columns: Mapping[str, Column]) -> str:
    """Return the name of the attribute that gives a height for every row, by its name; nothing where none does.

    Examples
    --------
    >>> height_attribute({"NO": np.array(["1", "2"], object), "Height": np.array(["41.2", "41.7"], object)})
    'Height'
    """
    for key, column in columns.items():
        if key.lower() in LEVEL_NAMES:
            given = heights_in(column)
            if len(given) and np.isfinite(given).all() and not has_no_height(given).all():
                return key
    return ""


@dataclass(frozen=True)
class TextPairs:
    """Points and the texts beside them: rows of either, pair by pair, and the rows left alone."""

    points: Indices
    texts: Indices
    lone_points: Indices
    lone_texts: Indices


def pair_with_texts(points: Floats, texts: Floats, reach: float) -> TextPairs:
    """Pair points (n, 2) with texts (m, 2) no farther away than *reach*: the nearest pair first, each used once.

    Texts are usually written at one side of their points, all at one distance. Where most are, a text belongs to the
    point that it is at that side of, even where another point is nearer.
    """
    tree = scipy.spatial.cKDTree(texts) if len(texts) else None
    near: Sequence[list[int]] = tree.query_ball_point(points, reach) if tree is not None else []  # type: ignore[assignment]
    row = np.repeat(np.arange(len(near)), [len(within) for within in near])
    text = np.concatenate([np.empty(0, np.int64), *(np.array(within, np.int64) for within in near)])
    offsets = texts[text] - points[row] if len(text) else np.empty((0, 2))
    aside = _usual_offset(offsets, min(len(points), len(texts)), reach)
    distance = np.hypot(*(offsets - aside).T)
    taken_points: dict[int, int] = {}
    taken_texts: set[int] = set()
    for k in np.lexsort((text, row, distance)).tolist():
        if row[k] not in taken_points and text[k] not in taken_texts:
            taken_points[int(row[k])] = int(text[k])
            taken_texts.add(int(text[k]))
    rows = np.array(sorted(taken_points), np.int64)
    return TextPairs(
        rows,
        np.array([taken_points[k] for k in rows.tolist()], np.int64),
        np.setdiff1d(np.arange(len(points)), rows),
        np.setdiff1d(np.arange(len(texts)), sorted(taken_texts)),
    )


def _usual_offset(offsets: Floats, most: int, reach: float) -> Floats:
    """Where texts are written, seen from their points: the offset that most share; zero where they share none."""
    if not _FEWEST_PAIRS <= len(offsets) <= _MOST_OFFSETS:
        return np.zeros(2)
    alike = np.asarray(scipy.spatial.cKDTree(offsets).query_ball_point(offsets, _ALIKE * reach, return_length=True))
    best = int(np.argmax(alike))
    return offsets[best] if 2 * int(alike[best]) > most else np.zeros(2)
