"""Layers with arcs, read as lines that stray from them by no more than a chord tolerance.

The drivers turn arcs into lines themselves, by a fixed angle of four degrees unless they are told another.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from evrin.formats.door.format_registry import package
from evrin.kernels import Floats

_STEP = "OGR_ARC_STEPSIZE"
_USUAL, _FINEST = 4.0, 0.02
# Layers that may hold any shape, and those that hold arcs.
_CURVED = ("unknown", "geometry", "curve", "compound", "circular", "surface")


def read_layer(path: Path, layer: str, chord: float) -> tuple[Any, ...]:
    """Return a layer as the package reads it, arcs as lines within a chord of them."""
    raw = package("pyogrio").raw
    read: tuple[Any, ...] = raw.read(path, layer=layer)
    kind = str(read[0].get("geometry_type") or "").lower()
    if read[2] is None or not any(word in kind for word in _CURVED):
        return read
    radius = _largest_radius(read[2])
    if radius * (1.0 - np.cos(np.radians(_USUAL / 2.0))) <= chord:
        return read
    # The drivers round the number of legs, so a step is kept a little below what is needed.
    step = 0.98 * np.degrees(2.0 * np.arccos(max(1.0 - chord / radius, -1.0)))
    with _arcs_every(max(step, _FINEST)):
        again: tuple[Any, ...] = raw.read(path, layer=layer)
    return again


def _largest_radius(geometry: np.ndarray) -> float:
    """The largest radius of an arc among lines, each turned into legs of one length that bend alike."""
    shapely = package("shapely")
    shapes = shapely.from_wkb(geometry, on_invalid="ignore")
    places, owner = shapely.get_coordinates(shapes, return_index=True)
    if len(places) < 4:
        return 0.0
    leg = np.diff(places, axis=0)
    length = np.hypot(*leg.T)
    is_inside = (owner[:-3] == owner[3:]) & (length[:-2] > 0.0) & (length[1:-1] > 0.0) & (length[2:] > 0.0)
    turn = _turns(leg)
    is_even = np.isclose(length[:-2], length[1:-1], rtol=1e-6) & np.isclose(length[1:-1], length[2:], rtol=1e-6)
    is_arc = is_inside & is_even & np.isclose(turn[:-1], turn[1:], rtol=1e-4, atol=1e-9) & (np.abs(turn[:-1]) > 1e-9)
    is_arc &= np.abs(turn[:-1]) <= np.radians(_USUAL) * (1.0 + 1e-6)
    if not is_arc.any():
        return 0.0
    return float((length[1:-1][is_arc] / (2.0 * np.sin(np.abs(turn[:-1][is_arc]) / 2.0))).max())


def _turns(leg: Floats) -> Floats:
    across = leg[:-1, 0] * leg[1:, 1] - leg[:-1, 1] * leg[1:, 0]
    turns: Floats = np.arctan2(across, (leg[:-1] * leg[1:]).sum(axis=1))
    return turns


@contextmanager
def _arcs_every(degrees: float) -> Iterator[None]:
    """Let the drivers take a vertex of arcs every so many degrees."""
    pyogrio = package("pyogrio")
    before = pyogrio.get_gdal_config_option(_STEP)
    pyogrio.set_gdal_config_options({_STEP: f"{degrees:.6f}"})
    try:
        yield
    finally:
        pyogrio.set_gdal_config_options({_STEP: before})
