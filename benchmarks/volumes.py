"""Rows of the benchmark about volumes, each beside triangulating both surfaces, or beside one volume."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

import evrin
from evrin.demo import ground
from evrin.demo.earthworks import HEAP_PLACE
from evrin.making.limits.limit_cells import layer_of
from evrin.surface import Surface
from evrin.tin.overlay.meshes_between import between
from evrin.tin.overlay.overlay_mesh import overlay_mesh


def _pair_of(count: int) -> tuple[Callable[[], Surface], Callable[[], Surface]]:
    """Two ways to make surfaces of so many points each, over the same ground."""

    def maker(seed: int, lift: float) -> Callable[[], Surface]:
        xy = np.random.default_rng(seed).random((count, 2)) * 1000.0
        heights = 5.0 * np.sin(xy[:, 0] / 90.0) + np.cos(xy[:, 1] / (40.0 + lift)) + lift
        points = np.column_stack((xy, heights))
        return lambda: evrin.triangulate(points)

    return maker(1, 0.0), maker(2, 0.1)


def _layers(surfaces: list[Surface]) -> list[Any]:
    return [layer_of(surface, np.zeros(2)) for surface in surfaces]


def volume_rows(rows: Any, seconds: Callable[..., float]) -> None:
    """Add the rows; *seconds* measures one piece of work."""
    makers = _pair_of(250_000)
    layers = _layers([make() for make in makers])
    both = seconds(lambda: [make() for make in makers])
    totals = seconds(lambda: between(*layers))
    rows.at_most("exact volume, 500,000 against 500,000 triangles", (totals, both), 1)
    rows.at_most("the overlay as a mesh, beside triangulating both", (seconds(lambda: overlay_mesh(*layers)), both), 4)
    small, large = (_layers([make() for make in _pair_of(count)]) for count in (500_000, 2_000_000))
    growth = (seconds(lambda: between(*large), 2), seconds(lambda: between(*small), 2))
    rows.at_most("4 million against 1 million triangles", growth, 4.6)
    surface = _pair_of(500_000)[0]()
    curve, levels = surface.level_volumes(), np.linspace(-5.0, 5.0, 1000)
    one = seconds(lambda: between(*small), 2)
    rows.at_most(
        "1,000 levels of 1 million triangles, beside one volume", (seconds(lambda: curve.area_below(levels)), one), 3
    )
    rng = np.random.default_rng(3)
    x, y = rng.uniform(4070, 4122, 200_000), rng.uniform(2876, 2916, 200_000)
    points = np.column_stack((x, y, ground.true_height(x, y) + rng.normal(0.0, 0.02, len(x))))
    cloud = evrin.triangulate(points)
    cloud.heap_volume(HEAP_PLACE)
    rows.limit(
        "a heap of 200,000 points, all four bases", 1000.0 * seconds(lambda: cloud.heap_volume(HEAP_PLACE)), 2000, "ms"
    )
