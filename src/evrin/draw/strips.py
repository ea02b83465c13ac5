"""The strip of figures below a profile or a section: a row for each surface and one for where they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.named_values import Row
from evrin.base.wording import unsigned
from evrin.draw.colours import INK, PROFILES
from evrin.draw.paper import sheet_paper

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis.along.profiles import Profile
    from evrin.kernels import Floats

MOST_ROWS = 3
_LETTERS = 18


def strip_height(rows: int, size: float) -> float:
    """Return how high a strip of rows is, in inches."""
    return rows * _row(size) + 0.05


def _row(size: float) -> float:
    return 4.3 * size / 72.0


def write_strip(
    axes: Axes,
    stations: Floats,
    profiles: Sequence[tuple[str, Profile]],
    along: str,
    *,
    size: float = 7.5,
) -> None:
    """Write the heights of surfaces at stations below a drawing, and the stations themselves.

    Parameters
    ----------
    axes : Axes
        Of the drawing above.
    stations : (k,) float64
        Where heights are written.
    profiles : sequence of (str, Profile)
        By name; those beyond MOST_ROWS are left out.
    along : str
        What stations are, such as ``chainage (m)``.
    size : float
        Of letters, in points.
    """
    high = axes.get_position().height * sheet_paper().height
    step, top = _row(size) / high, 0.05 / high
    transform = axes.get_xaxis_transform()
    rows = [(name, [unsigned(z, 2) for z in ground.height(stations).tolist()]) for name, ground in profiles[:MOST_ROWS]]
    rows.append((along, [unsigned(at, 1) for at in stations.tolist()]))
    axes.set_xticks([])
    for number, (name, texts) in enumerate(rows):
        middle = -top - (number + 0.5) * step
        is_surface = number < len(rows) - 1 and len(rows) > 2
        colour = PROFILES[number % len(PROFILES)] if is_surface else INK
        shown = name if len(name) <= _LETTERS else name[: _LETTERS - 1] + "…"
        style: Row = {"ha": "right", "va": "center", "fontsize": size, "color": colour}
        # Clear of the figures at the first station.
        axes.annotate(
            shown, (0.0, middle), xycoords="axes fraction", xytext=(-size, 0.0), textcoords="offset points", **style
        )
        for at, text in zip(stations.tolist(), texts, strict=True):
            axes.text(at, middle, text, transform=transform, rotation=90, ha="center", va="center", fontsize=size)
    for number in range(len(rows) + 1):
        y = -top - number * step
        axes.plot([0, 1], [y, y], transform=axes.transAxes, color=INK, linewidth=0.6, clip_on=False)


def spaced(keys: Sequence[float], others: Sequence[float], least: float) -> Floats:
    """Return places of which no two are closer than *least*, those of *keys* before *others*, and earlier ones first.

    Examples
    --------
    >>> spaced([0.0, 10.0], [0.5, 4.0, 4.5, 9.0], 1.0).tolist()
    [0.0, 4.0, 9.0, 10.0]
    """
    kept: list[float] = []
    for at in (*keys, *others):
        if all(abs(at - other) >= least * (1.0 - 1e-9) for other in kept):
            kept.append(float(at))
    return np.array(sorted(kept))
