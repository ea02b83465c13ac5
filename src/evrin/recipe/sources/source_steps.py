"""A finished surface with steps as a source: which of two heights is used at one place."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.base.errors import DataError
from evrin.base.tolerances import HEIGHTS_AGREE
from evrin.base.wording import counted
from evrin.surface.surface import Surface
from evrin.surface.validity.covering_sheets import closes_no_step
from evrin.tin.exact.curve_order import distinct_places

_CHOSEN = {"higher": np.maximum, "lower": np.minimum}


def without_loose_faces(surface: Surface) -> Surface:
    """Return a surface without upright faces that close no step, such as a skirt; all its vertices stay."""
    kept = ~closes_no_step(surface)
    if kept.all():
        return surface
    return replace(surface, triangles=surface.triangles[kept], edge_lines=surface.edge_lines[kept])


def with_steps_closed(file: str, surface: Surface, at_steps: str) -> tuple[Surface, list[str]]:
    """Return a surface with one height at each place, and a note on what was closed; itself where it has no step.

    Raises
    ------
    DataError
        Where a step is higher than careful measurements differ, and nothing is stated about it.
    """
    used = np.unique(surface.triangles)
    xy = np.ascontiguousarray(surface.vertices[used, :2])
    order, starts = distinct_places(xy)
    if len(starts) - 1 == len(xy):
        return surface, []
    z = surface.vertices[used[order], 2]
    low, high = np.minimum.reduceat(z, starts[:-1]), np.maximum.reduceat(z, starts[:-1])
    rise = high - low
    worst = int(np.argmax(rise))
    if not at_steps and rise[worst] > HEIGHTS_AGREE.in_units(surface.units):
        x, y = xy[order[starts[worst]]].tolist()
        raise DataError(
            f"{file}: {surface.name} has steps, up to {rise[worst]:.3f} {surface.units} at {x:.3f}, {y:.3f}; a recipe "
            'holds one height at a place. State at_steps = "higher", "lower" or "mean" for the source; or build each '
            "part in a recipe of its own and bring them together with [[combine]], which keeps steps"
        )
    meant = _CHOSEN[at_steps].reduceat(z, starts[:-1]) if at_steps in _CHOSEN else (low + high) / 2.0
    vertices = surface.vertices.copy()
    vertices[used[order], 2] = np.repeat(meant, np.diff(starts))
    which = at_steps or "mean"
    places = counted(int((rise > 0.0).sum()), "place")
    note = f"steps at {places} closed at the {which} height, the largest of {rise[worst]:.3f} {surface.units}"
    return replace(surface, vertices=vertices), [note] if rise[worst] > 0.0 else []
