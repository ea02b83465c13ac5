"""Lines through shots that climb and fall by turns, as where the shots of two edges are joined to one line."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from evrin.kernels import Flags, Floats

_FEWEST_TURNS = 4
_FEWEST_STEEP = 3
_STEEP = 0.5
_MOST_UNLIKE = 4.0
_FOLLOWS_OFFSET = 0.9


def zigzag(xyz: Floats, offsets: Floats, codes: Sequence[str], *, least: float, leg: float) -> int | None:
    """Return the first vertex of a line from which on its heights alternate, None where they do not.

    Heights of one edge that happen to rise and fall do not count. They count where the vertices that stand out
    upwards lie on one side of the line as drawn and the others on the other, or have other codes, or where the line
    climbs steeply over legs that are short.

    Parameters
    ----------
    xyz : (k, 3) float64
        Vertices that are shots, in the order of the line.
    offsets : (k,) float64
        How far to the left of the line as drawn each lies.
    codes : sequence of str
        The code of each.
    least : float
        What a height stands out by at least.
    leg : float
        The length of a short leg.

    Returns
    -------
    int or None

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.survey.lines.zigzags import zigzag
    >>> heights = [5.0, 5.1, 5.0, 5.1, 5.0, 5.1, 5.0]
    >>> mixed = np.array([[2.0 * k, 0.0, z] for k, z in enumerate(heights)])
    >>> zigzag(mixed, np.array([0.0, 0.03] * 3 + [0.0]), [""] * 7, least=0.015, leg=0.3)
    0
    >>> zigzag(mixed, np.zeros(7), [""] * 7, least=0.015, leg=0.3) is None
    True
    """
    if len(xyz) < _FEWEST_STEEP + 1:
        return None
    length, rise = np.hypot(*np.diff(xyz[:, :2], axis=0).T), np.diff(xyz[:, 2])
    steep = np.flatnonzero((length <= leg) & (np.abs(rise) >= np.maximum(least, _STEEP * length)))
    if len(steep) >= _FEWEST_STEEP:
        return int(steep[0])
    before, after = length[:-1], length[1:]
    total = np.maximum(before + after, np.finfo(float).tiny)
    out = xyz[1:-1, 2] - (xyz[:-2, 2] * after + xyz[2:, 2] * before) / total
    for first, last in _runs(out, least):
        rows = np.arange(first + 1, last + 1)
        if _is_of_two_edges(out[first:last], offsets[rows], [codes[row] for row in rows.tolist()]):
            return first
    return None


def _runs(out: Floats, least: float) -> list[tuple[int, int]]:
    """Stretches over which heights stand out upwards and downwards by turns, by amounts that are alike."""
    turns: Flags = (out[:-1] * out[1:] < 0.0) & (np.minimum(np.abs(out[:-1]), np.abs(out[1:])) >= least)
    turns &= np.maximum(np.abs(out[:-1]), np.abs(out[1:])) <= _MOST_UNLIKE * np.minimum(
        np.abs(out[:-1]), np.abs(out[1:])
    )
    edges = np.flatnonzero(np.diff(np.concatenate(([False], turns, [False])).astype(np.int8)))
    starts, ends = edges[::2].tolist(), edges[1::2].tolist()
    return [(start, end + 1) for start, end in zip(starts, ends, strict=True) if end + 1 - start >= _FEWEST_TURNS]


def _is_of_two_edges(out: Floats, offsets: Floats, codes: list[str]) -> bool:
    up = out > 0.0
    high, low = (
        {c for c, is_up in zip(codes, up, strict=True) if is_up},
        {c for c, is_up in zip(codes, up, strict=True) if not is_up},
    )
    if not high & low:
        return True
    if np.ptp(offsets) <= 0.0:
        return False
    return bool(abs(np.corrcoef(out, offsets)[0, 1]) >= _FOLLOWS_OFFSET)
