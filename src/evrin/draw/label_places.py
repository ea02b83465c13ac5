"""Labels beside places, as many as there is room for, the most important first."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.patheffects import withStroke

from evrin.draw.colours import INK
from evrin.draw.paper import sheet_paper

if TYPE_CHECKING:
    from collections.abc import Sequence

    from matplotlib.axes import Axes

    from evrin.kernels import Floats, Indices

_LETTER, _LINE = 0.6, 1.25
_AWAY = 5.0
# The golden ratio: multiples of it are spread most evenly between whole numbers.
_GOLDEN = (np.sqrt(5.0) - 1.0) / 2.0
_MOST = 1500


def spread(count: int) -> Indices:
    """Return numbers from 0 in an order in which each stretch of it is spread over all of them.

    Labels of things that are sorted by place are then thinned evenly where there is no room for all.

    Examples
    --------
    >>> spread(5).tolist()
    [0, 2, 4, 1, 3]
    """
    return np.argsort((np.arange(count) * _GOLDEN) % 1.0, kind="stable")


def label_places(axes: Axes, places: Floats, texts: Sequence[str], *, size: float = 6.5, **style: Any) -> int:
    """Write labels beside places, none over another or over a place; return how many found room.

    Parameters
    ----------
    axes : Axes
        Its limits and its box are final.
    places : (k, 2) float64
        The most important first.
    texts : sequence of str
        One for each place, the most important first.
    size : float
        Of letters, in points.
    **style
        Of the texts.

    Returns
    -------
    int

    Examples
    --------
    >>> from matplotlib.figure import Figure
    >>> axes = Figure(figsize=(4, 4)).add_subplot()
    >>> label_places(axes, np.array([[0.5, 0.5], [0.5, 0.5001]]), ["one", "and the other"], size=7)
    2
    """
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    box, paper = axes.get_position(), sheet_paper()
    room = np.array([box.width * paper.width, box.height * paper.height]) * 72.0
    scale = room / np.array([east - west, north - south])
    seen = (places >= (west, south)).all(axis=1) & (places <= (east, north)).all(axis=1)
    at = (places - (west, south)) * scale
    taken = np.empty((0, 4))
    written = 0
    for k in np.flatnonzero(seen).tolist()[:_MOST]:
        wide, high = _LETTER * size * len(texts[k]), _LINE * size
        for right, up in ((True, True), (True, False), (False, True), (False, False)):
            x = at[k, 0] + _AWAY if right else at[k, 0] - _AWAY - wide
            y = at[k, 1] + 0.6 * _AWAY if up else at[k, 1] - 0.6 * _AWAY - high
            row = np.array([[x, y, x + wide, y + high]])
            if x < 0.0 or y < 0.0 or x + wide > room[0] or y + high > room[1]:
                continue
            below, above = (taken[:, :2] < row[:, 2:]).all(axis=1), (taken[:, 2:] > row[:, :2]).all(axis=1)
            if (below & above).any():
                continue
            taken = np.vstack((taken, row))
            axes.annotate(
                texts[k],
                places[k],
                xytext=(_AWAY if right else -_AWAY, 0.6 * _AWAY if up else -0.6 * _AWAY),
                textcoords="offset points",
                ha="left" if right else "right",
                va="bottom" if up else "top",
                fontsize=size,
                clip_on=True,
                path_effects=[withStroke(linewidth=1.8, foreground="white", alpha=0.9)],
                **{"color": INK, "zorder": 7, **style},
            )
            written += 1
            break
    return written
