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
    """Pair points (n, 2) with texts (m, 2) no farther away than *reach*: the nearest pair first, each used once."""
    tree = scipy.spatial.cKDTree(texts) if len(texts) else None
    candidates: list[tuple[float, int, int]] = []
    if tree is not None:
        near: Sequence[list[int]] = tree.query_ball_point(points, reach)  # type: ignore[assignment]
        for row, within in enumerate(near):
            candidates += [(float(np.hypot(*(points[row] - texts[k]))), row, k) for k in within]
    taken_points: dict[int, int] = {}
    taken_texts: set[int] = set()
    for _, row, text in sorted(candidates):
        if row not in taken_points and text not in taken_texts:
            taken_points[row] = text
            taken_texts.add(text)
    rows = np.array(sorted(taken_points), np.int64)
    return TextPairs(
        rows,
        np.array([taken_points[row] for row in rows.tolist()], np.int64),
        np.setdiff1d(np.arange(len(points)), rows),
        np.setdiff1d(np.arange(len(texts)), sorted(taken_texts)),
    )
