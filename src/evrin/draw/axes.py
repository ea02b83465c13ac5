"""Axes to draw on."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def axes_or_new(ax: Axes | None) -> Axes:
    """Return the axes given, or new ones on the current figure."""
    if ax is not None:
        return ax
    import matplotlib.pyplot as plt

    return plt.subplots()[1]
