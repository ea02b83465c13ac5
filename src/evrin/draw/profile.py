"""A profile: the ground line, its heights and chainages in a strip below."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from evrin.draw.plan import INK, LINE, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis import Profile

_COLOURS = ("#7a4a21", "#1f5fa8", "#5b2a86", "#0b6e69")


def draw_profile(profiles: dict[str, Profile], base: float, ax: Axes | None = None) -> Axes:
    """Draw the ground along one line, a surface each.

    Parameters
    ----------
    profiles : dict of str to Profile
        By name; the first is filled down to *base*.
    base : float
        Height of the lower edge of the drawing.
    ax : Axes, optional
    """
    axes = axes_or_new(ax)
    first = next(iter(profiles.values()))
    for number, (name, profile) in enumerate(profiles.items()):
        colour = _COLOURS[number % len(_COLOURS)]
        axes.plot(profile.chainage, profile.heights, color=colour, linewidth=1.6, label=name, zorder=4 - number / 10)
        if number == 0:
            axes.fill_between(profile.chainage, profile.heights, base, color=colour, alpha=0.14, linewidth=0, zorder=1)
    for bend in first.bends[1:-1]:
        axes.axvline(float(bend), color=LINE, linewidth=0.8, linestyle=(0, (4, 3)), zorder=2)
    axes.set_ylabel("height")
    axes.grid(axis="y", color=INK, alpha=0.15, linewidth=0.6)
    axes.set_xlim(0.0, first.length)
    return axes


def label_stations(axes: Axes, profile: Profile, stations: np.ndarray, unit: str) -> None:
    """Write the chainage and ground height of stations in a strip below the drawing."""
    heights = profile.height(stations)
    lowest = axes.get_ylim()[0]
    axes.set_xticks([])
    transform = axes.get_xaxis_transform()
    for station, height in zip(stations.tolist(), heights.tolist(), strict=True):
        if np.isfinite(height):
            axes.plot([station, station], [lowest, height], color=INK, linewidth=0.4, alpha=0.45, zorder=2)
        told = f"{height:.2f}" if np.isfinite(height) else "–"
        for row, text in ((-0.075, told), (-0.19, f"{station:.1f}")):
            axes.text(station, row, text, transform=transform, rotation=90, ha="center", va="center", fontsize=7.5)
    for row, text in ((-0.075, f"ground ({unit})"), (-0.19, f"chainage ({unit})")):
        axes.text(-0.012, row, text, transform=axes.transAxes, ha="right", va="center", fontsize=8, color=INK)
    for row in (-0.018, -0.132, -0.248):
        axes.plot([0, 1], [row, row], transform=axes.transAxes, color=INK, linewidth=0.7, clip_on=False)
