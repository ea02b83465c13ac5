"""Rows of the benchmark about surfaces combined, pads and balancing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

import evrin
from evrin.making import Pad, balanced, combine, pad_to_ground
from evrin.surface import Surface


def _maker(seed: int, count: int, east: float, lift: float) -> Callable[[], Surface]:
    xy = np.random.default_rng(seed).random((count, 2)) * 1000.0 + [east, 0.3 * east]
    heights = 5.0 * np.sin(xy[:, 0] / 90.0) + np.cos(xy[:, 1] / (40.0 + 10.0 * lift)) + lift
    points = np.column_stack((xy, heights))
    return lambda: evrin.triangulate(points)


def _outline(corners: int) -> np.ndarray:
    """A wavy ring, with corners that overhang."""
    angle = np.linspace(0.0, 2.0 * np.pi, corners, endpoint=False)
    away = 40.0 + 8.0 * np.sin(5.0 * angle) + 2.0 * np.sin(11.0 * angle)
    return np.column_stack((500.0 + away * np.cos(angle), 500.0 + away * np.sin(angle)))


def combining_rows(rows: Any, seconds: Callable[..., float]) -> None:
    """Add the rows; *seconds* measures one piece of work."""
    makers = _maker(1, 250_000, 0.0, 0.0), _maker(2, 250_000, 400.0, 0.3)
    both = seconds(lambda: [make() for make in makers])
    for rule in ("newer", "higher"):
        pair = [make() for make in makers]
        combine(pair, rule)
        spent = seconds(lambda rule=rule: combine([make.renamed(name="a") for make in pair], rule))  # noqa: B023
        rows.at_most(f"500,000 triangles combined with 500,000, the {rule}", (spent, both), 2)
    ground = _maker(3, 500_000, 0.0, 0.0)()
    pad = Pad.of(_outline(200), 2.0)
    pad_to_ground(ground, pad)
    rows.limit(
        "pad of 200 corners on 1 million triangles", 1000.0 * seconds(lambda: pad_to_ground(ground, pad)), 1000, "ms"
    )
    built = pad_to_ground(ground, pad).surface
    one = seconds(lambda: built.volume_above(ground))
    rows.at_most("balancing it, beside one volume", (seconds(lambda: balanced(ground, [pad])), one), 15)
